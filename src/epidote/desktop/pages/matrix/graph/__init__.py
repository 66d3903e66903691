"""The graph of the Matrix page."""
