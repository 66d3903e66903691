"""Resampling of analysis data: a windowed sinc on twice the rate, which leaves less than 1e-7."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples, as_readonly

_CHUNK, _DEGREE = 4096, 11
_PAD = 64
_TAPS, _BETA = 28, 18.0  # at twice the rate; the kernel of Barnett, Magland, af Klinteberg 2019 as a window
_MARGIN = _PAD + _TAPS


class Resampler:
    """X (n,) on twice its rate, read as often as needed; what lies outside x is 0.

    step: the greatest that it is read at; above half of the new rate, x is cut.
    """

    def __init__(self, x: Samples, step: float = 1.0) -> None:
        self._frames = x.size
        size = even_fast_len(x.size + 2 * _PAD)
        spectrum = transforms.rfft(np.concatenate([np.zeros(_PAD), x]), size)
        if step > 1.001:
            keep = math.floor(0.5 / step * size)
            roll = max(2, keep // 50)
            spectrum[keep:] = 0
            spectrum[keep - roll : keep] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(roll) + 0.5) / roll)
        wide = np.zeros(size + 1, complex)
        wide[: spectrum.size] = 2 * spectrum
        wide[size // 2] /= 2
        fine = np.zeros(2 * size + 2 * _MARGIN)  # with silence, so that every window lies within what is read
        fine[_MARGIN:-_MARGIN] = transforms.irfft(wide, 2 * size, overwrite_x=True)
        self._windows = sliding_window_view(fine, _TAPS)

    def read(self, step: float, start: float, frames: int) -> Samples:
        """Return x at start + step·m, m < frames, in its own frames: (frames,)."""
        weights = _kernel_weights()
        out = np.zeros(frames)
        for first in range(0, frames, _CHUNK):
            m = np.arange(first, min(first + _CHUNK, frames))
            place = 2 * (start + step * m + _PAD)
            whole = np.floor(place).astype(int)
            # read beyond the record there is nothing
            inside = (place >= 2 * _PAD - _TAPS) & (place <= 2 * (_PAD + self._frames) + _TAPS)
            rows = np.where(inside, whole + _MARGIN - _TAPS // 2 + 1, 0)
            by_power = weights @ self._windows[rows].T
            out[m] = np.where(inside, _horner(by_power, 2 * (place - whole) - 1), 0.0)
        return out


def resample(x: Samples, step: float, start: float, frames: int) -> Samples:
    """X (n,) read at start + step·m, m < frames, in its own frames: (frames,).

    What lies outside x is 0; above half of the new rate, cut.
    """
    return Resampler(x, step).read(step, start, frames)


@lru_cache(maxsize=1)
def _kernel_weights() -> Samples:
    """Return the kernel as polynomials (powers, the highest first; taps) of where between two frames, from -1 to 1.

    A polynomial of the 11th degree for each tap leaves less than 1e-9 of the kernel itself, and is a matrix product
    instead of thousands of sines.
    """
    reach = _TAPS // 2
    nodes = np.cos(np.pi * (np.arange(4 * _DEGREE) + 0.5) / (4 * _DEGREE))
    part = (nodes[:, None] + 1) / 2 - np.arange(-reach + 1, reach + 1)[None, :]
    inside = np.maximum(1 - (part / (reach + 0.001)) ** 2, 0)
    kernel = np.sinc(part) * np.exp(_BETA * (np.sqrt(inside) - 1))
    fitted = np.polynomial.chebyshev.chebfit(nodes, kernel, _DEGREE)
    powers = [np.polynomial.chebyshev.cheb2poly(fitted[:, tap]) for tap in range(_TAPS)]
    return as_readonly(np.ascontiguousarray(np.array(powers).T[::-1]))


def _horner(by_power: Samples, t: Samples) -> Samples:
    """Return polynomials (powers, the highest first; frames) at t (frames,)."""
    value: Samples = by_power[0].copy()
    for term in by_power[1:]:
        value *= t
        value += term
    return value
