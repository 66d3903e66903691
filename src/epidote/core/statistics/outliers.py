"""Outliers by the generalised extreme studentised deviate test.

Rosner, Technometrics 25 (1983), as in NIST/SEMATECH e-Handbook, 1.3.5.17.3.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import stdtrit

from epidote.core.signals.signal import Samples

SIGNIFICANCE = 0.05
RELIABLE_FROM = 15  # values; below, the critical values are only approximate (the same section)
_LEAST_VALUES = 5
_MOST = 100


@dataclass(frozen=True)
class EsdStep:
    """place: of the value taken out; statistic: its distance from the mean in standard deviations; critical: λ."""

    place: int
    statistic: float
    critical: float


@dataclass(frozen=True)
class Outliers:
    """places: of the outliers among the values, the farthest first; steps: every step of the test."""

    places: tuple[int, ...]
    steps: tuple[EsdStep, ...]
    reliable: bool


def usual_most(count: int) -> int:
    """Return for how many outliers to look in so many values: a tenth, at most a hundred."""
    return min(_MOST, max(1, count // 10))


def generalised_esd(values: Samples, most: int | None = None, significance: float = SIGNIFICANCE) -> Outliers:
    """Return which of the values (count,) are outliers, up to ``most`` of them."""
    count = values.size
    if most is None:
        most = usual_most(count)
    if count < _LEAST_VALUES:
        return Outliers((), (), False)
    places = np.arange(count)
    left = values.astype(np.float64)
    steps: list[EsdStep] = []
    for taken in range(min(most, count - 3)):
        deviation = float(left.std(ddof=1))
        if deviation == 0:
            break
        distances = np.abs(left - left.mean())
        farthest = int(np.argmax(distances))
        statistic = float(distances[farthest]) / deviation
        steps.append(EsdStep(int(places[farthest]), statistic, _critical(count, taken, significance)))
        left, places = np.delete(left, farthest), np.delete(places, farthest)
    # the number of outliers is the last step whose statistic exceeds its critical value, not the first that does not
    found = max((n for n, step in enumerate(steps, start=1) if step.statistic > step.critical), default=0)
    return Outliers(tuple(step.place for step in steps[:found]), tuple(steps), count >= RELIABLE_FROM)


def _critical(count: int, taken: int, significance: float) -> float:
    """Return λ of the step after ``taken`` values were taken out."""
    left = count - taken
    tail = 1 - significance / (2 * left)
    t = float(stdtrit(left - 2, tail))
    return float((left - 1) * t / np.sqrt((left - 2 + t * t) * left))
