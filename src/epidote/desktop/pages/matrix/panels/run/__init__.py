"""The Measure panel."""
