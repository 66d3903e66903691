"""Epidote: measure audio devices, know what each number is worth, and compare them."""

__version__ = "0.1.0"
