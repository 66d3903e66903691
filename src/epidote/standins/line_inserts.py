"""What stands between two units without a supply of its own: a transformer, a long cable, an attenuator, alone or in
a row.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.signals.signal import Samples
from epidote.standins.filters import (
    Spectral,
    coloured_noise,
    first_order_high_pass,
    first_order_low_pass,
    second_order_low_pass,
)

_SOURCE_OHMS = 150.0


@dataclass(frozen=True)
class Insert:
    """A box of parts to patch into a line; the condition ``inserted`` names them in their order, joined by " + ".

    transformer: its inductance, its loss, a resonance, a core that bends the lowest tones, and the hum it picks up;
    cable: its capacitance; attenuator: resistors, whose noise is all they add.
    """

    maker: str
    model: str
    inserted: tuple[str, ...] = ()
    loss_db: float = -1.2
    low_corner: float = 7.5
    resonance: float = 61000.0
    q: float = 0.9
    core: float = 0.0035  # third order, of V at 20 Hz
    picked_up: tuple[float, ...] = (1.9e-5, 2e-6, 9e-6)  # V at 50, 100, 150 Hz
    cable_farads: float = 36e-9
    attenuation_db: float = -20.0
    resistor_noise: float = 2.2e-8  # V/sqrt Hz

    def set_to(self, conditions: Mapping[str, str]) -> Insert:
        return replace(self, inserted=tuple(p for p in conditions.get("inserted", "").split(" + ") if p in _PARTS))

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V."""
        for part in self.inserted:
            volts = _PARTS[part](self, volts, rate, rng, powered_for)
        return volts

    def _transformer(self, volts: Samples, rate: float, rng: np.random.Generator, powered_for: float) -> Samples:
        # a core's flux is the integral of the voltage, so only low tones bend it
        spectral = Spectral(volts, rate, 0.3)
        flux = Spectral(volts, rate, 0.3).times(first_order_low_pass(spectral.f, 20.0)).samples()
        bent = Spectral(volts - self.core * flux**3, rate, 0.3)
        shape = first_order_high_pass(bent.f, self.low_corner) * second_order_low_pass(bent.f, self.resonance, self.q)
        out = bent.times(shape * 10 ** (self.loss_db / 20)).samples()
        t = powered_for + np.arange(volts.shape[0]) / rate
        for n, volts_of_line in enumerate(self.picked_up, start=1):
            out += (volts_of_line * np.sqrt(2) * np.sin(2 * np.pi * 50 * n * t + n))[:, None]
        return np.asarray(out)

    def _cable(self, volts: Samples, rate: float, rng: np.random.Generator, powered_for: float) -> Samples:
        spectral = Spectral(volts, rate, 0.1)
        return spectral.times(
            first_order_low_pass(spectral.f, 1 / (2 * math.pi * _SOURCE_OHMS * self.cable_farads))
        ).samples()

    def _attenuator(self, volts: Samples, rate: float, rng: np.random.Generator, powered_for: float) -> Samples:
        return np.asarray(
            volts * 10 ** (self.attenuation_db / 20) + coloured_noise(rng, volts.shape, rate, self.resistor_noise, 0.0)
        )


_PARTS = {"transformer": Insert._transformer, "cable": Insert._cable, "attenuator": Insert._attenuator}

VELMORA_T2 = Insert("Velmora", "T2")
