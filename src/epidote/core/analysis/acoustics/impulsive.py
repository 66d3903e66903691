"""Impulses that repeat with the period of a sweep: rubbing, buzzing and loose parts (after IEC 60268-21).

What lies above an order of the swept tone is kept by an exact high-pass that tracks it, and its energy collected by the
phase within the period: ordinary distortion ends below, noise lies anywhere, and what hits or rubs comes at the same
phase of each period (docs/methods.md, Impulsive distortion).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus

Complex = NDArray[np.complex128]

VERDICT_ORDER, SUSPECT_ORDER = 20, 10  # orders above which impulses are a verdict, and a suspicion
LIMIT = 9.0  # of the score, above which impulses are found
MAP_PHASES = 32
_FOUND = 30.0  # times the median, below which there is no sweep in a recording
_LOWEST_BIN = 5.0  # Hz, below which nothing is turned
_BANDS = tuple(500.0 * 2 ** (n / 2) for n in range(11))  # Hz, middle of octaves half an octave apart
_EDGE = 0.1  # octave
_WITHIN_BAND = 0.85  # of a band's upper edge that the order may reach
_GROUP, _HOP = 1 / 3, 1 / 6  # octave
_FROM, _TO = 40.0, 800.0  # Hz
_LEAST_PERIODS = 16
_MOST_PHASES, _LEAST_PHASES, _SHORTEST = 64, 6, 0.15e-3  # bins in a period; s
_LEFT_OUT, _LEAST_LEFT_OUT = 0.1, 2  # of the periods, those with the most energy: foreign clicks
_HALF_COUNTS = 2.0  # times the score of either half that the whole one may reach: noise alone would leave 1.4
_ROUNDING = 10 ** (-140 / 10)  # of the tone's power
_WIDTHS = (1, 2, 4, 8)  # bins over which energy is summed


@dataclass(frozen=True)
class Group:
    """What repeats with the period in a third of an octave of exciting frequencies.

    score: by how many standard deviations of noise the fullest phase exceeds the usual one; count: how many impulses
    a period; peak, rms: of the residual in FS, the peak as the median over the periods; fundamental: its peak in FS;
    profile (MAP_PHASES,): mean energy by phase re the median.
    """

    frequency: float
    score: float
    count: int
    peak: float
    rms: float
    fundamental: float
    profile: Samples

    @property
    def crest(self) -> float:
        if self.rms <= 0:
            return 0.0
        return self.peak / self.rms


class SweepResidual:
    """One channel of a recorded sweep, with what lies above an order of the swept tone.

    x (frames,); stimulus: the sweep that was played.
    """

    def __init__(self, x: Samples, rate: float, stimulus: Stimulus) -> None:
        self._rate, self._frames = rate, x.size
        self._length, self._first = stimulus["length"], stimulus["first"]
        # Step 1: every frequency turned to the time at which the sweep passes it
        reach = self._length * math.log(rate / 2 / self._first) + 0.5
        self._size = even_fast_len(x.size + math.ceil(rate * reach))
        f = np.arange(self._size // 2 + 1) * (rate / self._size)
        phase = np.zeros(f.size)
        turned = f >= _LOWEST_BIN
        phase[turned] = 2 * np.pi * f[turned] * self._length * (1 - np.log(f[turned] / self._first))
        self._turn: Complex = np.exp(-1j * phase)
        spectrum = transforms.rfft(x, self._size)
        spectrum *= self._turn
        self._by_lag = transforms.irfft(spectrum, self._size)
        lead = round(stimulus["lead"])
        search = self._by_lag[lead : lead + max(2, x.size - stimulus.frames + round(stimulus["tail"]))]
        self._arrival = lead + int(np.argmax(np.abs(search)))
        noise = float(np.median(np.abs(self._by_lag[:: max(1, self._size // 20000)])))
        self.is_found = abs(float(self._by_lag[self._arrival])) > _FOUND * noise

    def above(self, order: float) -> Samples:
        """Return what lies above an order of the swept tone (frames,): an exact high-pass that tracks it."""
        return self._weighted(
            lambda orders: np.sin(np.pi / 2 * np.clip(orders - order, 0, 1)) ** 2, lowest=order * self._first
        )

    @cached_property
    def fundamental_sums(self) -> Samples:
        """Running sum of the squares (frames + 1,) of the swept tone itself: orders from 0.5 to 1.5."""
        tone = self._weighted(lambda orders: np.cos(np.pi / 2 * np.clip(np.abs(orders - 1) / 0.5, 0, 1)) ** 2)
        return _sums(tone)

    def _weighted(self, weight: Callable[[Samples], Samples], lowest: float = 0.0) -> Samples:
        # Step 2: a weight by the order, which is an exponential of the lag
        lags = np.arange(self._size, dtype=np.float64) - self._arrival
        lags[lags > self._frames] -= self._size  # what lies earlier than the recording's beginning is at the end
        orders = np.exp(np.clip(-lags / (self._rate * self._length), -30, 30))
        spectrum = transforms.rfft(self._by_lag * weight(orders), self._size)
        spectrum *= np.conj(self._turn)
        # the sweep's beginning leaks into every lag, but only at its own low frequencies
        below = math.ceil(lowest * self._size / self._rate)
        if below:
            ramp = np.clip(np.linspace(-1, 1, below), 0, 1)
            spectrum[:below] *= np.sin(np.pi / 2 * ramp) ** 2
        return np.asarray(transforms.irfft(spectrum, self._size)[: self._frames])

    def cycles_at(self, frequency: float) -> float:
        """Cycles from the sweep's beginning until it passes a frequency in Hz."""
        return self._length * (frequency - self._first)

    def edges_of(self, begin: int, end: int, phases: int) -> Samples:
        """Return the samples (periods, phases + 1) at which the phases of the periods from ``begin`` to ``end`` begin,
        and where the last one ends.
        """
        cycles = begin + np.arange(end - begin)[:, None] + np.arange(phases + 1)[None, :] / phases
        seconds = self._length * np.log1p(cycles / (self._first * self._length))
        return np.asarray(self._arrival + seconds * self._rate)


@dataclass(frozen=True)
class _Running:
    """What lies above an order, and running sums of its square, of its bands by their edges in Hz, and of the tone."""

    above: Samples
    whole: Samples
    bands: dict[tuple[float, float], Samples]
    tone: Samples


def groups(residual: SweepResidual, rate: float, order: int, stop: float) -> Iterator[Group]:
    """Yield what repeats with the period above an order of the tone, group by group of exciting frequencies up to
    ``stop`` in Hz; groups with too few periods are left out.
    """
    above = residual.above(order)
    bands = {band: _sums(part) for band, part in _in_bands(above, rate)}
    running = _Running(above, _sums(above), bands, residual.fundamental_sums)
    count = math.floor(math.log2(_TO / _FROM) / _HOP) + 1
    for number in range(count):
        frequency = _FROM * 2 ** (number * _HOP)
        if frequency * 2 ** (_GROUP / 2) > stop:
            break
        found = _group(residual, running, frequency, order)
        if found is not None:
            yield found


def _sums(x: Samples) -> Samples:
    """Return the running sum of squares (frames + 1,)."""
    return np.concatenate([[0.0], np.cumsum(np.square(x))])


def _in_bands(x: Samples, rate: float) -> Iterator[tuple[tuple[float, float], Samples]]:
    """Yield the parts of x (frames,) in octaves, by their edges in Hz."""
    size = even_fast_len(x.size)
    spectrum = transforms.rfft(x, size)
    f = np.maximum(np.arange(spectrum.size) * (rate / size), 1e-3)
    for middle in _BANDS:
        low, high = middle / math.sqrt(2), middle * math.sqrt(2)
        if high > 0.48 * rate:
            continue
        rising = np.clip(0.5 + np.log2(f / low) / (2 * _EDGE), 0, 1)
        falling = np.clip(0.5 + np.log2(high / f) / (2 * _EDGE), 0, 1)
        weight = np.sin(np.pi / 2 * rising) ** 2 * np.sin(np.pi / 2 * falling) ** 2
        yield (low, high), transforms.irfft(spectrum * weight, size)[: x.size]


def _energy(sums: Samples, places: Samples) -> Samples:
    """Return the energy between places in a recording (…, n - 1) from the running sum of its squares."""
    read = np.interp(places, np.arange(sums.size), sums)
    return np.diff(read, axis=-1)


def _group(residual: SweepResidual, running: _Running, frequency: float, order: int) -> Group | None:
    """Return what repeats in a third of an octave about a frequency in Hz; None with too few periods, or where the
    recording does not hold them all.
    """
    low, high = frequency * 2 ** (-_GROUP / 2), frequency * 2 ** (_GROUP / 2)
    begin, end = math.ceil(residual.cycles_at(low)), math.floor(residual.cycles_at(high))
    if begin < 0 or end - begin < _LEAST_PERIODS:
        return None
    phases = int(max(_LEAST_PHASES, min(_MOST_PHASES, 1 / (frequency * _SHORTEST))))
    edges = residual.edges_of(begin, end, phases)
    if edges[-1, -1] >= running.above.size or edges[0, 0] < 0:
        return None
    score, count = 0.0, 0
    for (lowest, highest), sums in running.bands.items():
        # Step 3: bands in which the order leaves room
        if order * high > _WITHIN_BAND * highest:
            continue
        bandwidth = highest - max(lowest, order * frequency)
        found, impulses = _steady_score(_energy(sums, edges), frequency, bandwidth)
        if found > score:
            score, count = found, impulses
    picture = _robust_mean(_energy(running.whole, residual.edges_of(begin, end, MAP_PHASES)))
    first, last = int(edges[0, 0]), int(edges[-1, -1])
    peaks = np.maximum.reduceat(np.abs(running.above[first:last]), edges[:, 0].astype(int) - first)
    mean_square, tone = ((sums[last] - sums[first]) / (last - first) for sums in (running.whole, running.tone))
    if mean_square < _ROUNDING * tone:
        score, count = 0.0, 0  # rounding of the computation repeats with the period, too
    return Group(
        frequency,
        score,
        count,
        float(np.median(peaks)),
        math.sqrt(mean_square),
        math.sqrt(2 * tone),
        picture / max(float(np.median(picture)), 1e-300),
    )


def _robust_mean(energy: Samples) -> Samples:
    """Return the mean over the periods (phases,) of energy (periods, phases), without the largest tenth of each phase:
    a click from elsewhere comes once.
    """
    left_out = max(_LEAST_LEFT_OUT, math.ceil(_LEFT_OUT * energy.shape[0]))
    return np.asarray(np.sort(energy, axis=0)[:-left_out].mean(axis=0))


def _steady_score(energy: Samples, frequency: float, bandwidth: float) -> tuple[float, int]:
    """Return score and number of impulses of energy (periods, phases) that repeat through the whole group: a sound from
    elsewhere that rings for several periods is in one half only.
    """
    profile = _robust_mean(energy)
    if not np.median(profile) > 0:
        return 0.0, 0
    score, count = _score(profile / np.median(profile), energy.shape[0], frequency, bandwidth)
    half = energy.shape[0] // 2
    for part in (energy[:half], energy[half:]):
        own = _robust_mean(part)
        if not np.median(own) > 0:
            return 0.0, 0
        score = min(score, _HALF_COUNTS * _score(own / np.median(own), part.shape[0], frequency, bandwidth)[0])
    return score, count


def _score(profile: Samples, periods: int, frequency: float, bandwidth: float) -> tuple[float, int]:
    """Return by how many standard deviations of noise the fullest phase exceeds the usual one, and how many impulses
    a period stand out. profile (phases,): energy re its median.
    """
    phases, best, count = profile.size, 0.0, 0
    for width in _WIDTHS:
        if 2 * width > phases:
            break
        wrapped = np.concatenate([profile, profile[: width - 1]])
        summed = np.convolve(wrapped, np.ones(width) / width, mode="valid")
        middle = float(np.median(summed))
        # a chi-square distribution with so many degrees of freedom: bandwidth times time, in all periods
        product = max(bandwidth * width / (phases * frequency), 0.5)
        deviation = math.sqrt(1 / (periods * product))
        found = (float(summed.max()) - middle) / deviation
        if found > best:
            best = found
            count = _separate(summed > middle + 0.5 * (float(summed.max()) - middle))
    return best, count


def _separate(high: NDArray[np.bool_]) -> int:
    """Return the number of separate runs in a circle (phases,)."""
    return int(np.count_nonzero(high & ~np.roll(high, 1)))
