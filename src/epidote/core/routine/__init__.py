"""Routines: steps, limits and verdicts of one pass over a unit."""
