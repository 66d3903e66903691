"""Graphs painted by the project itself: one description of a figure, painted alike on screen, into PNG and into SVG."""
