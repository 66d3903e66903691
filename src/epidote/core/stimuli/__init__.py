"""Stimuli: one module for each kind; `every` registers all of them."""
