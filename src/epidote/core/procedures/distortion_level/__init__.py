"""Distortion as a function of level."""
