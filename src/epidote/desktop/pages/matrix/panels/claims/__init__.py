"""The Claims panel."""
