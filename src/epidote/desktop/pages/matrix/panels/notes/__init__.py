"""The Notes panel."""
