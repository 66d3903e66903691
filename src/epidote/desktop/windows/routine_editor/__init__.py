"""The window in which a routine is edited."""
