"""The Conditions panel."""
