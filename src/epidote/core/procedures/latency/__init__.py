"""Round-trip latency."""
