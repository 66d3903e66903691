"""Filters by their analytic responses, applied to whole signals in the frequency domain: no warping enters a
stand-in.
"""

from __future__ import annotations

import numpy as np
import scipy.fft
from numpy.typing import NDArray

from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

Complex = NDArray[np.complex128]


def first_order_high_pass(f: Samples, corner: float) -> Complex:
    """Return the response of a first-order high-pass at f in Hz (n,)."""
    s = 1j * f / corner
    return np.asarray(s / (1 + s))


def first_order_low_pass(f: Samples, corner: float) -> Complex:
    """Return the response of a first-order low-pass at f in Hz (n,)."""
    return np.asarray(1 / (1 + 1j * f / corner))


def second_order_low_pass(f: Samples, corner: float, q: float) -> Complex:
    """Return the response of a second-order low-pass of quality q at f in Hz (n,)."""
    s = 1j * f / corner
    return np.asarray(1 / (1 + s / q + s * s))


def converter_band(f: Samples, rate: float, latency: float) -> Complex:
    """Return a linear-phase band limit that turns between 0.46 and 0.5 of the rate, ``latency`` samples late."""
    share = np.clip((f / rate - 0.46) / 0.04, 0, 1)
    return np.asarray((0.5 + 0.5 * np.cos(np.pi * share)) * np.exp(-2j * np.pi * f * latency / rate))


class Spectral:
    """A signal (frames, channels) as its spectrum (channels, bins), with room after it for what a filter adds."""

    def __init__(self, x: Samples, rate: float, room: float = 1.0) -> None:
        self.frames, self.rate = x.shape[0], rate
        self.size = even_fast_len(x.shape[0] + round(room * rate))  # even, so that its last bin is real
        self.bins: Complex = scipy.fft.rfft(np.ascontiguousarray(x.T), self.size)

    @property
    def f(self) -> Samples:
        return np.asarray(scipy.fft.rfftfreq(self.size, 1 / self.rate))

    def times(self, response: Complex) -> Spectral:
        self.bins *= response
        return self

    def oversampled(self, factor: int) -> Samples:
        """Return the signal (channels, frames) at ``factor`` times the rate, its room included."""
        wide = np.zeros((self.bins.shape[0], self.size * factor // 2 + 1), complex)
        np.multiply(self.bins, factor, out=wide[:, : self.bins.shape[1]])
        return np.asarray(scipy.fft.irfft(wide, self.size * factor, overwrite_x=True))

    def take(self, oversampled: Samples, factor: int) -> Spectral:
        """Replace the signal by one (channels, frames) at ``factor`` times the rate, band-limited to half the rate."""
        self.bins = scipy.fft.rfft(oversampled, overwrite_x=True)[:, : self.bins.shape[1]] / factor
        return self

    def samples(self) -> Samples:
        return np.ascontiguousarray(scipy.fft.irfft(self.bins, self.size)[:, : self.frames].T, dtype=np.float64)


def coloured_noise(
    rng: np.random.Generator, shape: tuple[int, int], rate: float, density: float, corner: float
) -> Samples:
    """Noise (frames, channels): white at ``density`` (V/sqrt Hz) above ``corner`` Hz, rising as 1/f in power below
    it.
    """
    white: Samples = rng.standard_normal(shape) * (density * np.sqrt(rate / 2))
    if corner <= 0:
        return white
    spectral = Spectral(white, rate, 0.0)
    shape_ = np.sqrt(1 + corner / np.maximum(spectral.f, 1.0)).astype(np.complex128)
    return spectral.times(shape_).samples()
