"""Lengths whose transforms are quick."""

from __future__ import annotations

from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples


def trim_to_fast_length(x: Samples) -> Samples:
    """Return the beginning of x (frames,) that transforms quickly and is even in length."""
    return x[: 2 * transforms.prev_fast_len(x.size // 2, real=True)]


def even_fast_len(frames: int) -> int:
    """Return the least even length from ``frames`` on that transforms quickly.

    An odd fast length plus one may be a slow one.
    """
    return int(2 * transforms.next_fast_len(-(-frames // 2), real=True))
