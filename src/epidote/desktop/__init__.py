"""The window: it knows the study and the measurement service, and computes nothing."""
