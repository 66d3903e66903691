"""Fractional-octave bands by IEC 61260-1: base-ten centres and edges, and the power of a spectrum in each."""

from __future__ import annotations

import math

import numpy as np

from epidote.core.analysis.spectral.spectrum import band_power
from epidote.core.signals.signal import Samples

_OCTAVE = 10**0.3  # IEC 61260-1:2014, G of base ten
_NOMINAL = 1.005  # of a frequency, by which a nominal one may be off the exact one


def centres(fraction: int, low: float, high: float) -> Samples:
    """Exact midband frequencies in Hz (bands,) of 1/fraction octave whose bands lie between low and high."""
    step = 1 / fraction
    # even fractions lie beside 1 kHz, odd ones on it
    if fraction % 2:
        half = 0.0
    else:
        half = 0.5
    first = math.ceil(math.log(low / 1000, _OCTAVE) / step + 0.5 - half - 1e-9)
    last = math.floor(math.log(high / 1000, _OCTAVE) / step - 0.5 - half + 1e-9)
    return np.asarray(1000 * _OCTAVE ** ((np.arange(first, last + 1) + half) * step), dtype=np.float64)


def nominal_centres(fraction: int, low: float, high: float) -> Samples:
    """Exact midband frequencies in Hz (bands,) from the band called ``low`` to the one called ``high``: 20 Hz and
    20 kHz are names, a little off the exact frequencies.
    """
    bottom, _ = edges(np.array([low]), fraction)
    _, top = edges(np.array([high]), fraction)
    return centres(fraction, float(bottom[0]) / _NOMINAL, float(top[0]) * _NOMINAL)


def edges(middle: Samples, fraction: int) -> tuple[Samples, Samples]:
    """Lower and upper edge in Hz of each band."""
    half = _OCTAVE ** (1 / (2 * fraction))
    return middle / half, middle * half


def band_powers(power: Samples, bin_width: float, middle: Samples, fraction: int) -> Samples:
    """Sum of power (bins,) in each band, bins shared at its edges (bands,)."""
    return np.array([band_power(power, bin_width, a, b) for a, b in zip(*edges(middle, fraction), strict=True)])
