"""A power amplifier: gain, corners, non-linearity that grows with frequency, a supply that clips and sags, noise, hum, crosstalk."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import scipy.fft

from epidote.core.signal import Samples
from epidote.standins.filters import Spectral, coloured_noise, first_order_high_pass, second_order_low_pass

OVERSAMPLING = 4


@dataclass(frozen=True)
class Amplifier:
    """All voltages in V at the output. second and third: relative distortion per volt and per volt²; knobs change fields by name."""

    maker: str
    model: str
    gain_db: float = 26.0
    channel_gains_db: tuple[float, ...] = (0.0, -0.03)
    high_pass: float = 4.0
    low_pass: float = 90000.0
    low_pass_q: float = 0.6
    second: float = 2e-5
    third: float = 4e-6
    distortion_corner: float = 4000.0
    rail: float = 27.0
    sag: float = 0.02
    hardness: int = 30
    noise_density: float = 2e-7
    noise_corner: float = 200.0
    hum: tuple[float, ...] = (2e-5, 3e-5, 5e-6, 8e-6)
    mains: float = 50.0
    crosstalk_db: float = -85.0
    crosstalk_corner: float = 1500.0
    output_ohms: float = 0.04
    warm_up_db: float = 0.004
    warm_up_seconds: float = 240.0
    knobs: Mapping[str, Mapping[str, Mapping[str, float]]] = field(default_factory=dict)

    def set_to(self, conditions: Mapping[str, str]) -> Amplifier:
        """The amplifier with its knobs as the conditions say ("gain": "low"); conditions that are no knob leave it alone."""
        changes: dict[str, float] = {}
        for name, value in conditions.items():
            changes.update(self.knobs.get(name, {}).get(value, {}))
        return replace(self, **changes)  # type: ignore[arg-type]

    def process(self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float) -> Samples:
        """Output (frames, channels) in V into the load for an input in V; ``powered_for``: seconds since it was switched on."""
        signal = Spectral(volts, rate)
        f = signal.f
        channels = volts.shape[1]
        gains = 10 ** ((self.gain_db + np.resize(self.channel_gains_db, channels)) / 20)
        gains = gains * 10 ** (self.warm_up_db * math.exp(-powered_for / self.warm_up_seconds) / 20)
        signal.bins *= gains[:, None]
        signal.times(first_order_high_pass(f, self.high_pass))
        inner = signal.oversampled(OVERSAMPLING)
        residue = inner * inner
        residue *= self.second + self.third * inner
        # the loop has less gain to spare at high frequencies
        spectrum = scipy.fft.rfft(residue, overwrite_x=True)[:, : f.size] / OVERSAMPLING
        clipped = signal.take(self._clip(inner, rate * OVERSAMPLING, load_ohms), OVERSAMPLING)
        clipped.bins += spectrum * (1 + 1j * f / self.distortion_corner)
        clipped.times(second_order_low_pass(f, self.low_pass, self.low_pass_q))
        if channels > 1:
            leak = 10 ** (self.crosstalk_db / 20) * (1 + 1j * f / self.crosstalk_corner)
            clipped.bins += leak * np.roll(clipped.bins, 1, axis=0)
        output = clipped.samples()
        output += coloured_noise(rng, output.shape, rate, self.noise_density, self.noise_corner)
        output += self._hum(output.shape[0], rate, powered_for)[:, None]
        return np.asarray(output * (load_ohms / (load_ohms + self.output_ohms)))

    def _clip(self, v: Samples, rate: float, load_ohms: float) -> Samples:
        """The supply's limit, softened a little, and sagging with the current drawn over the last hundredths of a second."""
        block = max(1, round(0.02 * rate))
        frames = v.shape[1]
        count = -(-frames // block)
        drawn = np.sqrt(np.add.reduceat(np.square(v).mean(axis=0), np.arange(count) * block) / block) / load_ohms
        rail = self.rail - self.sag * self.rail * np.convolve(drawn, np.exp(-np.arange(12) / 4) / 4.2)[:count]
        if float(np.abs(v).max()) < 0.6 * float(rail.min()):
            return v
        rails = np.interp(np.arange(frames), (np.arange(count) + 0.5) * block, np.maximum(rail, 0.3 * self.rail))
        share = np.minimum(np.abs(v) / rails, 1e6)
        return np.asarray(v * (1 + share**self.hardness) ** (-1 / self.hardness))

    def _hum(self, frames: int, rate: float, since: float) -> Samples:
        """The mains wanders a little about its frequency, as mains do, and goes on from one recording to the next."""
        t = since + np.arange(frames) / rate
        phase = 2 * np.pi * self.mains * t + 0.9 * np.sin(2 * np.pi * t / 47.0) + 1.0
        return np.asarray(sum(a * np.sin(n * phase) for n, a in enumerate(self.hum, start=1)))


OSTREL_P40 = Amplifier(
    "Ostrel", "P40", gain_db=26.0, second=2.2e-6, third=5e-7, rail=27.2, noise_density=1.6e-7, hum=(9e-6, 1.4e-5, 3e-6, 4e-6),
    knobs={"gain": {"high": {"gain_db": 26.0}, "low": {"gain_db": 14.0, "noise_density": 9e-8, "second": 1.6e-6}}},
)  # fmt: skip

HAVELMAR_A25 = Amplifier(
    "Havelmar", "A25", gain_db=25.4, channel_gains_db=(0.0, 0.14), high_pass=11.0, low_pass=31000.0, low_pass_q=0.62, second=9e-5, third=6e-6,
    distortion_corner=9000.0, rail=32.5, sag=0.045, hardness=14, noise_density=9e-7, noise_corner=600.0, hum=(2.2e-4, 3.6e-4, 5e-5, 1.1e-4),
    crosstalk_db=-68.0, output_ohms=0.32, warm_up_db=0.03, warm_up_seconds=420.0,
)  # fmt: skip
