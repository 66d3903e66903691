"""The live spectrum: what a fast view needs thirty times a second, in single precision, which is good for display
(spurs at -149 dB).

Power here is the squared peak amplitude that a line of each bin's height would have, so that a full-scale sine reads 0
dBFS (AES17).
"""

from __future__ import annotations

import math
import threading
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_4, BLACKMAN_HARRIS_7, HANN, CosineWindow
from epidote.core.live.meter_readings import Figures, TwoChannels, figures, two_channels
from epidote.core.signals import transforms
from epidote.core.signals.ring_buffer import Ring
from epidote.core.signals.signal import Samples

Power = NDArray[np.float32]
LENGTHS = tuple(2**k for k in range(10, 21))
WINDOWS: dict[str, CosineWindow] = {w.name: w for w in (HANN, BLACKMAN_HARRIS_4, BLACKMAN_HARRIS_7)}
FRAMES_PER_SECOND, FIGURES_PER_SECOND, FIGURES_SECONDS = 30, 2, 0.2
_LEAST = 1e-22  # -220 dB: numbers that are all zero


class Averaging(StrEnum):
    """How successive spectra are averaged."""

    NONE = "none"
    LINEAR = "linear"
    EXPONENTIAL = "exponential"
    PEAK = "peak"


@dataclass(frozen=True)
class AnalyserSettings:
    """Settings of the live spectrum; length in points, wave_seconds and trigger of the waveform beside it."""

    length: int = 65536
    window: str = HANN.name
    averaging: Averaging = Averaging.NONE
    count: int = 8
    wave_seconds: float = 0.004
    trigger: float = 0.0  # FS; the waveform begins where the first channel rises through it


@dataclass(frozen=True)
class View:
    """The stretch of frequency shown, in Hz, and over how many pixels."""

    low: float = 10.0
    high: float = 24000.0
    log: bool = True
    width: int = 1000

    def edges(self) -> Samples:
        """Frequencies of the pixels' edges (width + 1,)."""
        share = np.arange(self.width + 1) / self.width
        return np.asarray(
            self.low * (self.high / self.low) ** share if self.log else self.low + (self.high - self.low) * share
        )


@dataclass(frozen=True, eq=False)
class HeldSpectrum:
    """A spectrum by itself: power (channels, bins).

    name: what the user called it; recent: the samples it was made of (frames, channels).
    """

    name: str
    power: Power
    rate: float
    length: int
    window: str
    recent: Samples
    averaged: int = 1


@dataclass(frozen=True, eq=False)
class Frame:
    """What is shown now: per channel the least and greatest level of each pixel (channels, width) in dBFS, waveforms
    and figures.
    """

    view: View
    low: Samples
    high: Samples
    wave_times: Samples
    waves: Samples
    figures: tuple[Figures, ...]
    averaged: int
    filled: bool
    relation: TwoChannels | None = None  # of the first two channels


class Reducer:
    """From bins to pixels, prepared once for a view: least and greatest level of each pixel in dBFS, found before
    the logarithm, which is what makes it quick. Where pixels are finer than bins, the line between bins. What lies
    beyond the bins is NaN.
    """

    def __init__(self, rate: float, length: int, view: View) -> None:
        self.key = (rate, length, view)
        bins = length // 2 + 1
        places = view.edges() / (rate / length)
        edges = np.clip(np.ceil(places - 0.5).astype(int), 0, bins - 1)
        inside = np.clip((places[:-1] + places[1:]) / 2, 0, bins - 1)
        self._fine = np.flatnonzero(np.diff(edges) < 1)
        self._below = np.minimum(inside.astype(int), bins - 2)[self._fine]
        self._fraction = (inside[self._fine] - self._below).astype(np.float32)
        coarse = np.unique(edges)
        if coarse.size > 1:
            self._starts, self._end = (coarse[:-1], int(coarse[-1]))
        else:
            self._starts, self._end = (coarse, int(coarse[-1]) + 1)
        self._index = np.clip(np.searchsorted(self._starts, edges[:-1], side="right") - 1, 0, self._starts.size - 1)
        self._beyond = (places[:-1] > bins - 1) | (places[1:] < 0.5)

    def __call__(self, power: Power) -> tuple[Samples, Samples]:
        """(channels, width) twice, of power (channels, bins)."""
        part = power[:, : self._end]
        low, high = (
            np.take(f.reduceat(part, self._starts, axis=1), self._index, axis=1) for f in (np.minimum, np.maximum)
        )
        low, high = (10 * np.log10(np.maximum(v, _LEAST)) for v in (low, high))
        if self._fine.size:
            # between bins the line is drawn in dB
            a, b = (10 * np.log10(np.maximum(power[:, self._below + k], _LEAST)) for k in (0, 1))
            low[:, self._fine] = high[:, self._fine] = a + (b - a) * self._fraction
        low[:, self._beyond] = high[:, self._beyond] = np.nan
        return np.asarray(low, dtype=np.float64), np.asarray(high, dtype=np.float64)


def reduced(state: HeldSpectrum, view: View) -> tuple[Samples, Samples]:
    """Return a held state as a view shows it."""
    return Reducer(state.rate, state.length, view)(state.power)


class SpectrumAnalyser:
    """Feed it blocks (frames, channels); it answers with a Frame thirty times a second of sound at most."""

    def __init__(self, rate: float, channels: int, settings: AnalyserSettings, view: View) -> None:
        self.rate, self.channels = rate, channels
        self.settings, self.view = settings, view
        self._figures: tuple[Figures, ...] = ()
        self._relation: TwoChannels | None = None
        self._reducer: Reducer | None = None
        self._lock = threading.Lock()
        self._shown: Power | None = None
        self._prepare()

    def _prepare(self) -> None:
        n = self.transform_length = self.settings.length
        window = WINDOWS[self.settings.window]
        angle = 2 * np.pi * np.arange(n) / n
        shape = sum((-1) ** k * a * np.cos(k * angle) for k, a in enumerate(window.coefficients))
        self._shape = np.asarray(shape * (2 / n / window.coherent_gain), dtype=np.float32)
        self._step = round(self.rate / FRAMES_PER_SECOND)
        self._ring = Ring(self.channels, n + self._step)
        self._next: Power | None = None
        self._since_frame = self._since_figures = 0
        self._shown = None
        self._used = self.settings
        self.restart()

    def restart(self) -> None:
        """Averages and peaks begin anew."""
        self._average: Power | None = None
        self._averaged = 0
        self._since_average = 10**9

    def change(self, settings: AnalyserSettings) -> None:
        """From the next block on; called from any thread."""
        self.settings = settings

    def feed(self, block: Samples) -> Frame | None:
        with self._lock:
            return self._fed(block)

    def _fed(self, block: Samples) -> Frame | None:
        if self.settings is not self._used:
            before, self._used = self._used, self.settings
            if (before.length, before.window) != (self._used.length, self._used.window):
                self._prepare()
            elif (before.averaging, before.count) != (self._used.averaging, self._used.count):
                self.restart()
        self._ring.take(block)
        frames = block.shape[0]
        self._since_frame += frames
        self._since_figures += frames
        self._since_average += frames
        if self._since_frame < self._step:
            return None
        self._since_frame = min(self._since_frame - self._step, self._step)
        power = self._averaging()
        if self._since_figures >= self.rate / FIGURES_PER_SECOND and self._ring.heard >= self.rate / FIGURES_PER_SECOND:
            self._since_figures = 0
            recent = self._recent(round(FIGURES_SECONDS * self.rate))
            self._figures = tuple(figures(recent[c], self.rate) for c in range(self.channels))
            if self.channels > 1:
                self._relation = two_channels(recent[0], recent[1], self.rate)
        view = self.view
        if self._reducer is None or self._reducer.key != (self.rate, self.transform_length, view):
            self._reducer = Reducer(self.rate, self.transform_length, view)
        low, high = self._reducer(power)
        times, waves = self._wave()
        self._shown = power
        filled = self._ring.heard >= self.transform_length
        return Frame(view, low, high, times, waves, self._figures, self._averaged, filled, self._relation)

    def power_of_latest(self, looks: int = 1) -> Power:
        """Of the latest looks, a frame's time apart, oldest first (looks, channels, bins)."""
        n = self.transform_length
        stretches = np.empty((looks, self.channels, n), dtype=np.float32)
        for k in range(looks):
            np.multiply(self._ring.last(n, before=(looks - 1 - k) * self._step), self._shape, out=stretches[k])
        spectrum = transforms.rfft(stretches, axis=2, overwrite_x=True)
        power = np.square(spectrum.real)
        power += np.square(spectrum.imag)
        return np.asarray(power, dtype=np.float32)

    def _alone(self) -> Power:
        """Each look by itself.

        They are made in pairs and shown one after the other: the library transforms four records at a time in the
        processor's wide registers, at less than half the cost of one by one; the view is a thirtieth of a second late
        for it.
        """
        if self._next is not None:
            power, self._next = self._next, None
            return power
        first, self._next = self.power_of_latest(2)
        return np.asarray(first)

    def _averaging(self) -> Power:
        kind = self._used.averaging
        if kind is Averaging.NONE or self._ring.heard < self.transform_length:
            return self._alone()
        if kind is Averaging.PEAK:
            power = self._alone()
            if self._average is None:
                self._average = power
            else:
                self._average = np.maximum(self._average, power)
            self._averaged += 1
            return self._average
        # looks that overlap by more than half say little that is new
        if self._average is None or self._since_average >= self.transform_length / 2:
            self._since_average = 0
            power = self.power_of_latest()[0]
            self._averaged = min(self._averaged + 1, self._used.count)
            if kind is Averaging.LINEAR:
                weight = 1 / self._averaged
            else:
                weight = 1 / self._used.count
            if self._average is None:
                self._average = power
            else:
                self._average = self._average + np.float32(weight) * (power - self._average)
        return self._average

    def _recent(self, frames: int) -> NDArray[np.float32]:
        return self._ring.last(min(frames, self.transform_length, self._ring.heard))

    def _wave(self) -> tuple[Samples, Samples]:
        """Return the latest stretch that begins where the first channel rises through the trigger."""
        span = max(8, min(round(self._used.wave_seconds * self.rate), self.transform_length // 2))
        part = self._recent(max(4 * span, round(0.05 * self.rate)))
        if part.shape[1] <= span:
            return np.zeros(0), np.zeros((self.channels, 0))
        first = part[0, : part.shape[1] - span] - self._used.trigger
        rises = np.flatnonzero((first[:-1] < 0) & (first[1:] >= 0))
        if rises.size:
            begin = int(rises[-1])
        else:
            begin = part.shape[1] - span - 1
        shift = 0.0
        if rises.size:
            a, b = float(first[begin]), float(first[begin + 1])
            shift = -a / (b - a)
        times = (np.arange(span) - shift) / self.rate
        return np.asarray(times, dtype=np.float64), np.asarray(part[:, begin : begin + span], dtype=np.float64)

    def hold(self, name: str, *, samples: bool = True) -> HeldSpectrum:
        """Return the present state, to be kept with what it was made of, or only to be read off.

        Called from any thread.
        """
        with self._lock:
            if self._shown is None:
                power = self.power_of_latest()[0]
            else:
                power = self._shown
            recent = np.array(self._recent(self.transform_length if samples else 0).T, dtype=np.float64)
            return HeldSpectrum(
                name, power.copy(), self.rate, self.transform_length, self._used.window, recent, max(1, self._averaged)
            )


def mains_lines(
    state: HeldSpectrum, mains: float, channel: int = 1, orders: int = 10
) -> list[tuple[float, float | None]]:
    """(frequency in Hz, level in dBFS) of the mains and its harmonics.

    None where the spectrum is too coarse to tell, or only noise is.

        The main lobe is summed and the noise beside it taken off, so that a line between two bins reads right.
    """
    window, width = WINDOWS[state.window], state.rate / state.length
    power = state.power[channel - 1]
    lines: list[tuple[float, float | None]] = []
    half = window.half_width
    for n in range(1, orders + 1):
        f = n * mains
        centre = round(f / width)
        if centre < 3 * half or centre + 4 * half >= power.size or 5 * half * width > mains:
            lines.append((f, None))
            continue
        # the mains wanders: its line may stand a bin beside where it should
        inside = power[centre - half - 1 : centre + half + 2].astype(np.float64)
        neighbours = np.concatenate(
            [power[centre - 3 * half : centre - half - 1], power[centre + half + 2 : centre + 3 * half + 1]]
        )
        if neighbours.size:
            noise = float(np.median(neighbours)) / math.log(2) * inside.size
        else:
            noise = 0.0
        total = float(inside.sum()) - noise
        lines.append((f, 10 * math.log10(total / window.enbw) if total > noise else None))
    return lines


def sum_of(levels: list[float | None]) -> float | None:
    """Several levels in dB as one, by power; None when there is none."""
    given = [10 ** (v / 10) for v in levels if v is not None]
    if given:
        return 10 * math.log10(sum(given))
    return None
