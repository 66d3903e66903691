"""Phrases that several panels use."""

from __future__ import annotations

LOADING = "Loading…"  # of whatever is read or computed and will be shown here


def duration_words(seconds: float) -> str:
    """Return a duration in words, in s or min."""
    if seconds < 60:
        if seconds < 10:
            return f"About {seconds:.1f} s"
        return f"About {seconds:.0f} s"
    return f"About {int(seconds // 60)} min {seconds % 60:02.0f} s"
