"""Units that are late: a converter behind a digital link, an effects processor with two ways through it, a network
path on another clock.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.standins.filters import Complex, Spectral, coloured_noise


@dataclass(frozen=True)
class Link:
    """How an interface's blocks, driver and connection add up to a latency: ``blocks`` buffers, a safety offset by
    connection (frames at 48 kHz), and, one start in so many, a block more.
    """

    blocks: int = 1
    safety: Mapping[str, int] = field(default_factory=dict)
    jumps: float = 0.0

    def frames(self, buffer: int, rate: float, connection: str, rng: np.random.Generator) -> int:
        """Of this start of the stream."""
        safety = self.safety.get(connection, 0)
        if self.jumps and rng.random() < self.jumps:
            extra = buffer
        else:
            extra = 0
        return self.blocks * buffer + round(safety * rate / 48000) + extra


@dataclass(frozen=True)
class DigitalInsert:
    """Converters in and out behind a digital link: a fixed number of samples at the link's own rate, and their
    noise.
    """

    maker: str
    model: str
    samples_late: float = 63.0
    link_rate: float = 48000.0
    noise_density: float = 2.5e-8

    def set_to(self, conditions: Mapping[str, str]) -> DigitalInsert:
        return self

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V."""
        spectral = Spectral(volts, rate, 0.1)
        edge = np.clip((spectral.f / self.link_rate - 0.46) / 0.04, 0, 1)
        late: Complex = (0.5 + 0.5 * np.cos(np.pi * edge)) * np.exp(
            -2j * np.pi * spectral.f * self.samples_late / self.link_rate
        )
        return np.asarray(
            spectral.times(late).samples() + coloured_noise(rng, volts.shape, rate, self.noise_density, 0.0)
        )


@dataclass(frozen=True)
class Processor:
    """Dry and processed by two ways; ``output``: dry, processed, both in one, or split (dry left, processed right).

    ``depth``: s by which the processed way wavers, ``wavers_at`` times a second.
    """

    maker: str
    model: str
    output: str = "both"
    program: str = "steady"
    dry_late: float = 0.00131
    processed_late: float = 0.00914
    processed_db: float = -3.0
    depth: float = 0.0004
    wavers_at: float = 0.7
    noise_density: float = 4e-8

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {"output": ("both", "dry", "processed", "split"), "program": ("steady", "moving")}

    def set_to(self, conditions: Mapping[str, str]) -> Processor:
        return replace(
            self, output=conditions.get("output", self.output), program=conditions.get("program", self.program)
        )

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V."""
        spectral = Spectral(volts, rate, 0.1)
        dry = spectral.times(np.exp(-2j * np.pi * spectral.f * self.dry_late)).samples()
        wet = self._processed(volts, rate, powered_for)
        out = {"dry": dry, "processed": wet, "split": np.column_stack([dry[:, 0], wet[:, -1]])}.get(
            self.output, dry + wet
        )
        return np.asarray(out + coloured_noise(rng, out.shape, rate, self.noise_density, 0.0))

    def _processed(self, volts: Samples, rate: float, powered_for: float) -> Samples:
        gain = 10 ** (self.processed_db / 20)
        spectral = Spectral(volts, rate, 0.1)
        if self.program != "moving":
            return np.asarray(spectral.times(gain * np.exp(-2j * np.pi * spectral.f * self.processed_late)).samples())
        from scipy.ndimage import map_coordinates

        # eight times the rate, so that a spline between samples is clean over the band
        fine = spectral.oversampled(8)
        t = np.arange(volts.shape[0])
        late = (self.processed_late + self.depth * np.sin(2 * np.pi * self.wavers_at * (powered_for + t / rate))) * rate
        places = np.clip((t - late) * 8, 0, fine.shape[1] - 1)
        return np.column_stack([gain * map_coordinates(row, [places], order=3, mode="nearest") for row in fine])


@dataclass(frozen=True)
class NetworkPath:
    """Sound over a network: late by its buffer, received on a clock of its own; the second channel, as the first goes
    by wire.
    """

    maker: str
    model: str
    late: float = 0.0427
    ppm: float = 38.0
    noise_density: float = 3e-8

    def set_to(self, conditions: Mapping[str, str]) -> NetworkPath:
        return self

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V: the last channel by the network."""
        out = volts.copy()
        out[:, -1] = resample(volts[:, -1], 1 - self.ppm * 1e-6, -self.late * rate, volts.shape[0])
        return np.asarray(out + coloured_noise(rng, volts.shape, rate, self.noise_density, 0.0))


TOLMARK_X1 = DigitalInsert("Tolmark", "X1")
FERRIN_V9 = Processor("Ferrin", "V9")
OSKELL_N3 = NetworkPath("Oskell", "N3")
SORVANE_L8 = Link(blocks=2, safety={"short": 24, "long": 88}, jumps=0.25)
