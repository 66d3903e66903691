"""Fractional-octave smoothing: the mean power over a constant ratio of frequencies round each point."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from epidote.core.settings import LabelledEnum
from epidote.core.signals.signal import Samples, as_readonly


class Smoothing(LabelledEnum):
    """Width of smoothing in octaves."""

    NONE = "none"
    OCTAVE = "1/1", "1/1 octave"
    HALF = "1/2", "1/2 octave"
    THIRD = "1/3", "1/3 octave"
    SIXTH = "1/6", "1/6 octave"
    TWELFTH = "1/12", "1/12 octave"
    TWENTYFOURTH = "1/24", "1/24 octave"
    FORTYEIGHTH = "1/48", "1/48 octave"

    @property
    def octaves(self) -> float:
        if self is Smoothing.NONE:
            return 0.0
        return 1 / int(self.value.split("/")[1])


def smoothed_power(
    power: Samples, bin_width: float, frequencies: Samples, smoothing: Smoothing, *, low: float, high: float
) -> Samples:
    """Mean of ``power`` (bins from 0 Hz) over the smoothing's width round each frequency (points,), within
    low...high Hz only.

    Edges count by the share of a bin inside; a point nearer to an edge of the band than half the width takes what there
    is.
    """
    bins = frequencies / bin_width
    if smoothing is Smoothing.NONE:
        return np.asarray(power[np.round(bins).astype(int)])
    half = 2 ** (smoothing.octaves / 2)
    # running sum over the bins: the mean over any stretch is a difference of two of its values
    cumulative = np.concatenate([[0.0], np.cumsum(power)])
    edges = np.arange(cumulative.size) - 0.5
    # edges of the stretch round each point, in bins, within the band
    lower = np.maximum(bins / half, max(low / bin_width - 0.5, 0.0))
    upper = np.minimum(bins * half, min(high / bin_width + 0.5, power.size - 0.5))
    # where the octave fraction is narrower than a bin, the bin itself
    narrow = upper - lower < 1
    lower, upper = np.where(narrow, bins - 0.5, lower), np.where(narrow, bins + 0.5, upper)
    return np.asarray((np.interp(upper, edges, cumulative) - np.interp(lower, edges, cumulative)) / (upper - lower))


@lru_cache(maxsize=32)
def log_bins(size: int, bin_width: float, low: float, high: float, per_octave: int = 96) -> Samples:
    """Bin numbers (points,), locked, between two frequencies, each used once, at most ``per_octave`` per octave:
    every point is a true bin.
    """
    first, last = max(1, int(np.ceil(low / bin_width - 1e-9))), min(size - 1, int(np.floor(high / bin_width + 1e-9)))
    if last <= first:
        return as_readonly(np.arange(first, last + 1))
    count = int(np.ceil(np.log2(last / first) * per_octave)) + 1
    return as_readonly(np.unique(np.round(np.geomspace(first, last, count))))
