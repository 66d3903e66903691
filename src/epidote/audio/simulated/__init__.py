"""The simulated sound interface."""
