"""Frequency response, by a sweep or by a transfer function."""
