"""The Routine page: one pass over a unit after the other, and statistics over units."""
