"""How a value goes with time or with another value: straight lines, correlations, the normal plot, histograms."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.special import ndtri, stdtrit

from epidote.core.signals.signal import Samples

_NORMAL_95 = 1.959963984540054
_MOST_BINS, _LEAST_BINS = 60, 5


@dataclass(frozen=True)
class Drift:
    """per_day: slope in the value's unit per day; interval: half width of its 95 % interval. middle: mean time in days;
    level: the line's value there; level_interval: half width of its 95 % interval.
    """

    per_day: float
    interval: float
    middle: float
    level: float
    level_interval: float

    @property
    def significant(self) -> bool:
        return abs(self.per_day) > self.interval

    def line(self, days: Samples) -> tuple[Samples, Samples]:
        """Return the line at times in days (count,), and the half width of the 95 % interval of each of its points."""
        away = days - self.middle
        return self.level + self.per_day * away, np.hypot(self.level_interval, self.interval * away)


def drift(days: Samples, values: Samples) -> Drift | None:
    """Return the slope of values over their times in days, by least squares; None where it cannot be known."""
    if values.size < 3:
        return None
    middle, level = float(days.mean()), float(values.mean())
    x = days - middle
    spread = float(x @ x)
    if spread <= 0:
        return None
    slope = float(x @ (values - level)) / spread
    residual = values - level - slope * x
    freedom = values.size - 2
    half = float(stdtrit(freedom, 0.975)) * math.sqrt(float(residual @ residual) / freedom)
    return Drift(slope, half / math.sqrt(spread), middle, level, half / math.sqrt(values.size))


@dataclass(frozen=True)
class Correlation:
    """r: Pearson's coefficient; interval: 95 %, by Fisher's transformation; count: of pairs."""

    r: float
    interval: tuple[float, float]
    count: int


def correlation(x: Samples, y: Samples) -> Correlation | None:
    """Return how two values of the same units (count,) go together; None for fewer than four pairs."""
    if x.size < 4 or float(x.std()) == 0 or float(y.std()) == 0:
        return None
    r = float(np.clip(np.corrcoef(x, y)[0, 1], -1, 1))
    if abs(r) == 1:
        return Correlation(r, (r, r), x.size)
    centre, half = math.atanh(r), _NORMAL_95 / math.sqrt(x.size - 3)
    return Correlation(r, (math.tanh(centre - half), math.tanh(centre + half)), x.size)


@dataclass(frozen=True, eq=False)
class NormalPlot:
    """expected: normal quantiles (count,) of the sorted values; order: places of the values, sorted; fit: correlation
    of the two, which is 1 for a normal distribution.
    """

    expected: Samples
    order: np.ndarray[tuple[int], np.dtype[np.intp]]
    fit: float


def normal_plot(values: Samples) -> NormalPlot | None:
    """Return the normal probability plot (NIST/SEMATECH e-Handbook, 1.3.3.21); None for fewer than three values.

    Quantiles are those of the medians of order statistics (Filliben, Technometrics 17, 1975).
    """
    count = values.size
    if count < 3 or float(values.std()) == 0:
        return None
    medians = (np.arange(1, count + 1) - 0.3175) / (count + 0.365)
    medians[-1] = 0.5 ** (1 / count)
    medians[0] = 1 - medians[-1]
    expected = np.asarray(ndtri(medians))
    order = np.argsort(values, kind="stable")
    return NormalPlot(expected, order, float(np.corrcoef(expected, values[order])[0, 1]))


@dataclass(frozen=True, eq=False)
class Histogram:
    """counts (bins,) between edges (bins + 1,)."""

    edges: Samples
    counts: np.ndarray[tuple[int], np.dtype[np.int64]]


def histogram(values: Samples) -> Histogram | None:
    """Return counts in bins whose width follows the middle half of the values (Freedman, Diaconis 1981)."""
    if values.size < 2:
        return None
    low, high = float(values.min()), float(values.max())
    if high <= low:
        return None
    quarter, three_quarters = np.quantile(values, [0.25, 0.75])
    width = 2 * float(three_quarters - quarter) / values.size ** (1 / 3)
    bins = _MOST_BINS
    if width > 0:
        bins = math.ceil((high - low) / width)
    counts, edges = np.histogram(values, bins=min(max(bins, _LEAST_BINS), _MOST_BINS), range=(low, high))
    return Histogram(edges, counts)
