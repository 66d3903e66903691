"""Gain and channel balance."""
