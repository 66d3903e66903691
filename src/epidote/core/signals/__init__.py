"""Signals: samples, stimuli as data, recordings, transforms."""
