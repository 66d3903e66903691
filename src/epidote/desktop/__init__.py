"""The window: it knows the study and the conductor, and computes nothing."""
