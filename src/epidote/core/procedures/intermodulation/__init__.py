"""Distortion products of two tones."""
