"""Distortion as a function of frequency."""
