"""What stands beside the graph: differences, conditions, claims, notes."""
