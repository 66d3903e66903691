"""Measuring and analysing without a window: for scripts, production lines and checks."""
