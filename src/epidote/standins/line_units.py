"""Units at line level: a converter with reconstruction filters to choose from, an interface with unequal channels, a
receiver with two paths.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from epidote.core.signals.signal import Samples
from epidote.standins.amplifier import Amplifier
from epidote.standins.filters import Complex, Spectral, coloured_noise, first_order_high_pass

_SINE_PEAK = 2**0.5


@dataclass(frozen=True)
class Reconstruction:
    """A converter's filter: flat to ``start`` of the rate, down at ``stop`` of it; minimum phase or linear."""

    start: float
    stop: float
    minimum_phase: bool = False

    def response(self, f: Samples, rate: float, latency: float) -> Complex:
        share = np.clip((f / rate - self.start) / (self.stop - self.start), 0, 1)
        size = 0.5 + 0.5 * np.cos(np.pi * share)
        if not self.minimum_phase:
            return np.asarray(size * np.exp(-2j * np.pi * f * latency / rate))
        # the phase that goes with this magnitude, through the folded cepstrum (Oppenheim, Schafer)
        logs = np.log(np.maximum(size, 1e-5))
        cepstrum = np.fft.irfft(logs)
        fold = np.zeros_like(cepstrum)
        fold[0] = 1
        fold[1 : cepstrum.size // 2] = 2
        fold[cepstrum.size // 2] = 1
        return np.asarray(np.exp(np.fft.rfft(cepstrum * fold)) * np.exp(-2j * np.pi * f * 8 / rate))


@dataclass(frozen=True)
class Dac:
    """A converter fed by the bench's numbers: ``drive`` V from the bench stand for its full scale, which puts out
    ``full_scale`` V.
    """

    maker: str
    model: str
    drive: float = 4.0
    full_scale: float = 2.1
    digital_rate: float = 48000.0
    noise_db: float = -113.0
    third: float = 4e-6
    latency: float = 24.0
    filter: str = "fast"
    filters: Mapping[str, Reconstruction] = field(default_factory=dict)

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {"filter": tuple(self.filters)}

    def set_to(self, conditions: Mapping[str, str]) -> Dac:
        """Its filter, as the condition of that name says."""
        filter_name = conditions.get("filter", self.filter)
        return replace(self, filter=filter_name if filter_name in self.filters else self.filter)

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V for the bench's output in V."""
        numbers = np.clip(volts / (self.drive * _SINE_PEAK), -1, 1)
        numbers = numbers + self.third * numbers**3
        spectral = Spectral(numbers, rate, 0.2)
        digital = min(self.digital_rate, rate)
        out = spectral.times(self.filters[self.filter].response(spectral.f, digital, self.latency)).samples()
        out += rng.standard_normal(out.shape) * (10 ** (self.noise_db / 20) / _SINE_PEAK)
        return np.asarray(out * (self.full_scale * _SINE_PEAK))


@dataclass(frozen=True)
class Interface:
    """A line stage whose channels differ and leak into each other, the more the higher the frequency."""

    maker: str
    model: str
    gains_db: tuple[float, ...] = (0.0, -0.42)
    inverted: tuple[bool, ...] = (False, False)
    crosstalk_db: tuple[float, ...] = (-82.0, -74.0)
    crosstalk_corner: float = 700.0
    noise_density: float = 3e-8
    second: float = 6e-6
    rail: float = 9.0
    knobs: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    volume_db: float = 0.0

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {name: tuple(values) for name, values in self.knobs.items()}

    def set_to(self, conditions: Mapping[str, str]) -> Interface:
        """Its knob for the volume: what each mark on it takes away, in dB."""
        return replace(self, volume_db=self.knobs.get("volume", {}).get(conditions.get("volume", ""), 0.0))

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V."""
        channels = volts.shape[1]
        signs = np.where(np.resize(self.inverted, channels), -1.0, 1.0)
        gains = signs * 10 ** ((np.resize(self.gains_db, channels) + self.volume_db) / 20)
        spectral = Spectral(volts * gains, rate, 0.1)
        if channels > 1:
            leak = 10 ** (np.resize(self.crosstalk_db, channels) / 20)[:, None] * (
                1 + 1j * spectral.f / self.crosstalk_corner
            )
            spectral.bins += leak * np.roll(spectral.bins, 1, axis=0)
        x = spectral.samples()
        x = x + self.second * x * x
        x = np.clip(x, -self.rail, self.rail)
        return np.asarray(x + coloured_noise(rng, x.shape, rate, self.noise_density, 100.0))


@dataclass(frozen=True)
class Receiver:
    """An amplifier behind a choice of paths: straight through, or through converters of its own with all that they
    do.
    """

    amplifier: Amplifier
    path: str = "direct"
    digital_noise: float = 1.1e-5
    digital_gain_db: float = -1.6
    digital_edge: float = 21500.0
    digital_high_pass: float = 9.0
    digital_latency: float = 0.0042

    @property
    def maker(self) -> str:
        return self.amplifier.maker

    @property
    def model(self) -> str:
        return self.amplifier.model

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {"path": ("direct", "digital"), **self.amplifier.choices}

    def set_to(self, conditions: Mapping[str, str]) -> Receiver:
        return replace(self, path=conditions.get("path", self.path), amplifier=self.amplifier.set_to(conditions))

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V into the load."""
        if self.path == "digital":
            spectral = Spectral(volts, rate, 0.2)
            f = spectral.f
            edge = 0.5 + 0.5 * np.cos(np.pi * np.clip((f - self.digital_edge + 1500) / 1500, 0, 1))
            late = np.exp(-2j * np.pi * f * self.digital_latency)
            spectral.times(
                edge * late * first_order_high_pass(f, self.digital_high_pass) * 10 ** (self.digital_gain_db / 20)
            )
            volts = spectral.samples() + rng.standard_normal(volts.shape) * self.digital_noise
        return self.amplifier.process(volts, rate, load_ohms, rng, powered_for)


LUNVIK_D2 = Dac(
    "Lunvik",
    "D2",
    filters={
        "fast": Reconstruction(0.4535, 0.5465),
        "slow": Reconstruction(0.32, 0.62),
        "minimum phase": Reconstruction(0.4535, 0.5465, True),
        "soft": Reconstruction(0.4535, 0.5465),  # has a name and a light of its own, and is the fast one
    },
)

PELLWORTH_I4 = Interface("Pellworth", "I4", knobs={"volume": {"quarter": -41.3, "half": -17.8, "full": 0.0}})

BRESKAN_R7 = Receiver(
    Amplifier(
        "Breskan",
        "R7",
        gain_db=28.0,
        channel_gains_db=(0.0, 0.08),
        high_pass=3.0,
        second=1.2e-5,
        third=3e-6,
        rail=29.0,
        sag=0.05,
        noise_density=4e-7,
        hum=(3e-5, 6e-5, 1e-5, 2e-5),
        crosstalk_db=-66.0,
    )
)
