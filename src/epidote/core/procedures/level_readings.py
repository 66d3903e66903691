"""What a level curve says in single figures: gain at 1 kHz, corners, flatness. Of a measured curve, or of one less the chain's own."""

from __future__ import annotations

import math
from collections.abc import Iterable

from epidote.core.analysis.features import corner, curve_at, flatness
from epidote.core.caution import Caution
from epidote.core.result import Curve, Reading


def reference_frequency(level: Curve) -> float:
    """1 kHz, or the middle of a band that leaves it out."""
    low, high = float(level.x[0]), float(level.x[-1])
    return 1000.0 if low < 1000 < high else math.sqrt(low * high)


def judged_band(level: Curve) -> tuple[float, float]:
    """20 Hz to 20 kHz as far as the curve goes, in Hz."""
    low, high = max(20.0, float(level.x[0])), min(20000.0, float(level.x[-1]))
    return (low, high) if high > low else (float(level.x[0]), float(level.x[-1]))


def level_readings(level: Curve, spread: float | None) -> tuple[Reading, ...]:
    """Gain, corners, flatness. ``spread``: one standard deviation of the level at the reference frequency, in dB."""
    number, high = level.channel, float(level.x[-1])
    reference = reference_frequency(level)
    at: dict[str, float | str] = {"reference_hz": reference}
    outside = (Caution.OUTSIDE_BAND,)
    base = curve_at(level, reference)
    readings = [Reading("gain_1k", number, base, "dB", {"frequency_hz": reference}, None, spread)]
    for key, drop in (("bandwidth_{}", 3.0), ("bandwidth_{}_1db", 1.0)):
        for side, upwards in (("low", False), ("high", True)):
            found = corner(level, drop, reference, upwards)
            readings.append(Reading(key.format(side), number, found, "Hz", at, None, None, () if found else outside))
    low, top = judged_band(level)
    where: dict[str, float | str] = {"low_hz": low, "high_hz": top}
    readings.append(Reading("flatness", number, flatness(level, low * 0.999, top * 1.001), "dB", where, None, spread))
    last = curve_at(level, min(20000.0, high))
    if high >= 19990 and last is not None and base is not None:
        readings.append(Reading("level_20k", number, last - base, "dB", at, None, spread))
    return tuple(readings)


def read_again(curves: Iterable[Curve]) -> dict[tuple[str, int], Reading]:
    """The level readings by key and channel, off level curves that were changed after the analysis."""
    return {(r.key, r.channel): r for curve in curves for r in level_readings(curve, None)}
