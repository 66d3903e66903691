"""A room with loudspeakers and microphones: image sources in a box whose walls absorb by frequency, and its own noise.

The response from a source to a place is known in closed form: the sum over the images of β(f)^n exp(-jωr/c)/r, with n
reflections and the distance r (Allen, Berkley 1979, from memory).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
import scipy.fft

from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples
from epidote.standins.filters import Complex, coloured_noise

SOUND = 343.2  # m/s
Place = tuple[float, float, float]
_TAPS = 32  # of the fractional delay of an image


@dataclass(frozen=True)
class Box:
    """size in m; images up to ``order`` reflections; absorption at low and high frequencies, turning at ``turn`` Hz."""

    size: Place = (11.0, 8.0, 4.4)
    order: int = 14
    absorbs_low: float = 0.28
    absorbs_high: float = 0.52
    turn: float = 1200.0

    def reflection(self, f: Samples) -> Samples:
        """Return the share of the pressure that a wall gives back at f in Hz (points,)."""
        share = 1 / (1 + (self.turn / np.maximum(f, 1e-3)) ** 2)
        absorbed = self.absorbs_low + (self.absorbs_high - self.absorbs_low) * share
        return np.asarray(np.sqrt(1 - absorbed))

    def images(self, source: Place, place: Place) -> tuple[Samples, Samples]:
        """Return distance in m and number of reflections of every image of a source as heard at a place (images,)."""
        counts = range(-(self.order // 2) - 1, self.order // 2 + 2)
        axes = []
        for length, s, p in zip(self.size, source, place, strict=True):
            own = []
            for n in counts:
                own.append((2 * n * length + s - p, abs(2 * n)))
                own.append((2 * n * length - s - p, abs(2 * n - 1)))
            axes.append(np.array(own))
        x, y, z = (a[:, 0] for a in axes)
        bounces = axes[0][:, 1][:, None, None] + axes[1][:, 1][None, :, None] + axes[2][:, 1][None, None, :]
        distance = np.sqrt(x[:, None, None] ** 2 + y[None, :, None] ** 2 + z[None, None, :] ** 2)
        inside = bounces <= self.order
        return distance[inside], bounces[inside]

    def response(self, source: Place, place: Place, f: Samples) -> Complex:
        """Return the pressure at a place re that at 1 m of the source in free air, at f in Hz (points,): the closed
        form.
        """
        distance, bounces = self.images(source, place)
        wall = self.reflection(f)
        total = np.zeros(f.size, complex)
        for r, n in zip(distance, bounces, strict=True):
            total += wall**n * np.exp(-2j * np.pi * f * r / SOUND) / r
        return total

    def impulse(self, source: Place, place: Place, rate: float) -> Samples:
        """Return the same as an impulse response (frames,) at a rate."""
        return _impulse(self, source, place, rate)


@lru_cache(maxsize=256)
def _impulse(box: Box, source: Place, place: Place, rate: float) -> Samples:
    distance, bounces = box.images(source, place)
    frames = math.ceil(float(distance.max()) / SOUND * rate) + _TAPS
    size = even_fast_len(frames)
    wall = box.reflection(np.asarray(scipy.fft.rfftfreq(size, 1 / rate)))
    total = np.zeros(size // 2 + 1, complex)
    for n in np.unique(bounces):
        train = np.zeros(size)
        delays = distance[bounces == n] / SOUND * rate
        for delay, r in zip(delays, distance[bounces == n], strict=True):
            whole = math.floor(delay)
            k = np.arange(whole - _TAPS // 2 + 1, whole + _TAPS // 2 + 1)
            part = k - delay
            window = np.cos(np.pi * part / (_TAPS + 1)) ** 2
            inside = (k >= 0) & (k < size)
            train[k[inside]] += (np.sinc(part) * window)[inside] / r
        total += wall**n * scipy.fft.rfft(train)
    return np.asarray(scipy.fft.irfft(total, size))


@dataclass(frozen=True)
class Dome:
    """Two loudspeakers in a room with eight seats, six microphones at the one that is chosen: pressure in Pa."""

    maker: str
    model: str
    seat: int = 1
    box: Box = Box()
    loudspeakers: tuple[Place, ...] = ((1.2, 2.4, 1.3), (1.2, 5.6, 1.3))
    pascals_per_volt: float = 1.6  # at 1 m, with the amplifier before it
    corner: float = 58.0
    ambient_pascals: float = 9e-4
    sensitivity: float = 0.05  # V/Pa

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """The values of each of its knobs, by the name of the condition."""
        return {"seat": tuple(str(number) for number in range(1, 9))}

    def set_to(self, conditions: Mapping[str, str]) -> Dome:
        number = conditions.get("seat", "").strip()
        if number.isdigit() and 1 <= int(number) <= 8:
            return replace(self, seat=int(number))
        return self

    @property
    def microphones(self) -> tuple[Place, ...]:
        """Where the six microphones of the seat stand: about a head, in two rows of four seats."""
        row, column = divmod(self.seat - 1, 4)
        x, y, z = 4.6 + 1.9 * row, 2.0 + 1.3 * column, 1.15 + 0.15 * row
        around = (
            (0.0, -0.1, 0.0),
            (0.0, 0.1, 0.0),
            (0.13, 0.0, 0.05),
            (-0.13, 0.0, 0.05),
            (0.0, 0.0, 0.18),
            (0.1, 0.1, -0.1),
        )
        return tuple((x + a, y + b, z + c) for a, b, c in around)

    def source(self, f: Samples) -> Complex:
        """Return the loudspeaker's own response (points,): a closed box, and a tweeter that ends at 19 kHz."""
        s = 1j * f / self.corner
        high_pass = s * s / (1 + s / 0.8 + s * s)
        return np.asarray(high_pass / (1 + 1j * f / 19000.0))

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Return the microphones' voltages (frames, 6)."""
        places, frames = self.microphones, volts.shape[0]
        longest = max(self.box.impulse(s, p, rate).size for s in self.loudspeakers for p in places)
        size = even_fast_len(frames + longest)
        own = self.source(np.asarray(scipy.fft.rfftfreq(size, 1 / rate))) * self.pascals_per_volt
        spectra = [scipy.fft.rfft(volts[:, min(n, volts.shape[1] - 1)], size) * own for n in range(2)]
        heard = np.zeros((frames, len(places)))
        for number, place in enumerate(places):
            total = np.zeros(size // 2 + 1, complex)
            for spectrum, source in zip(spectra, self.loudspeakers, strict=True):
                total += spectrum * scipy.fft.rfft(self.box.impulse(source, place, rate), size)
            heard[:, number] = scipy.fft.irfft(total, size)[:frames]
        shape = (frames, len(places))
        ambient = coloured_noise(rng, shape, rate, self.ambient_pascals / math.sqrt(rate / 2), 400.0)
        return np.asarray((heard + ambient) * self.sensitivity)


HAVELMAR_DOME = Dome("Havelmar", "Dome")
