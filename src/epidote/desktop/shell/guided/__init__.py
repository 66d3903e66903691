"""The first measurement, step by step, beside the pages that it leads through."""
