"""A path from what went in and what came out, whatever it was: averaged cross-spectra and coherence.

H1 = S_xy / S_xx, coherence |S_xy|² / (S_xx S_yy), by overlapping Hann-windowed segments (Welch 1967; Bendat, Piersol, Random Data; from
memory). The random error of |H| is sqrt((1 - c) / (2 c n)) for n independent segments; noise at the output averages out, at the input not.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.fft
from numpy.typing import NDArray

from epidote.core.analysis.alignment import lag_of
from epidote.core.analysis.spectrum import even_fast_len
from epidote.core.signal import Samples

_OVERLAP = 0.75
_INDEPENDENT = 0.5  # of Hann-windowed segments that overlap by three quarters, about this many count
_ALIKE = 0.02
_LEAST_SEGMENTS = 8


@dataclass(frozen=True)
class Path:
    """response (bins,) complex, referred to ``delay`` frames; coherence (bins,); width of a bin in Hz; segments: independent ones."""

    response: NDArray[np.complex128]
    coherence: Samples
    width: float
    delay: int
    polarity: int
    segments: float

    @property
    def variance(self) -> Samples:
        """Of |response|² relative to itself, as noise power over signal power (bins,)."""
        c = np.clip(self.coherence, 1e-9, 1 - 1e-12)
        return np.asarray((1 - c) / c / self.segments)


def path_between(played: Samples, back: Samples, rate: float, longest: float = 1.0) -> Path | None:
    """played and back (frames,), each beginning anywhere; None when one is not in the other.

    ``longest``: of a segment in s; shorter where the record would hold less than eight.
    """
    lag = lag_of(played, back, _ALIKE)
    if lag is None:
        return None
    delay, polarity = lag
    x, y = (played, back[delay:]) if delay >= 0 else (played[-delay:], back)
    loud = np.flatnonzero(np.abs(x) > 1e-3 * np.abs(x).max())
    first, end = int(loud[0]), min(int(loud[-1]) + 1, y.size)
    frames = end - first
    segment = even_fast_len(round(min(longest * rate, frames / (1 + (_LEAST_SEGMENTS - 1) * 0.5))))
    if frames < 2 * segment or segment < 64:
        return None
    hop = round(segment * (1 - _OVERLAP))
    window = 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(segment) + 0.5) / segment)
    sxx = np.zeros(segment // 2 + 1)
    syy, sxy = np.zeros_like(sxx), np.zeros(sxx.size, complex)
    count = 0
    for start in range(first, end - segment + 1, hop):
        fx, fy = (scipy.fft.rfft((v[start : start + segment]) * window) for v in (x, y))
        sxx += np.square(np.abs(fx))
        syy += np.square(np.abs(fy))
        sxy += fy * np.conj(fx)
        count += 1
    tiny = 1e-12 * sxx.max()
    response = sxy / np.maximum(sxx, tiny)
    coherence = np.square(np.abs(sxy)) / np.maximum(sxx * syy, tiny * max(float(syy.max()), 1e-300))
    return Path(response, np.clip(coherence, 0, 1), rate / segment, delay, polarity, max(1.0, count * _INDEPENDENT))
