"""Sounds from elsewhere in a recording of stationary noise: speech, a door, a passing lorry.

The level of short blocks of stationary noise scatters little and evenly; a block far above the others holds something
else. Blocks are judged as they are and by their differences, so that a slam and a sibilant are both found.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals.signal import Samples

_BLOCK = 0.125  # s
_LEAST_BLOCKS = 16
_SCATTERS = 7.0  # times the blocks' own scatter
_LEAST_DB = 1.5
_MOST_SHARE = 0.3  # of the recording that may be left out
_MARGIN = 1  # blocks on either side of a disturbance that are left out, too
_FADE = 0.01  # s, over which what is left is joined


@dataclass(frozen=True)
class Disturbance:
    """From when to when in s, and by how many dB the block that stands out most does."""

    begin: float
    end: float
    above_db: float


def find_disturbances(x: Samples, rate: float) -> tuple[Disturbance, ...]:
    """Return the stretches of stationary noise x (frames,) in which something else sounds, in their order."""
    block = round(_BLOCK * rate)
    count = x.size // block
    if count < _LEAST_BLOCKS:
        return ()
    above = np.zeros(count)
    for powers in _block_powers(x, block, count):
        levels = 10 * np.log10(np.maximum(powers, 1e-30))
        middle = float(np.median(levels))
        scatter = float(np.median(np.abs(levels - middle))) / NORMAL_MEDIAN
        excess = levels - middle - max(_LEAST_DB, _SCATTERS * scatter)
        above = np.maximum(above, np.where(excess > 0, levels - middle, 0.0))
    return tuple(_runs(above, block / rate))


def _block_powers(x: Samples, block: int, count: int) -> tuple[Samples, Samples]:
    """Return the mean squares of blocks (count,) of x, and of its differences, which weigh high frequencies more."""
    plain, differences = np.empty(count), np.empty(count)
    for number in range(count):  # block by block it stays in the processor's cache
        part = x[number * block : (number + 1) * block]
        plain[number] = part @ part
        change = np.diff(part)
        differences[number] = change @ change
    return plain / block, differences / block


def _runs(above: Samples, seconds: float) -> list[Disturbance]:
    """Return runs of blocks with something above, two blocks apart at most, as stretches with a margin."""
    found: list[Disturbance] = []
    for number in np.flatnonzero(above > 0).tolist():
        begin, end = max(0, number - _MARGIN) * seconds, min(above.size, number + 1 + _MARGIN) * seconds
        if found and begin <= found[-1].end:
            last = found.pop()
            found.append(Disturbance(last.begin, end, max(last.above_db, float(above[number]))))
        else:
            found.append(Disturbance(begin, end, float(above[number])))
    return found


def without(x: Samples, rate: float, disturbances: tuple[Disturbance, ...]) -> Samples | None:
    """Return x (frames,) without these stretches, what is left joined by crossfades; None where too little would be
    left.
    """
    if not disturbances:
        return x
    lost = sum(d.end - d.begin for d in disturbances)
    if lost > _MOST_SHARE * x.size / rate:
        return None
    edges = [0, *(round(e * rate) for d in disturbances for e in (d.begin, d.end)), x.size]
    parts = [x[a:b] for a, b in zip(edges[::2], edges[1::2], strict=True) if b > a]
    fade = round(_FADE * rate)
    # of noises that know nothing of each other the powers add: sine and cosine keep them
    rise = np.sin(np.pi / 2 * (np.arange(fade) + 0.5) / fade)
    joined = parts[0]
    for part in parts[1:]:
        if min(part.size, joined.size) <= fade:
            continue
        over = joined[-fade:] * rise[::-1] + part[:fade] * rise
        joined = np.concatenate([joined[:-fade], over, part[fade:]])
    return joined
