"""Power of stationary sound in fractional-octave bands and with the weightings of sound level meters.

Bands: IEC 61260-1 (exact base-ten midband frequencies and edges). Weightings: IEC 61672-1. Both act on the power
spectrum of the whole record, so that no filter has to settle.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from epidote.core.analysis.spectral.fractional_octave import band_powers, edges, nominal_centres
from epidote.core.analysis.spectral.spectrum import band_powers_of, mean_squares
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spreads import windowed_band_spread
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import trim_to_fast_length
from epidote.core.signals.signal import Samples, as_readonly

_FADED, _MOST_FADED = 0.05, 0.1  # of the record, and in s, at either end
_LEAST_BINS = 3  # in a band; fewer do not tell it from its neighbours
_LOWEST = 1.0  # Hz: below lies what is called offset


@dataclass(frozen=True)
class BandPowers:
    """Mean squares in FS² of one channel.

    middle, powers, spreads_db: midband frequency in Hz, mean square and standard deviation of the level in dB of each
    band (bands,). weighted, weighted_spreads_db: of the whole spectrum, by weighting.
    """

    middle: Samples
    powers: Samples
    spreads_db: Samples
    weighted: dict[Weighting, float]
    weighted_spreads_db: dict[Weighting, float]


@lru_cache(maxsize=4)
def _fade_window(frames: int, rate: float) -> Samples:
    """Return a window (frames,) with raised-cosine ends, of mean square 1."""
    window = np.ones(frames)
    faded = max(1, round(min(_FADED * frames, _MOST_FADED * rate)))
    rise = 0.5 - 0.5 * np.cos(np.pi * (np.arange(faded) + 0.5) / faded)
    window[:faded], window[-faded:] = rise, rise[::-1]
    return as_readonly(window / np.sqrt(np.mean(np.square(window))))


@lru_cache(maxsize=4)
def _crowding(frames: int, rate: float) -> float:
    """By how much the window adds to the variance of a sum of powers."""
    return float(np.mean(_fade_window(frames, rate) ** 4))


def bands_within(fraction: int, low: float, high: float, rate: float, frames: int) -> Samples:
    """Exact midband frequencies in Hz (bands,) of the bands between low and high that a record of so many frames can
    tell apart; the nominal limits may be a little off the exact edges of a band.
    """
    middle = nominal_centres(fraction, low, high)
    below, above = edges(middle, fraction)
    wide_enough = above - below >= _LEAST_BINS * rate / frames
    return middle[wide_enough & (above <= rate / 2) & (below >= _LOWEST)]


def band_powers_of_record(x: Samples, rate: float, middle: Samples, fraction: int) -> BandPowers:
    """Return the powers of x (frames,) in the bands at ``middle``, and of all of it by weighting."""
    x = trim_to_fast_length(x)
    window = _fade_window(x.size, rate)
    power = mean_squares(np.square(np.abs(transforms.rfft((x - x.mean()) * window))), x.size)
    width, crowding = rate / x.size, _crowding(x.size, rate)
    limits = list(zip(*edges(middle, fraction), strict=True))
    powers = band_powers(power, width, middle, fraction)
    spreads = np.array([windowed_band_spread(band_powers_of(power, width, a, b), crowding) for a, b in limits])
    weighted, weighted_spreads = {}, {}
    for weighting in (Weighting.NONE, Weighting.A, Weighting.C):
        whole = band_powers_of(power, width, _LOWEST, rate / 2, weighting)
        weighted[weighting] = float(whole.sum())
        weighted_spreads[weighting] = windowed_band_spread(whole, crowding)
    return BandPowers(middle, powers, spreads, weighted, weighted_spreads)
