"""Sentences made from what comparisons find; the only place below the front ends that writes them."""
