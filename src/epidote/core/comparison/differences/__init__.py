"""Differences of two curves."""
