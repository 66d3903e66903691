"""The Chain page."""
