"""Comparing results: differences of curves and readings, and what differs besides the thing under study."""
