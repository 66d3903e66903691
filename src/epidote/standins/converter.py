"""The converters of a sound interface: full scale, noise, distortion of their own, band limit, latency, quantisation
with dither.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples
from epidote.standins.filters import Spectral, converter_band, first_order_high_pass

_SINE_PEAK = 2**0.5


@dataclass(frozen=True)
class Converter:
    """full_scale: RMS volts of a full-scale sine.

    noise: RMS over half the rate re full scale, in dB; second, third: re full scale, per unit.
    """

    full_scale: float
    noise_db: float = -112.0
    second: float = 1.2e-6
    third: float = 2.0e-6
    latency: float = 31.0
    coupling: float = 0.6
    offset: float = 0.0
    bits: int = 24

    def _quantised(self, x: Samples, rng: np.random.Generator) -> Samples:
        """Return samples rounded to the converter's steps with triangular dither of two steps, clipped at its ends."""
        steps = 2.0 ** (self.bits - 1)
        dither = rng.random(x.shape)
        dither -= rng.random(x.shape)
        return np.asarray(np.clip(np.round(x * steps + dither), -steps, steps - 1) / steps)

    def _own_noise(self, shape: tuple[int, ...], rng: np.random.Generator) -> Samples:
        return np.asarray(rng.standard_normal(shape) * (10 ** (self.noise_db / 20) / _SINE_PEAK))

    def _bent(self, x: Samples) -> Samples:
        return np.asarray(x + x * x * (self.second + self.third * x))

    def to_volts(self, numbers: Samples, rate: float, rng: np.random.Generator) -> Samples:
        """Numbers (frames, channels) in FS to volts."""
        x = self._bent(self._quantised(np.clip(numbers, -1, 1), rng))
        spectral = Spectral(x + self._own_noise(x.shape, rng), rate, 0.2)
        return spectral.times(converter_band(spectral.f, rate, self.latency)).samples() * (self.full_scale * _SINE_PEAK)

    def to_numbers(self, volts: Samples, rate: float, rng: np.random.Generator) -> Samples:
        """Volts (frames, channels) to numbers in FS; clips at full scale."""
        spectral = Spectral(volts / (self.full_scale * _SINE_PEAK), rate, 0.5)
        f = spectral.f
        x = spectral.times(converter_band(f, rate, self.latency) * first_order_high_pass(f, self.coupling)).samples()
        return self._quantised(self._bent(x) + self._own_noise(x.shape, rng) + self.offset, rng)
