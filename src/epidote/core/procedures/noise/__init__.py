"""Noise without a signal, and the ratios that refer to it."""
