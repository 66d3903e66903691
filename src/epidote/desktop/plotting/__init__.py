"""Plots: figures as data, and the widgets that paint them."""
