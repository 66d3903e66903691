"""Crosstalk between channels."""
