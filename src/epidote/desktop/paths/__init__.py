"""Paths by hand: a stretch picked on a waveform, two paths laid over each other, latencies side by side."""
