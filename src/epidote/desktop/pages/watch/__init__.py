"""The Watch page."""
