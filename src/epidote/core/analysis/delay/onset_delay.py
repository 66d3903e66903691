"""The delay of one onset, from the tenth of a second around it.

The correlation of so short a stretch of music has many crests: a drum rings, a string repeats its period. Dividing the
cross spectrum by the 0.7th power of its magnitude levels them without letting bins of noise decide, as the phase
transform would (methods.md, “Onsets of music”).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.analysis.delay.correlation_peaks import highest_peaks
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples
from epidote.core.signals.slicing import zero_padded_slice

BEFORE, AFTER = 0.01, 0.08  # s of the first around an onset
_RISE, _FALL = 0.003, 0.4  # s; share of the stretch
_LEVELLED = 0.7
_LOW, _HIGH = 80.0, 12000.0  # Hz
_NEXT_CREST = 0.0005  # s from which on another crest is another delay
_SHARED = 300.0  # Hz in which neighbouring bins share their error
_CLEAR = 1.3  # times the next crest


@dataclass(frozen=True)
class OnsetDelay:
    """frames: by how much the second is later, with its standard deviation; level in dB re the first."""

    frames: float
    spread: float
    level_db: float


def onset_delay(
    first: Samples, second: Samples, reach: int, rate: float, band: tuple[float, float]
) -> OnsetDelay | None:
    """First (frames,): BEFORE and AFTER an onset.

    Second (frames + 2 reach,): the same with ``reach`` frames more at either end; band in Hz.

        None where no delay stands clear of the others.
    """
    # Step 1: the attack alone, by a short rise and a long fall
    window = _window(first.size, rate)
    size = transforms.next_fast_len(first.size + second.size, real=True)
    of_first = transforms.rfft(first * window, size)
    # Step 2: cross spectrum in the band
    cross = _in_band(transforms.rfft(second, size) * of_first.conj(), size, rate, band)
    magnitude = np.abs(cross)
    if not magnitude.any():
        return None
    # Step 3: crests levelled by a power of the magnitude
    levelled: NDArray[np.complex128] = np.where(magnitude > 0, cross / np.maximum(magnitude, 1e-300) ** _LEVELLED, 0)
    # what lies before the stretch in the second is counted from there
    levelled *= np.exp(2j * np.pi * np.arange(levelled.size) * reach / size)
    # Step 4: the highest crest, if it stands clear of every other one
    peaks = highest_peaks(levelled, size, reach)
    best = float(peaks.lags[0])
    others = np.abs(peaks.heights[np.abs(peaks.lags - best) > _NEXT_CREST * rate])
    if others.size and abs(float(peaks.heights[0])) < _CLEAR * float(others.max()):
        return None
    # Step 5: between frames
    lag, sign = refined_lag(levelled, size, best)
    whole = round(lag)
    segment = zero_padded_slice(second, reach + whole, first.size) * window
    return OnsetDelay(
        lag,
        _spread(sign * levelled, size, round(_SHARED * size / rate), lag),
        _level(of_first, segment, lag - whole, size, rate, band=band),
    )


def _window(frames: int, rate: float) -> Samples:
    """Return a short rise and a long fall (frames,), each as half a cosine."""
    window = np.ones(frames)
    rise, fall = max(1, min(frames // 4, round(_RISE * rate))), max(1, round(_FALL * frames))
    window[:rise] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(rise) + 0.5) / rise)
    window[-fall:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(fall) + 0.5) / fall)
    return window


def _in_band(
    cross: NDArray[np.complex128], size: int, rate: float, band: tuple[float, float]
) -> NDArray[np.complex128]:
    low, high = max(band[0], _LOW), min(band[1], _HIGH)
    if low >= high:
        low, high = band
    f = np.arange(cross.size) * (rate / size)
    return np.where((f >= low) & (f <= high) & (f > 0) & (f < rate / 2), cross, 0)


def _level(
    of_first: NDArray[np.complex128],
    segment: Samples,
    rest: float,
    size: int,
    rate: float,
    *,
    band: tuple[float, float],
) -> float:
    """Return what of the first is in the second, in dB; ``rest``: frames by which that still is later."""
    cross = _in_band(transforms.rfft(segment, size) * of_first.conj(), size, rate, band)
    power = float(np.square(np.abs(_in_band(of_first, size, rate, band))).sum())
    similarity = abs(float((cross * np.exp(2j * np.pi * np.arange(cross.size) * rest / size)).real.sum()))
    if power:
        return 20 * math.log10(max(similarity / power, 1e-15))
    return 0.0


def _spread(cross: NDArray[np.complex128], size: int, width: int, lag: float) -> float:
    """Return the standard deviation of the lag in frames: White's estimator (``delay.py``) over stretches of ``width``
    bins.

        What a lossy coder adds to an attack is as short as that, so neighbouring bins share it.
    """
    w = 2 * np.pi / size * np.arange(cross.size)
    turned = cross * np.exp(1j * w * lag)
    bend = abs(float((w * w * turned.real).sum()))
    sums = np.add.reduceat(w * turned.imag, np.arange(0, cross.size, max(1, width)))
    if bend:
        return math.sqrt(float(np.square(sums).sum())) / bend
    return math.inf
