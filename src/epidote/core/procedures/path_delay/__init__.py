"""Delay and comparison of signal paths."""
