"""The Matrix page."""
