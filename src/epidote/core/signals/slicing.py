"""Slices of signals."""

from __future__ import annotations

import numpy as np

from epidote.core.signals.signal import Samples


def zero_padded_slice(x: Samples, first: int, frames: int) -> Samples:
    """``frames`` of x from ``first`` on, with zeros where x is not."""
    out = np.zeros(frames)
    low, high = max(0, first), min(x.size, first + frames)
    if high > low:
        out[low - first : high - first] = x[low:high]
    return out
