"""A path from what went in and what came out, whatever it was: averaged cross-spectra and coherence.

H1 = S_xy / S_xx, coherence |S_xy|² / (S_xx S_yy), by overlapping Hann-windowed segments (Welch 1967; Bendat, Piersol,
Random Data; from memory). The random error of |H| is sqrt((1 - c) / (2 c n)) for n independent segments; noise at the
output averages out, at the input not.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.cross_correlation import coarse_lag
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

_OVERLAP = 0.75
_INDEPENDENT = 0.5  # of Hann-windowed segments that overlap by three quarters, about this many count
_ALIKE = 0.02
_LEAST_SEGMENTS = 8
_ROWS = 2**18  # frames


@dataclass(frozen=True)
class TransferFunction:
    """response (bins,) complex, referred to ``delay`` frames.

    Coherence (bins,); density: mean square in 1 Hz of what came back (bins,); width of a bin in Hz; segments:
    independent ones.
    """

    response: NDArray[np.complex128]
    coherence: Samples
    density: Samples
    width: float
    delay: float
    polarity: int
    segments: float

    @property
    def variance(self) -> Samples:
        """Of |response|² relative to itself, as noise power over signal power (bins,)."""
        c = np.clip(self.coherence, 1e-9, 1 - 1e-12)
        return np.asarray((1 - c) / c / self.segments)


def estimate_transfer_function(
    played: Samples, back: Samples, rate: float, longest: float = 1.0
) -> TransferFunction | None:
    """Played and back (frames,), each beginning anywhere; None when one is not in the other.

    ``longest``: of a segment in s; shorter where the record would hold less than eight.
    """
    lag = coarse_lag(played, back, _ALIKE)
    if lag is None:
        return None
    # Step 1: lay both over each other, so that short segments hold the same sound
    delay, polarity = lag
    if delay >= 0:
        x, y = (played, back[delay:])
    else:
        x, y = (played[-delay:], back)
    # Step 2: the stretch in which something sounds (60 dB below the peak)
    loud = np.flatnonzero(np.abs(x) > 1e-3 * np.abs(x).max())
    first, end = int(loud[0]), min(int(loud[-1]) + 1, y.size)
    frames = end - first
    # Step 3: segments as long as asked for, but at least eight independent ones
    segment = even_fast_len(round(min(longest * rate, frames / (1 + (_LEAST_SEGMENTS - 1) * 0.5))))
    if frames < 2 * segment or segment < 64:
        return None
    accumulator = WelchAccumulator(segment, rate)
    accumulator.add(x[first:end], y[first:end])
    return accumulator.path(delay, polarity)


class WelchAccumulator:
    """Cross-spectra and powers of segments of ``segment`` frames, gathered stretch by stretch."""

    def __init__(self, segment: int, rate: float, overlap: float = _OVERLAP) -> None:
        self._segment, self._rate, self._hop = segment, rate, max(1, round(segment * (1 - overlap)))
        # Hann, at half-frames, so that shifted copies add up evenly
        self._window = 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(segment) + 0.5) / segment)
        self._sxx = np.zeros(segment // 2 + 1)
        self._syy, self._sxy = np.zeros_like(self._sxx), np.zeros(self._sxx.size, np.complex128)
        self._count = 0

    def add(self, x: Samples, y: Samples) -> None:
        """X and y (frames,): what went in, and what came out of it in the same frames."""
        if x.size < self._segment:
            return
        # overlapping segments as views: nothing is copied
        of_x, of_y = (np.lib.stride_tricks.sliding_window_view(v, self._segment)[:: self._hop] for v in (x, y))
        at_once = max(1, _ROWS // self._segment)  # rows that are transformed in one go
        for row in range(0, of_x.shape[0], at_once):
            fx, fy = (transforms.rfft(v[row : row + at_once] * self._window, axis=1) for v in (of_x, of_y))
            self._sxx += (fx.real**2 + fx.imag**2).sum(axis=0)
            self._syy += (fy.real**2 + fy.imag**2).sum(axis=0)
            self._sxy += (fy * np.conj(fx)).sum(axis=0)
        self._count += of_x.shape[0]

    def path(self, delay: float = 0, polarity: int = 1) -> TransferFunction:
        """Return what was gathered, referred to ``delay`` frames."""
        sxx, syy, sxy, window = self._sxx, self._syy, self._sxy, self._window
        # bins in which nothing was played are divided by next to nothing, not by zero
        tiny = 1e-12 * max(float(sxx.max()), 1e-300)
        # H1, unbiased by noise at the output (docs/methods.md, Response by noise)
        response: NDArray[np.complex128] = sxy / np.maximum(sxx, tiny)
        coherence = np.square(np.abs(sxy)) / np.maximum(sxx * syy, tiny * max(float(syy.max()), 1e-300))
        # mean square in 1 Hz: one-sided power over the window's energy
        density = syy * (2 / (max(1, self._count) * self._rate * float(window @ window)))
        return TransferFunction(
            response,
            np.clip(coherence, 0, 1),
            density,
            self._rate / self._segment,
            delay,
            polarity,
            max(1.0, self._count * _INDEPENDENT),
        )
