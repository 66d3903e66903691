"""The side panels of the Matrix page."""
