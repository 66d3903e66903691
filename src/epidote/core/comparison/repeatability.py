"""Whether a difference is real: spreads over repeats, and a comparison of means that says what it rests on.

Two groups of readings are compared by Welch's test (Biometrika 34, 1947) with degrees of freedom by Satterthwaite
(Biometrics Bulletin 2, 1946): different when the difference exceeds the two-sided 95 % limit of Student's distribution.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from epidote.core.results.caution import Caution
from epidote.core.results.curve_features import curve_at
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve

CONFIDENCE = 0.95
_LEVEL_UNITS = ("dBFS", "dBV", "dBu", "dB SPL")


class Significance(StrEnum):
    """What repeats say of a difference."""

    DIFFERENT = "different"
    NO_DIFFERENCE = "no measurable difference"
    CHAIN_LIMITED = "chain-limited"
    UNKNOWN = "not repeated"

    @classmethod
    def _missing_(cls, value: object) -> Significance | None:
        # as 0.1.0 wrote it before its release
        if value == "no difference that can be shown":
            return cls.NO_DIFFERENCE
        return None


@dataclass(frozen=True)
class Spread:
    """Of one reading over repeats: mean, standard deviation of one run, how many runs."""

    mean: float
    deviation: float
    count: int


@dataclass(frozen=True)
class Comparison:
    """difference in ``unit`` with the half width of its 95 % interval.

    Repeats of either side; degrees: of freedom, infinite where only the estimators' own noise was known.
    """

    finding: Significance
    difference: float
    interval: float
    unit: str
    repeats: tuple[int, int]
    degrees: float


def spreads(runs: Iterable[Sequence[Reading]]) -> dict[tuple[str, int], Spread]:
    """Each reading over the runs that give it, by key and channel, from two runs on."""
    values: dict[tuple[str, int], list[float]] = defaultdict(list)
    for readings in runs:
        for r in readings:
            if r.value is not None:
                values[r.key, r.channel].append(r.value)
    return {k: Spread(float(np.mean(v)), float(np.std(v, ddof=1)), len(v)) for k, v in values.items() if len(v) > 1}


def spread_curve(curves: Sequence[Curve]) -> Curve | None:
    """Return the standard deviation (points,) over repeats of one curve at each x of the first, where all have a value.

    None for fewer than two.
    """
    if len(curves) < 2:
        return None
    first = curves[0]
    rows = [first.y] + [
        (
            c.y
            if c.x.size == first.x.size and np.allclose(c.x, first.x, rtol=1e-9)
            else np.array([_value(c, x) for x in first.x])
        )
        for c in curves[1:]
    ]
    stacked = np.stack(rows)
    known = np.isfinite(stacked).all(axis=0)
    if first.y_unit in _LEVEL_UNITS:
        unit = "dB"
    else:
        unit = first.y_unit
    return Curve(first.key, first.channel, first.x[known], stacked[:, known].std(axis=0, ddof=1), first.x_unit, unit)


def _value(curve: Curve, x: float) -> float:
    value = curve_at(curve, float(x))
    if value is None:
        return math.nan
    return value


def compare(ours: Sequence[Reading], theirs: Sequence[Reading], known: Spread | None = None) -> Comparison | None:
    """Our readings of one key and channel (one per run) against theirs.

    None when either has no value or their units differ.

        known: the spread of such readings in other cells, for a side that was measured only once. The estimator's own
    spread is the least that a single run is taken to scatter by.
    """
    a, b = ([r for r in side if r.value is not None] for side in (ours, theirs))
    if not a or not b or len({r.unit for r in (*a, *b)}) > 1:
        return None
    difference = float(np.mean([r.value or 0.0 for r in a]) - np.mean([r.value or 0.0 for r in b]))
    repeated = _pooled([a, b], known)
    parts = [_variance(side, repeated) for side in (a, b)]
    variance = sum(v for v, _ in parts)
    weight = sum(v * v / f for v, f in parts)
    if weight > 0:
        degrees = variance * variance / weight
    else:
        degrees = math.inf
    from scipy.special import stdtrit

    if math.isfinite(degrees):
        factor = float(stdtrit(degrees, 0.5 + CONFIDENCE / 2))
    else:
        factor = 1.959963984540054
    interval = factor * math.sqrt(variance)
    if a[0].unit in _LEVEL_UNITS:
        unit = "dB"
    else:
        unit = a[0].unit
    near = [any(Caution.NEAR_FLOOR in r.cautions for r in side) for side in (a, b)]
    if variance == 0 and difference != 0:
        finding = Significance.UNKNOWN  # without any spread every difference would be real
    elif all(near):
        finding = Significance.CHAIN_LIMITED
    elif abs(difference) > interval:
        finding = Significance.DIFFERENT
    else:
        finding = Significance.NO_DIFFERENCE
    return Comparison(finding, difference, interval, unit, (len(a), len(b)), degrees)


def _pooled(sides: Sequence[Sequence[Reading]], known: Spread | None) -> tuple[float, float] | None:
    """Variance of one run and its degrees of freedom, from the sides that were repeated; else from what is known of
    other cells.
    """
    own = [(np.var([r.value or 0.0 for r in s], ddof=1), len(s) - 1) for s in sides if len(s) > 1]
    if own:
        degrees = sum(f for _, f in own)
        return float(sum(v * f for v, f in own) / degrees), float(degrees)
    if known is None:
        return None
    return (known.deviation**2, float(known.count - 1))


def _variance(side: Sequence[Reading], repeated: tuple[float, float] | None) -> tuple[float, float]:
    """Variance of a side's mean, and its degrees of freedom."""
    count = len(side)
    own = float(np.mean([(r.spread or 0.0) ** 2 for r in side]))
    if count > 1:
        variance, degrees = float(np.var([r.value or 0.0 for r in side], ddof=1)), float(count - 1)
    elif repeated is not None:
        variance, degrees = repeated
    else:
        return own / count, math.inf
    if variance >= own:
        return (variance / count, degrees)
    return (own / count, math.inf)


class SwapConclusion(StrEnum):
    """What a difference between two channels goes with when their wires are swapped."""

    INCOMPLETE = "incomplete"  # not both channels were measured both ways
    NO_DIFFERENCE = "no_difference"
    UNIT = "unit"
    CHAIN = "chain"


def swap_conclusion(ours: Mapping[int, float], swapped: Mapping[int, float], least: float) -> SwapConclusion:
    """Whether the difference between two channels (values by channel) goes with the unit's channel or with the
    chain's when both are swapped.

    least: a difference that counts, in the unit of the values.
    """
    if not {1, 2} <= ours.keys() or not {1, 2} <= swapped.keys():
        return SwapConclusion.INCOMPLETE
    before, after = ours[1] - ours[2], swapped[1] - swapped[2]
    if abs(before) < least and abs(after) < least:
        return SwapConclusion.NO_DIFFERENCE
    if abs(before + after) < abs(before - after):
        return SwapConclusion.UNIT
    return SwapConclusion.CHAIN
