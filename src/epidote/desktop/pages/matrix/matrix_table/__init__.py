"""The table of the Matrix page."""
