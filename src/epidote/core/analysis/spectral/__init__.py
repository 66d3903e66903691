"""Spectra: windows, weighting, fractional octaves, smoothing, transfer functions."""
