"""Distortion along a staircase of levels: where it crosses a limit, which steps would find that better, and what is
odd about it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from epidote.core.analysis.sine.stepped_tone import StepMeasurement
from epidote.core.results.caution import Caution

Measure = Callable[[StepMeasurement], float]
FINE_DB = 0.06  # a bracket this narrow needs no finer steps
_PER_ROUND, _WIDE_DB = 5, 0.5
_FOLDED_DB, _JUMP_DB, _RISEN_DB = 0.5, 0.3, 20.0


@dataclass(frozen=True)
class Crossing:
    """Where a limit is passed: drive in dBFS, fundamental as peak in FS.

    width: of the bracket it was found in, in dB; before: index of the step below it.
    """

    level: float
    amplitude: float
    width: float
    before: int

    @property
    def spread_db(self) -> float:
        """One standard deviation: anywhere in a wide bracket.

        In a narrow one the straight line is seldom off by half of it.
        """
        return self.width / math.sqrt(12) / (1 if self.width > _WIDE_DB else 4)


def index_of_minimum(steps: Sequence[StepMeasurement], measure: Measure) -> int:
    """Index of the step with the least distortion."""
    return min(range(len(steps)), key=lambda i: measure(steps[i]))


def limit_crossing(steps: Sequence[StepMeasurement], limit: float, measure: Measure) -> Crossing | None:
    """Where distortion passes ``limit`` (a ratio) above its lowest, steps in rising order of level.

    None when it does not.

        Between two steps, the logarithm of distortion follows the level in a straight line.
    """
    if not steps:
        return None
    for i in range(index_of_minimum(steps, measure), len(steps) - 1):
        low, high = measure(steps[i]), measure(steps[i + 1])
        if low < limit <= high:
            if low > 0:
                share = math.log(limit / low) / math.log(high / low)
            else:
                share = 0.5
            a, b = steps[i], steps[i + 1]
            amplitude = a.amplitude * (b.amplitude / a.amplitude) ** share
            return Crossing(a.level + share * (b.level - a.level), amplitude, b.level - a.level, i)
    return None


def always_above(steps: Sequence[StepMeasurement], limit: float) -> bool:
    """Whether harmonics alone exceed the limit at every level."""
    return bool(steps) and all(s.thd > limit for s in steps)


def is_reached(steps: Sequence[StepMeasurement], limit: float, measure: Measure) -> bool:
    """Whether the last step is beyond the limit after one was below, or all are and harmonics do not fall.

    Noise at low levels, and crossover distortion, exceed it too, but they fall as the level rises.
    """
    last = steps[-1]
    if any(measure(s) < limit for s in steps[:-1]):
        return measure(last) > limit
    return len(steps) > 1 and last.thd > limit and last.thd > 0.98 * steps[-2].thd


def output_decreases(steps: Sequence[StepMeasurement]) -> bool:
    """Whether the output falls while the drive rises."""
    most = max(s.amplitude for s in steps)
    if steps[-1].amplitude > 0:
        return 20 * math.log10(most / steps[-1].amplitude) > _FOLDED_DB
    return True


def refinement_levels(steps: Sequence[StepMeasurement], limits: Sequence[float], measure: Measure) -> list[float]:
    """Drive levels in dBFS that would narrow the brackets of the limits: evenly spread in a wide one, close about
    the crossing in a narrow one.
    """
    levels = []
    for limit in limits:
        crossing = limit_crossing(steps, limit, measure)
        if crossing is None or crossing.width <= FINE_DB:
            continue
        a, b = steps[crossing.before].level, steps[crossing.before + 1].level
        if crossing.width > _WIDE_DB:
            levels += [a + (b - a) * k / (_PER_ROUND + 1) for k in range(1, _PER_ROUND + 1)]
        else:
            levels += [v for v in (crossing.level - FINE_DB / 2, crossing.level + FINE_DB / 2) if a < v < b]
    return levels


def anomalies(steps: Sequence[StepMeasurement], limit: float) -> tuple[Caution, ...]:
    """Return what does not look like one steady unit: a gain that jumps, something that rises beside the tone, output
    that falls.
    """
    levels = []
    gains = [20 * math.log10(s.amplitude) - s.level for s in steps]
    for i in range(1, len(steps)):
        a, b = steps[i - 1], steps[i]
        # a limiter or a supply at its end lets the gain fall together with distortion; a switched gain does not
        spread = 8.7 * max(math.sqrt(x.noise) / x.amplitude for x in (a, b))
        if abs(gains[i] - gains[i - 1]) > _JUMP_DB + 3 * spread and max(a.thd, b.thd) < 0.5 * limit:
            levels.append(Caution.GAIN_CHANGED)
            break
    quietest = min((s.noise for s in steps if s.noise > 0), default=0.0)
    if any(
        s.noise > 10 ** (_RISEN_DB / 10) * quietest and s.noise > 4 * s.harmonic and s.thd_n > 0.01
        for s in steps[1:]
        if s.thd_n > steps[0].thd_n
    ):
        levels.append(Caution.STRANGER)
    if steps and output_decreases(steps):
        levels.append(Caution.FOLDED_BACK)
    return tuple(levels)
