"""A two-way loudspeaker on a stand before a wall, heard by a measuring microphone and a cheap one side by side.

Its distortion grows with the excursion of the cone, below its resonance; one of the two has a loose part that strikes
once a period when the cone moves far enough.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
import scipy.fft

from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples
from epidote.standins.filters import Complex, coloured_noise

SOUND = 343.2  # m/s


@dataclass(frozen=True)
class MicrophoneUnit:
    """sensitivity in V/Pa; bump: of its response at ``bump_at`` Hz in dB; noise: in Pa over half the rate; most: peak
    in Pa at which it is limited.
    """

    sensitivity: float
    bump_db: float = 0.0
    bump_at: float = 9000.0
    low_corner: float = 4.0
    noise: float = 5e-5
    most: float = 200.0

    def response(self, f: Samples) -> Complex:
        """Return its response re its sensitivity at f in Hz (points,)."""
        octaves = np.log2(np.maximum(f, 1.0) / self.bump_at)
        lifted = 10 ** (self.bump_db * np.exp(-0.5 * (octaves / 0.5) ** 2) / 20)
        s = 1j * f / self.low_corner
        return np.asarray(lifted * s / (1 + s))

    def volts(self, pascals: Samples, rate: float, rng: np.random.Generator) -> Samples:
        """Return the voltage (frames,) for a pressure."""
        size = even_fast_len(pascals.size)
        spectrum = scipy.fft.rfft(pascals, size) * self.response(np.asarray(scipy.fft.rfftfreq(size, 1 / rate)))
        heard = scipy.fft.irfft(spectrum, size)[: pascals.size]
        own = coloured_noise(rng, (pascals.size, 1), rate, self.noise / math.sqrt(rate / 2), 200.0)[:, 0]
        return np.asarray(self.sensitivity * self.most * np.tanh((heard + own) / self.most))


MEASURING = MicrophoneUnit(0.05)
CHEAP = MicrophoneUnit(0.008, bump_db=4.5, low_corner=45.0, noise=7e-4, most=4.5)


@dataclass(frozen=True)
class TwoWay:
    """distance of the microphones, detour: of the sound by the wall, both in m; loose: whether something rattles;
    cheap_first: whether the cheap microphone stands at the first input.
    """

    maker: str
    model: str
    loose: bool = False
    distance: float = 1.0
    detour: float = 4.0
    wall_share: float = 0.7
    pascals_per_volt: float = 0.36  # at 1 m
    resonance: float = 62.0
    quality: float = 0.75
    crossover: float = 2400.0
    second: float = 0.012  # of the square of the excursion re that at 1 V at low frequencies
    third: float = 0.006
    strikes_at: float = 1.1  # of that excursion
    click_seconds: float = 2e-4
    ambient_pascals: float = 4e-4
    cheap_first: bool = False

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {"state": ("good", "loose")}

    def set_to(self, conditions: Mapping[str, str]) -> TwoWay:
        loose = conditions.get("state", "loose" if self.loose else "") == "loose"
        return replace(self, loose=loose, cheap_first=conditions.get("microphone", "") == "cheap")

    def response(self, f: Samples) -> Complex:
        """Return the pressure at 1 m re ``pascals_per_volt`` (points,): a closed box, a crossover of fourth order."""
        s = 1j * f / self.resonance
        woofer = s * s / (1 + s / self.quality + s * s)
        c = 1j * f / self.crossover
        section = 1 + math.sqrt(2) * c + c * c
        low, high = 1 / section**2, (c * c / section) ** 2
        tweeter = 0.93 / (1 + 1j * f / 24000.0)
        return np.asarray(woofer * low + high * tweeter)

    def excursion(self, f: Samples) -> Complex:
        """Return the cone's excursion re that at 1 V far below the resonance (points,)."""
        s = 1j * f / self.resonance
        return np.asarray(1 / (1 + s / self.quality + s * s))

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Return the voltages of the measuring and of the cheap microphone (frames, 2), or the other way round."""
        frames = volts.shape[0]
        size = even_fast_len(frames + round(0.5 * rate))
        f = np.asarray(scipy.fft.rfftfreq(size, 1 / rate))
        spectrum = scipy.fft.rfft(volts[:, 0], size)
        cone = scipy.fft.irfft(spectrum * self.excursion(f), size)
        bent = volts[:, 0] + (self.second * cone**2 + self.third * cone**3)[:frames]
        pressure = scipy.fft.rfft(bent, size) * self.response(f)
        if self.loose:
            pressure = pressure + scipy.fft.rfft(self._clicks(cone[:frames], rate), size)
        direct, late = self.distance / SOUND, (self.distance + self.detour) / SOUND
        path = np.exp(-2j * np.pi * f * direct) / self.distance
        path += self.wall_share * np.exp(-2j * np.pi * f * late) / (self.distance + self.detour)
        at_place = self.pascals_per_volt * scipy.fft.irfft(pressure * path, size)[:frames]
        ambient = coloured_noise(rng, (frames, 1), rate, self.ambient_pascals / math.sqrt(rate / 2), 500.0)[:, 0]
        heard = at_place + ambient
        units = [MEASURING, CHEAP]
        if self.cheap_first:
            units.reverse()
        return np.column_stack([unit.volts(heard, rate, rng) for unit in units])

    def _clicks(self, cone: Samples, rate: float) -> Samples:
        """Return what strikes (frames,): once each time the cone passes a certain excursion outwards."""
        out = np.zeros(cone.size)
        width = max(2, round(self.click_seconds * rate))
        pulse = 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(width) + 0.5) / width)
        places = np.flatnonzero((cone[1:] > self.strikes_at) & (cone[:-1] <= self.strikes_at))
        for place in places.tolist():
            end = min(cone.size, place + width)
            out[place:end] += 0.02 * self.strikes_at * pulse[: end - place]
        return out


KELWIN_T2 = TwoWay("Kelwin", "T2")
