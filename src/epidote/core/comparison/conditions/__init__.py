"""Conditions: whether two runs can be compared, and readings as a function of a condition."""
