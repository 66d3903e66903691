"""A power amplifier: gain, corners, non-linearity that grows with frequency, a supply that clips and sags, noise,
hum, crosstalk.

Its kinds differ by what they lack: loop gain at low frequencies, bias, or, in a switching amplifier, quiet above the
audio band.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import scipy.fft

from epidote.core.signals.signal import Samples
from epidote.standins.filters import Spectral, coloured_noise, first_order_high_pass, second_order_low_pass

OVERSAMPLING = 4
_UNSEEN = 1e-8
_TIME_CONSTANTS = 14  # of the high-pass, after which 1e-6 of what it does to an end is left
_MOST_ROOM = 1.0  # s
_LOOP_TURNS = 12.0  # Hz below which a loop that is short of gain gets no worse


@dataclass(frozen=True)
class Amplifier:
    """All voltages in V at the output.

    second and third: relative distortion per volt and per volt²; knobs change fields by name.

    low_corner: below it distortion grows as loop gain is short, 0: it is not; dead_zone: V by which the output stage
    hesitates at the crossover; noise_rise: Hz above which a switching amplifier's noise grows by 12 dB per octave, 0:
    it does not; carrier: (Hz, V) of what its output filter leaves.
    """

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
    low_corner: float = 0.0
    dead_zone: float = 0.0
    rail: float = 27.0
    sag: float = 0.02
    hardness: int = 30
    noise_density: float = 2e-7
    noise_corner: float = 200.0
    noise_rise: float = 0.0
    carrier: tuple[float, float] = (0.0, 0.0)
    hum: tuple[float, ...] = (2e-5, 3e-5, 5e-6, 8e-6)
    mains: float = 50.0
    crosstalk_db: float = -85.0
    crosstalk_corner: float = 1500.0
    output_ohms: float = 0.04
    warm_up_db: float = 0.004
    warm_up_seconds: float = 240.0
    knobs: Mapping[str, Mapping[str, Mapping[str, float]]] = field(default_factory=dict)

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {name: tuple(values) for name, values in self.knobs.items()}

    def set_to(self, conditions: Mapping[str, str]) -> Amplifier:
        """Return the amplifier with its knobs as the conditions say ("gain": "low"); conditions that are no knob leave
        it alone.
        """
        changes: dict[str, float] = {}
        for name, value in conditions.items():
            changes.update(self.knobs.get(name, {}).get(value, {}))
        return replace(self, **changes)  # type: ignore[arg-type]

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V into the load for an input in V.

        ``powered_for``: seconds since it was switched on.
        """
        signal = Spectral(volts, rate, min(_MOST_ROOM, _TIME_CONSTANTS / (2 * np.pi * self.high_pass)))
        f = signal.f
        channels = volts.shape[1]
        gains = 10 ** ((self.gain_db + np.resize(self.channel_gains_db, channels)) / 20)
        gains = gains * 10 ** (self.warm_up_db * math.exp(-powered_for / self.warm_up_seconds) / 20)
        signal.bins *= gains[:, None]
        signal.times(first_order_high_pass(f, self.high_pass))
        inner = signal.oversampled(OVERSAMPLING)
        driven = np.clip(inner, -self.rail, self.rail)
        residue = driven * driven
        residue *= self.second + self.third * driven
        # the loop has less gain to spare at high frequencies
        spectrum = scipy.fft.rfft(residue, overwrite_x=True)[:, : f.size] / OVERSAMPLING
        clipped = signal.take(self._clip(inner, rate * OVERSAMPLING, load_ohms), OVERSAMPLING)
        clipped.bins += spectrum * (1 + 1j * f / self.distortion_corner + self.low_corner / (1j * f + _LOOP_TURNS))
        clipped.times(second_order_low_pass(f, self.low_pass, self.low_pass_q))
        if channels > 1:
            leak = 10 ** (self.crosstalk_db / 20) * (1 + 1j * f / self.crosstalk_corner)
            clipped.bins += leak * np.roll(clipped.bins, 1, axis=0)
        output = clipped.samples()
        output += self._noise(output.shape, rate, rng)
        output += self._carrier(output.shape[0], rate, powered_for)[:, None]
        output += self._hum(output.shape[0], rate, powered_for)[:, None]
        return np.asarray(output * (load_ohms / (load_ohms + self.output_ohms)))

    def _clip(self, v: Samples, rate: float, load_ohms: float) -> Samples:
        """Return the supply's limit, softened a little, and sagging with the current drawn over the last hundredths of
        a second.
        """
        if self.dead_zone:
            v = v - self.dead_zone * np.tanh(v / self.dead_zone)
        block = max(1, round(0.02 * rate))
        frames = v.shape[1]
        count = -(-frames // block)
        drawn = np.sqrt(np.add.reduceat(np.square(v).mean(axis=0), np.arange(count) * block) / block) / load_ohms
        rail = self.rail - self.sag * self.rail * np.convolve(drawn, np.exp(-np.arange(12) / 4) / 4.2)[:count]
        # what this softly begins can be seen long before the rail
        if (float(np.abs(v).max()) / float(rail.min())) ** self.hardness < _UNSEEN:
            return v
        rails = np.interp(np.arange(frames), (np.arange(count) + 0.5) * block, np.maximum(rail, 0.3 * self.rail))
        share = np.minimum(np.abs(v) / rails, 1e6)
        return np.asarray(v * (1 + share**self.hardness) ** (-1 / self.hardness))

    def _noise(self, shape: tuple[int, int], rate: float, rng: np.random.Generator) -> Samples:
        plain = coloured_noise(rng, shape, rate, self.noise_density, self.noise_corner)
        if not self.noise_rise:
            return plain
        spectral = Spectral(plain, rate, 0.0)
        return spectral.times((1 + (spectral.f / self.noise_rise) ** 2).astype(np.complex128)).samples()

    def _carrier(self, frames: int, rate: float, since: float) -> Samples:
        """As far as the converter's rate can see it."""
        frequency, volts = self.carrier
        if not volts or frequency >= rate / 2:
            return np.zeros(frames)
        t = since + np.arange(frames) / rate
        return np.asarray(volts * math.sqrt(2) * np.sin(2 * np.pi * frequency * t + 0.3 * np.sin(2 * np.pi * 3.1 * t)))

    def _hum(self, frames: int, rate: float, since: float) -> Samples:
        """Return mains that wander a little about its frequency, as mains do, and goes on from one recording to the
        next.
        """
        t = since + np.arange(frames) / rate
        phase = 2 * np.pi * self.mains * t + 0.9 * np.sin(2 * np.pi * t / 47.0) + 1.0
        return np.asarray(sum(a * np.sin(n * phase) for n, a in enumerate(self.hum, start=1)))


OSTREL_P40 = Amplifier(
    "Ostrel",
    "P40",
    gain_db=26.0,
    second=2.2e-6,
    third=5e-7,
    rail=27.2,
    noise_density=1.6e-7,
    hum=(9e-6, 1.4e-5, 3e-6, 4e-6),
    knobs={"gain": {"high": {"gain_db": 26.0}, "low": {"gain_db": 14.0, "noise_density": 9e-8, "second": 1.6e-6}}},
)

HAVELMAR_A25 = Amplifier(
    "Havelmar",
    "A25",
    gain_db=25.4,
    channel_gains_db=(0.0, 0.14),
    high_pass=11.0,
    low_pass=31000.0,
    low_pass_q=0.62,
    second=9e-5,
    third=6e-6,
    distortion_corner=9000.0,
    rail=32.5,
    sag=0.045,
    hardness=14,
    noise_density=9e-7,
    noise_corner=600.0,
    hum=(2.2e-4, 3.6e-4, 5e-5, 1.1e-4),
    crosstalk_db=-68.0,
    output_ohms=0.32,
    warm_up_db=0.03,
    warm_up_seconds=420.0,
)

TAMSEL_C12 = Amplifier(
    "Tamsel",
    "C12",
    gain_db=24.0,
    channel_gains_db=(0.0, 0.05),
    high_pass=7.0,
    low_pass=52000.0,
    second=2.4e-4,
    third=2.2e-5,
    low_corner=160.0,
    distortion_corner=15000.0,
    rail=21.0,
    sag=0.03,
    hardness=5,
    noise_density=7e-7,
    hum=(6e-5, 1.6e-4, 2e-5, 5e-5),
    crosstalk_db=-72.0,
    output_ohms=0.6,
    warm_up_db=0.02,
)

ORVANE_K3 = Amplifier(
    "Orvane",
    "K3",
    gain_db=26.0,
    second=6e-6,
    third=1e-6,
    rail=25.5,
    noise_density=3e-7,
    hum=(2e-5, 3e-5, 5e-6, 1e-5),
    dead_zone=0.006,
    crosstalk_db=-80.0,
    knobs={"bias": {"cold": {"dead_zone": 0.006}, "warm": {"dead_zone": 0.0002}}},
)

QUILLMAR_S60 = Amplifier(
    "Quillmar",
    "S60",
    gain_db=26.0,
    high_pass=2.0,
    low_pass=45000.0,
    low_pass_q=0.9,
    second=1.5e-6,
    third=2e-7,
    distortion_corner=3000.0,
    rail=31.5,
    sag=0.004,
    hardness=60,
    noise_density=6e-7,
    noise_corner=30.0,
    noise_rise=21000.0,
    carrier=(88200.0, 0.022),
    hum=(0.0,),
    crosstalk_db=-96.0,
    output_ohms=0.015,
    warm_up_db=0.001,
)
