"""Frequencies in a row: evenly spaced in octaves about 1 kHz, or preferred numbers."""

from __future__ import annotations

import math

import numpy as np

from epidote.core.signals.signal import Samples

NOMINAL = 0.01  # "20 Hz" means the tone of the series that is called so, 19.95 Hz
# ISO 3:1973 in three digits, from memory; each entry lies within 1.3 % of 10^(k/40), or for R80 of 10^(k/80)
_R40 = (
    1.0,
    1.06,
    1.12,
    1.18,
    1.25,
    1.32,
    1.4,
    1.5,
    1.6,
    1.7,
    1.8,
    1.9,
    2.0,
    2.12,
    2.24,
    2.36,
    2.5,
    2.65,
    2.8,
    3.0,
    3.15,
    3.35,
    3.55,
    3.75,
    4.0,
    4.25,
    4.5,
    4.75,
    5.0,
    5.3,
    5.6,
    6.0,
    6.3,
    6.7,
    7.1,
    7.5,
    8.0,
    8.5,
    9.0,
    9.5,
)
_R80_BETWEEN = (
    1.03,
    1.09,
    1.15,
    1.22,
    1.28,
    1.36,
    1.45,
    1.55,
    1.65,
    1.75,
    1.85,
    1.95,
    2.06,
    2.18,
    2.3,
    2.43,
    2.58,
    2.72,
    2.9,
    3.07,
    3.25,
    3.45,
    3.65,
    3.87,
    4.12,
    4.37,
    4.62,
    4.87,
    5.15,
    5.45,
    5.8,
    6.15,
    6.5,
    6.9,
    7.3,
    7.75,
    8.25,
    8.75,
    9.25,
    9.75,
)


def fractional_octave_series(per_octave: float, low: float, high: float) -> Samples:
    """``per_octave`` frequencies in each octave of base ten (IEC 61260-1), 1 kHz among them, that are called low to
    high Hz, rising.
    """
    step = 10 ** (0.3 / per_octave)
    first, last = (math.log(f / 1000) / math.log(step) for f in (low * (1 - NOMINAL), high * (1 + NOMINAL)))
    return np.asarray(1000 * step ** np.arange(math.ceil(first), math.floor(last) + 1), dtype=np.float64)


def preferred_numbers(count: int, low: float, high: float) -> Samples:
    """Return the preferred numbers R10, R20, R40 or R80 of ISO 3 from low to high, rising: 10^(k/count) rounded as the
    standard lists them.
    """
    k = np.arange(math.floor(count * math.log10(low)), math.ceil(count * math.log10(high)) + 1)
    values = np.array([10.0 ** (i // count) * _mantissa(int(i % count), count) for i in k])
    return np.asarray(values[(values >= low) & (values <= high)])


def _mantissa(place: int, count: int) -> float:
    if count == 80:
        if place % 2 == 0:
            return _R40[place // 2]
        return _R80_BETWEEN[place // 2]
    return _R40[place * 40 // count]
