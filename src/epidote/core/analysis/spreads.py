"""How sure a line's amplitude and a band's power are in noise that is not white (methods.md, “Honest spreads in
coloured noise”).

Noise counts where it acts: about each line, and bin by bin in a sum. Powers are mean squares per bin.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.spectral.windows import CosineWindow
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.signals.signal import Samples

FloatOrSamples = TypeVar("FloatOrSamples", float, Samples)
_REACH = 40  # bins to either side of a line
_BESIDE_FUNDAMENTAL, _BESIDE_HARMONIC = 4.0, 1.5  # bins that the fit emptied
_KEPT = 0.8  # the lower share of them: a line nearby is no noise
# the mean of the lower 80 % of exponentially distributed powers, over the mean of all
_LOWER_MEAN = (1 - 0.2 * (1 - math.log(0.2))) / 0.8
_SUSPECT = 6.0  # times the mean of its block
_A_LINE = 12.0  # times the local level: no noise
_BLOCK = 16  # bins: several times what a line takes without a window
WINDOWED_BLOCK = 32  # the same where a window has widened it to fifteen
_WIDEST = {_BLOCK: 5, WINDOWED_BLOCK: 14}  # bins of a block that a line may take


def line_spreads(residual: NDArray[np.complex128], frames: int, places: Sequence[float]) -> Samples:
    """Return the standard deviation of the peak amplitude of each fitted line (lines,), from what the fit left about
    it.

    residual: rfft of the fit's residual, without a window, since the fit has none: what leaks to a line from elsewhere
    acts on it as well; places: of the fundamental and its harmonics, in bins. The variance of a fitted peak amplitude
    is the noise's mean square per bin (Rife, Boorstyn 1974, with the local level in place of sigma²).
    """
    # bins that the fit emptied say nothing about the noise
    excluded = np.zeros(residual.size, bool)
    for number, place in enumerate(places):
        if number == 0:
            neighbours = _BESIDE_FUNDAMENTAL
        else:
            neighbours = _BESIDE_HARMONIC
        excluded[max(0, math.ceil(place - neighbours)) : math.floor(place + neighbours) + 1] = True
    spreads = np.zeros(len(places))
    for number, place in enumerate(places):
        low, high = max(1, round(place) - _REACH), min(residual.size, round(place) + _REACH + 1)
        # mean square per bin about the line
        around = np.square(np.abs(residual[low:high][~excluded[low:high]])) * (2 / frames**2)
        if around.size:
            spreads[number] = math.sqrt(lower_mean(around))
        else:
            spreads[number] = 0.0
    return spreads


def lower_mean(powers: Samples) -> float:
    """Return the level of noise from the powers of its bins, those of lines left out: the mean of the lower four
    fifths, brought to that of all.
    """
    lowest = np.partition(powers, max(0, int(_KEPT * powers.size) - 1))[: max(1, int(_KEPT * powers.size))]
    return float(lowest.mean()) / _LOWER_MEAN


def power_variance(weighted: Samples, block: int = _BLOCK, *, lines: bool = True) -> float:
    """Variance of the sum of the powers of noise bins (bins,), weighted, without a window: each is as unsure as it
    is high.

    Of a bin's power P the square is on average twice the square of its mean. What stands far above its surroundings is
    a line, whose power is known better: to twice itself times the noise under it. ``block``: bins in which surroundings
    are looked at, several times as many as a line takes; ``lines``: whether the lines' own part counts, or the noise's
    alone.
    """
    # half the sum of squares: E[P²] = 2 E[P]² for the power of a noise bin
    plain = float(weighted @ weighted) / 2
    count = weighted.size // block
    if count < 2:
        return plain
    # a line's power varies less than that of noise: such bins are counted anew
    blocks = weighted[: count * block].reshape(count, block)
    # few blocks can hold a line at all: only there is the local level looked for
    suspect = np.flatnonzero(blocks.max(axis=1) > _SUSPECT * blocks.mean(axis=1))
    powers, local = blocks[suspect], _levels_about(weighted, suspect * block, block)[:, None]
    # of a line of power P on noise n: n² + 2 P n, instead of P²/2
    corrected = local**2 + 2 * powers * local * lines - powers**2 / 2
    above = powers > _A_LINE * local
    above[np.count_nonzero(above, axis=1) > _WIDEST[block]] = False  # a narrow band of noise
    return max(plain + float(corrected[above].sum()), 0.0)


def power_spread_db(variance: float, power: float) -> float:
    """Return the standard deviation in dB of the level of a power > 0 with that variance."""
    return DB_PER_NEPER / 2 * math.sqrt(variance) / power


def line_power_variance(own: FloatOrSamples, under: FloatOrSamples, window: CosineWindow) -> FloatOrSamples:
    """Variance of the power of a line that was read with a window: of the line and the noise of one bin, which the
    window widens.

    own: the line's power; under: that of the noise in all bins of its main lobe.
    """
    of_one_bin = under / (2 * window.half_width + 1) * window.enbw
    return (2 * own + under) * of_one_bin


def median_spread(of_one: float, count: int) -> float:
    """Return the standard deviation of the median of so many values: sqrt(pi/2) times that of a mean for many, and as
    much for two.
    """
    return of_one * math.sqrt(math.pi / 2 / (count + math.pi / 2 - 1))


def windowed_band_spread(weighted: Samples, crowding: float, *, lines: bool = True) -> float:
    """Return the standard deviation in dB of the level of a band from the powers of its bins (bins,), weighted, read
    with a window; 0 of silence.

        ``crowding``: of the window, by which its bins share their noise; ``lines``: whether those belong to the level.
    """
    if lines:
        total = float(weighted.sum())
    else:
        total = _without_lines(weighted, WINDOWED_BLOCK)
    variance = crowding * power_variance(weighted, WINDOWED_BLOCK, lines=lines)
    if total > 0:
        return power_spread_db(variance, total)
    return 0.0


def _without_lines(powers: Samples, block: int) -> float:
    """Return the sum of noise bins, those of lines counted as their surroundings are."""
    count = powers.size // block
    if count < 2:
        return float(powers.sum())
    begins = np.arange(count) * block
    local = _levels_about(powers, begins, block)[:, None]
    blocks = powers[: count * block].reshape(count, block)
    without_lines = np.where(blocks > _A_LINE * local, local, blocks)
    return float(without_lines.sum() + powers[count * block :].sum())


def _levels_about(powers: Samples, begins: NDArray[np.int64], block: int) -> Samples:
    """Mean level of blocks by their median, which a line in them does not raise; of those that overlap one the highest,
    so that the edge of a band of noise is not taken for a line.
    """
    # each block, and those half a block to either side
    shifted = begins[:, None] + np.array([-block // 2, 0, block // 2])
    index = np.clip(shifted, 0, powers.size - block)[:, :, None] + np.arange(block)
    medians = np.median(powers[index], axis=2)
    return np.asarray(medians.max(axis=1) / math.log(2))
