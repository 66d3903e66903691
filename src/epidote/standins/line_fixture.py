"""A fixture on a line: one amplifier after the other of one make, each as its serial number has it.

They scatter as parts do; three are faulty, each in another way, and the fixture's contacts wear.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from epidote.core.signals.signal import Samples
from epidote.standins.amplifier import Amplifier

_NUMBER = re.compile(r"(\d+)\D*$")

OSTREL_H20 = Amplifier(
    "Ostrel",
    "H20",
    gain_db=18.0,
    channel_gains_db=(0.0, 0.0),
    high_pass=6.0,
    low_pass=70000.0,
    second=4e-5,
    third=8e-6,
    rail=16.0,
    noise_density=1.5e-7,
    hum=(6e-6, 9e-6, 2e-6, 3e-6),
    crosstalk_db=-82.0,
    output_ohms=0.06,
    warm_up_db=0.0,
)


def _hums(amplifier: Amplifier) -> Amplifier:
    """Leave out a supply capacitor."""
    return replace(amplifier, hum=(8e-4, 1.6e-3, 3e-4, 7e-4), noise_density=4 * amplifier.noise_density)


def _lacks_bass(amplifier: Amplifier) -> Amplifier:
    """Use a coupling capacitor of a tenth of its value."""
    return replace(amplifier, high_pass=10 * amplifier.high_pass)


def _distorts(amplifier: Amplifier) -> Amplifier:
    """Use a feedback resistor of a twentieth of its value: most of the loop gain is gone."""
    return replace(amplifier, second=20 * amplifier.second, third=4 * amplifier.third)


@dataclass(frozen=True)
class LineFixture:
    """faults: by the last two digits of the serial number; wear_db: gain that the contacts lose with each unit."""

    usual: Amplifier = OSTREL_H20
    faults: Mapping[int, Callable[[Amplifier], Amplifier]] = field(
        default_factory=lambda: {9: _hums, 17: _lacks_bass, 31: _distorts}
    )
    wear_db: float = 0.003
    serial: str = ""

    def set_to(self, conditions: Mapping[str, str]) -> LineFixture:
        """Return the fixture with the unit of the condition "serial" on it."""
        return replace(self, serial=conditions.get("serial", ""))

    @property
    def amplifier(self) -> Amplifier:
        """The unit on the fixture: drawn by its serial number, always the same."""
        seed = int.from_bytes(hashlib.sha256(self.serial.encode()).digest()[:8], "big")
        rng = np.random.default_rng(seed)
        match = _NUMBER.search(self.serial)
        number = int(match.group(1)) if match is not None else 0
        left, right = rng.normal(0.0, 0.06, 2)
        usual = self.usual
        drawn = replace(
            usual,
            gain_db=usual.gain_db - self.wear_db * (number % 1000),
            channel_gains_db=(float(left), float(right)),
            high_pass=usual.high_pass * float(np.exp(rng.normal(0, 0.08))),
            low_pass=usual.low_pass * float(np.exp(rng.normal(0, 0.05))),
            second=usual.second * float(np.exp(rng.normal(0, 0.15))),
            third=usual.third * float(np.exp(rng.normal(0, 0.15))),
            noise_density=usual.noise_density * float(np.exp(rng.normal(0, 0.06))),
        )
        fault = self.faults.get(number % 100)
        return drawn if fault is None else fault(drawn)

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V for an input in V; ``powered_for``: seconds since it was switched on."""
        return self.amplifier.process(volts, rate, load_ohms, rng, powered_for)
