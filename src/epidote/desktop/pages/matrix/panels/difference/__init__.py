"""The Difference panel."""
