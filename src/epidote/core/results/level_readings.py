"""What a level curve says in single figures: gain at 1 kHz, corners, flatness.

Of a measured curve, or of one less the chain's own.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.results.caution import Caution
from epidote.core.results.curve_features import curve_at, cutoff_frequency, flatness
from epidote.core.results.kinds import ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.signals.signal import Samples

KINDS = (
    ReadingKind("gain_1k", "Gain at 1 kHz", loss="insertion_loss", meaning="Gain, or level, at 1 kHz."),
    ReadingKind(
        "bandwidth_low",
        "Lower -3 dB",
        corner_of="level",
        meaning="Frequency below 1 kHz at which the level is 3.00 dB below that at 1 kHz.",
    ),
    ReadingKind(
        "bandwidth_high",
        "Upper -3 dB",
        corner_of="level",
        meaning="Frequency above 1 kHz at which the level is 3.00 dB below that at 1 kHz.",
    ),
    ReadingKind(
        "bandwidth_low_1db",
        "Lower -1 dB",
        meaning="Frequency below 1 kHz at which the level is 1.00 dB below that at 1 kHz.",
    ),
    ReadingKind(
        "bandwidth_high_1db",
        "Upper -1 dB",
        meaning="Frequency above 1 kHz at which the level is 1.00 dB below that at 1 kHz.",
    ),
    ReadingKind(
        "flatness",
        "Flatness",
        shown=Shown.PLUS_MINUS,
        meaning="Half of the range between highest and lowest level from 20 Hz to 20 kHz.",
    ),
    ReadingKind("level_20k", "20 kHz re 1 kHz", meaning="Level at 20 kHz re that at 1 kHz."),
)  # what level_readings gives


def reference_frequency(level: Curve) -> float:
    """1 kHz, or the middle of a band that leaves it out."""
    low, high = float(level.x[0]), float(level.x[-1])
    if low < 1000 < high:
        return 1000.0
    return math.sqrt(low * high)


def evaluation_band(level: Curve) -> tuple[float, float]:
    """20 Hz to 20 kHz as far as the curve goes, in Hz."""
    low, high = max(20.0, float(level.x[0])), min(20000.0, float(level.x[-1]))
    if high > low:
        return (low, high)
    return (float(level.x[0]), float(level.x[-1]))


def level_readings(level: Curve, spreads: Samples | None) -> tuple[Reading, ...]:
    """Gain, corners, flatness.

    ``spreads``: one standard deviation of the level in dB at each point of the curve (points,), independent of each
    other.
    """
    number, high = level.channel, float(level.x[-1])
    reference = reference_frequency(level)
    at: dict[str, float | str] = {"reference_hz": reference}
    outside = (Caution.OUTSIDE_BAND,)
    base = curve_at(level, reference)
    of = _Spreads(level, spreads, reference)
    readings = [Reading("gain_1k", number, base, "dB", {"frequency_hz": reference}, None, of.at(reference))]
    for key, drop in (("bandwidth_{}", 3.0), ("bandwidth_{}_1db", 1.0)):
        for side, upwards in (("low", False), ("high", True)):
            corner = cutoff_frequency(level, drop, reference, upwards)
            if corner is None:
                spread = None
            else:
                spread = of.of_corner(corner)
            readings.append(
                Reading(key.format(side), number, corner, "Hz", at, None, spread, () if corner else outside)
            )
    low, top = evaluation_band(level)
    where: dict[str, float | str] = {"low_hz": low, "high_hz": top}
    readings.append(
        Reading(
            "flatness", number, flatness(level, low * 0.999, top * 1.001), "dB", where, None, of.of_flatness(low, top)
        )
    )
    last = curve_at(level, min(20000.0, high))
    if high >= 19990 and last is not None and base is not None:
        readings.append(Reading("level_20k", number, last - base, "dB", at, None, of.re_reference(min(20000.0, high))))
    return tuple(readings)


@dataclass(frozen=True)
class _Spreads:
    """Standard deviations of what is read off a level curve, from those of its points in dB.

    None throughout where these are not known.
    """

    level: Curve
    points: Samples | None
    reference: float

    def at(self, frequency: float) -> float | None:
        """Of the level at a frequency."""
        if self.points is None:
            return None
        return float(np.interp(frequency, self.level.x, self.points))

    def re_reference(self, frequency: float) -> float | None:
        """Of a level re that at the reference."""
        own, base = self.at(frequency), self.at(self.reference)
        if own is None or base is None:
            return None
        return math.hypot(own, base)

    def of_corner(self, frequency: float) -> float | None:
        """In Hz: of the difference in level over the slope."""
        spread = self.re_reference(frequency)
        near, far = (curve_at(self.level, frequency * by) for by in (0.98, 1.02))
        if spread is None or near is None or far is None or near == far:
            return None
        return spread * 0.04 * frequency / abs(far - near)

    def of_flatness(self, low: float, high: float) -> float | None:
        """Of half the range: of the greatest and the least level, or of a range that is the noise's own."""
        inside = np.flatnonzero((self.level.x >= low * 0.999) & (self.level.x <= high * 1.001))
        if self.points is None or inside.size < 2:
            return None
        top, bottom = (int(inside[pick(self.level.y[inside])]) for pick in (np.argmax, np.argmin))
        most = max(float(self.points[top]), float(self.points[bottom]))
        half_range = float(self.level.y[top] - self.level.y[bottom]) / 2
        of_noise = most * math.sqrt(2 * math.log(inside.size))  # what the noise alone reaches among so many points
        if half_range < 2 * of_noise:
            return of_noise
        return 0.5 * math.hypot(float(self.points[top]), float(self.points[bottom]))


def recompute_level_readings(curves: Iterable[Curve]) -> dict[tuple[str, int], Reading]:
    """Return the level readings by key and channel, off level curves that were changed after the analysis."""
    return {(r.key, r.channel): r for curve in curves for r in level_readings(curve, None)}


def with_level_readings(readings: Iterable[Reading], curves: Iterable[Curve]) -> tuple[Reading, ...]:
    """Return readings of which those that are read off these level curves are read again; their spreads stay."""
    again = recompute_level_readings(curves)
    return tuple(
        replace(again[r.key, r.channel], spread=r.spread) if (r.key, r.channel) in again else r for r in readings
    )
