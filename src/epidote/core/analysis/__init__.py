"""Estimators: each file holds one idea, with the source of its formulas."""
