"""Chart of individuals and moving ranges, with the Western Electric rules.

NIST/SEMATECH e-Handbook, 6.3.2.2 (chart) and 6.3.2 (rules).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from epidote.core.signals.signal import Samples

_D2, _D4 = 1.128, 3.267  # of ranges of two values (the handbook's table of factors)
LEAST_VALUES = 3


class ChartRule(StrEnum):
    """A Western Electric rule: how many of the last points lie beyond how many standard deviations on one side."""

    ONE_BEYOND_THREE = "one point beyond 3 s"
    TWO_OF_THREE = "2 of 3 points beyond 2 s"
    FOUR_OF_FIVE = "4 of 5 points beyond 1 s"
    EIGHT_ON_A_SIDE = "8 points on one side"


_RULES = (
    (ChartRule.ONE_BEYOND_THREE, 1, 1, 3.0),
    (ChartRule.TWO_OF_THREE, 2, 3, 2.0),
    (ChartRule.FOUR_OF_FIVE, 4, 5, 1.0),
    (ChartRule.EIGHT_ON_A_SIDE, 8, 8, 0.0),
)


@dataclass(frozen=True)
class ChartSignal:
    """A point at which a rule says that something changed; place: of the last point of it."""

    place: int
    rule: ChartRule


@dataclass(frozen=True, eq=False)
class IndividualsChart:
    """sigma: from the mean moving range; ranges: (values - 1,), of each value to the one before it."""

    centre: float
    sigma: float
    lower: float
    upper: float
    ranges: Samples
    mean_range: float
    upper_range: float
    signals: tuple[ChartSignal, ...]


def individuals_chart(values: Samples) -> IndividualsChart | None:
    """Return the chart of values (count,) in the order in which they were measured; None for fewer than three."""
    if values.size < LEAST_VALUES:
        return None
    ranges = np.abs(np.diff(values))
    centre, mean_range = float(values.mean()), float(ranges.mean())
    sigma = mean_range / _D2
    reach = 3 * sigma
    signals = western_electric(values, centre, sigma)
    return IndividualsChart(
        centre, sigma, centre - reach, centre + reach, ranges, mean_range, _D4 * mean_range, signals
    )


def western_electric(values: Samples, centre: float, sigma: float) -> tuple[ChartSignal, ...]:
    """Return where the four rules hold, in the order of the values."""
    found: list[ChartSignal] = []
    for rule, needed, of, beyond in _RULES:
        for sign in (1.0, -1.0):
            outside = sign * (values - centre) > beyond * sigma
            window = np.convolve(outside.astype(np.int64), np.ones(of, dtype=np.int64))[: values.size]
            # a rule speaks at a point that itself lies beyond
            places = np.flatnonzero((window >= needed) & outside)
            found += [ChartSignal(int(place), rule) for place in places]
    return tuple(sorted(found, key=lambda signal: signal.place))
