"""Results: readings, curves, cautions, and features of curves."""
