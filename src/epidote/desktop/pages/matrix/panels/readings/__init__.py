"""The Readings panel."""
