"""Where something begins suddenly: clicks, hits, plosives."""

from __future__ import annotations

import math

import numpy as np

from epidote.core.analysis.ways import Survey, Way, survey

_TIMES = 7.0  # the noise's standard deviation: in an hour of white noise nothing reaches it
_AROUND = 11  # blocks
_BEFORE, _OVER = 0.02, 6.0  # s; times what was usual there
_APART = 0.05  # s in which one event is one


def transients(way: Way, seen: Survey | None = None) -> list[int]:
    """Frames at which a transient begins, 50 ms apart or more; ``seen`` where the way was looked through already.

    A sample counts when it stands seven times above the usual size of its surroundings, found as the median of half a second (Donoho's robust
    standard deviation, median over 0.6745), and above a tenth of the greatest; and, to begin one, as far above the 20 ms before it: the last
    of a sound that ends is none.
    """
    from scipy.ndimage import median_filter

    seen = seen or survey(way)
    if seen.peak == 0:
        return []
    local = median_filter(seen.usual, _AROUND, mode="nearest") / 0.6745
    # before a hit there may be silence, and the noise of the converter is no event
    threshold = np.maximum(_TIMES * local, 0.1 * seen.peak)
    found: list[int] = []
    last = -math.inf
    count = seen.usual.size
    for number in np.flatnonzero(seen.greatest > threshold):
        first = int(number) * seen.block
        frames = way.frames - first if number == count - 1 else seen.block
        for place in first + np.flatnonzero(np.abs(way.read(first, frames) - seen.mean) > threshold[number]):
            if place - last > _APART * way.rate and _begins(way, int(place), seen.mean):
                found.append(int(place))
            last = int(place)
    return found


def _begins(way: Way, place: int, mean: float) -> bool:
    """Whether what stands at ``place`` was not there a moment before."""
    frames = min(place, max(1, round(_BEFORE * way.rate)))
    if frames == 0:
        return True
    before = np.abs(way.read(place - frames, frames) - mean)
    return abs(float(way.read(place, 1)[0]) - mean) > _OVER * float(np.median(before)) / 0.6745
