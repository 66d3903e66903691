"""How sure a line's amplitude and a band's power are in noise that is not white (methods.md, “Honest spreads in coloured noise”).

Noise counts where it acts: about each line, and bin by bin in a sum. Powers are mean squares per bin.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from epidote.core.signal import Samples

_REACH = 40  # bins to either side of a line
_BESIDE_FUNDAMENTAL, _BESIDE_HARMONIC = 4.0, 1.5  # bins that the fit emptied
_KEPT = 0.8  # the lower share of them: a line nearby is no noise
# the mean of the lower 80 % of exponentially distributed powers, over the mean of all
_LOWER_MEAN = (1 - 0.2 * (1 - math.log(0.2))) / 0.8
_A_LINE = 12.0  # times the local level: no noise
_LOCAL = 16  # bins of the running level: several times what a line takes without a window


def line_spreads(residual: NDArray[np.complex128], frames: int, places: Sequence[float]) -> Samples:
    """Standard deviation of the peak amplitude of each fitted line (lines,), from what the fit left about it.

    residual: rfft of the fit's residual, without a window, since the fit has none: what leaks to a line from elsewhere acts on it as well;
    places: of the fundamental and its harmonics, in bins. The variance of a fitted peak amplitude is the noise's mean square per bin (Rife,
    Boorstyn 1974, with the local level in place of sigma²).
    """
    taken = np.zeros(residual.size, bool)
    for number, place in enumerate(places):
        beside = _BESIDE_FUNDAMENTAL if number == 0 else _BESIDE_HARMONIC
        taken[max(0, math.ceil(place - beside)) : math.floor(place + beside) + 1] = True
    found = np.zeros(len(places))
    for number, place in enumerate(places):
        low, high = max(1, round(place) - _REACH), min(residual.size, round(place) + _REACH + 1)
        around = np.square(np.abs(residual[low:high][~taken[low:high]])) * (2 / frames**2)
        found[number] = math.sqrt(lower_mean(around)) if around.size else 0.0
    return found


def lower_mean(powers: Samples) -> float:
    """The level of noise from the powers of its bins, those of lines left out: the mean of the lower four fifths, brought to that of all."""
    kept = np.partition(powers, max(0, int(_KEPT * powers.size) - 1))[: max(1, int(_KEPT * powers.size))]
    return float(kept.mean()) / _LOWER_MEAN


def power_variance(weighted: Samples) -> float:
    """Variance of the sum of the powers of noise bins (bins,), weighted, without a window: each is as unsure as it is high.

    Of a bin's power P the square is on average twice the square of its mean. What stands far above its surroundings is a line, whose power
    is known better: to twice itself times the noise under it.
    """
    if weighted.size == 0:
        return 0.0
    local = running_level(weighted)
    lines = weighted > _A_LINE * local
    noise = np.where(lines, np.sqrt(2) * local, weighted)
    return float(np.square(noise).sum()) / 2 + 2 * float((weighted[lines] * local[lines]).sum())


def running_level(powers: Samples) -> Samples:
    """Mean level about each bin by the median of blocks, which a line in them does not raise; of two blocks that overlap, the higher, so that
    the edge of a band of noise is not taken for a line."""
    size = min(_LOCAL, powers.size)

    def of_blocks(begin: int) -> Samples:
        count = max(1, (powers.size - begin) // size)
        blocks = np.median(powers[begin : begin + count * size].reshape(count, -1), axis=1) / math.log(2)
        index = np.clip((np.arange(powers.size) - begin) // size, 0, count - 1)
        return np.asarray(blocks[index])

    return np.maximum(of_blocks(0), of_blocks(size // 2)) if powers.size >= 2 * size else of_blocks(0)
