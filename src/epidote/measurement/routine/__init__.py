"""Routines carried out: one pass over a unit, its verdict, and what is kept of it."""
