"""Sums over a record at given frequencies, and the tone itself, without a sine for each sample.

exp(j w n) with n = block·length + place is a product of two short series, so that all frequencies together are a
product of matrices.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals.signal import Samples

Complex = NDArray[np.complex128]
_LENGTH = 512  # frames of a block; of a record of a hundred thousand frames both series are then about alike


def lines_at(weighted: Samples, frequencies: Samples, rate: float) -> Samples:
    """Peaks (lines,) at known frequencies in Hz (lines,) of what ``CosineWindow.weighted`` made (frames,)."""
    w = 2 * np.pi / rate * np.asarray(frequencies, dtype=np.float64)
    whole = weighted.size // _LENGTH
    body, rest = weighted[: whole * _LENGTH].reshape(whole, _LENGTH), weighted[whole * _LENGTH :]
    inner = _turns(np.arange(_LENGTH), w)
    sums = body @ inner.real + 1j * (body @ inner.imag)
    outer = _turns(_LENGTH * np.arange(whole), w)
    total = np.einsum("bl,bl->l", sums, outer)
    total += rest @ _turns(np.arange(whole * _LENGTH, weighted.size), w)
    return np.asarray(np.abs(total))


def tone_of(frames: int, w: float, amplitude: complex, centre: float) -> Samples:
    """Re(amplitude exp(j w (n - centre))) (frames,), w in radians from frame to frame."""
    count = -(-frames // _LENGTH)
    outer = amplitude * np.exp(1j * w * (_LENGTH * np.arange(count) - centre))
    inner = np.exp(1j * w * np.arange(_LENGTH))
    return np.asarray((np.outer(outer.real, inner.real) - np.outer(outer.imag, inner.imag)).ravel()[:frames])


def _turns(places: NDArray[np.int64], w: Samples) -> Complex:
    """exp(-j w n) (places, lines)."""
    return np.asarray(np.exp(-1j * np.outer(places, w)))
