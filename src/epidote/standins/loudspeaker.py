"""A loudspeaker as its terminals see it: voice coil, its losses, and the resonance of the cone (Thiele, Small),
behind a series resistor.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals.signal import Samples
from epidote.standins.filters import Spectral, coloured_noise


@dataclass(frozen=True)
class Loudspeaker:
    """dc_ohms, coil_henries: voice coil.

    Resonance in Hz with its mechanical and electrical Q; series_ohms: the resistor in the line.
    """

    maker: str
    model: str
    dc_ohms: float = 5.6
    coil_henries: float = 0.00042
    resonance: float = 74.0
    q_mechanical: float = 3.8
    q_electrical: float = 0.52
    series_ohms: float = 10.0
    noise_density: float = 3e-9

    def set_to(self, conditions: Mapping[str, str]) -> Loudspeaker:
        """Return the loudspeaker itself, which has no knobs."""
        return self

    def impedance(self, f: Samples) -> NDArray[np.complex128]:
        """Ω at f in Hz. The motional branch peaks at dc_ohms Qms / Qes above the coil's resistance (Small 1972)."""
        with np.errstate(divide="ignore", invalid="ignore"):
            detuned = np.where(f > 0, f / self.resonance - self.resonance / np.maximum(f, 1e-9), -1e12)
        peak = self.dc_ohms * self.q_mechanical / self.q_electrical
        return np.asarray(
            self.dc_ohms + 2j * np.pi * f * self.coil_henries + peak / (1 + 1j * self.q_mechanical * detuned)
        )

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """(frames, 2): the voltage before the resistor, and that behind it at the terminals, for what the first
        output gives.
        """
        drive = np.ascontiguousarray(volts[:, :1])
        spectral = Spectral(drive, rate)
        z = self.impedance(spectral.f)
        behind = spectral.times(z / (z + self.series_ohms)).samples()
        out = np.concatenate([drive, behind], axis=1)
        return np.asarray(out + coloured_noise(rng, out.shape, rate, self.noise_density, 0.0))


DOME_SPEAKER = Loudspeaker("Kelwin", "D6")
