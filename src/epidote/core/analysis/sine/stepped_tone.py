"""A recorded staircase: where it begins, and each step taken apart on its own."""

from __future__ import annotations

import hashlib
import math
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from threading import Lock

import numpy as np

from epidote.core.analysis.capture_checks import is_clipped
from epidote.core.analysis.cross_correlation import correlation
from epidote.core.analysis.sine.hum import MainsSeen, hum_included, mains_seen
from epidote.core.analysis.sine.tone import ToneAnalysis, analyse_tone
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spreads import power_spread_db
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.signals.fft_lengths import trim_to_fast_length
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import ScheduledStep, chirp

SETTLE, GUARD = 0.3, 0.02  # share of a step left to settle; s at its end, for a start that is found a little late
_SETTLE_CYCLES, _SETTLE_LOW = (
    10.0,
    0.35,
)  # low tones wait for the high-pass corners below them: this many cycles, or s at most
_LEAST_FRAMES = 256
_NEAR, _SURE = 1.0, 0.8
_ALIKE = 0.3  # of 1: how much a stretch must resemble the chirp


@dataclass(frozen=True)
class StepMeasurement:
    """One step of one channel.

    level: drive in dBFS; frequency in Hz; amplitude: peak in FS; others are mean squares in FS².

    harmonics: H2 and up, 0 where they lie outside the band; left_out: some do; clipped: the recording, not the unit.
    """

    level: float
    frequency: float
    amplitude: float
    noise: float
    harmonics: tuple[float, ...]
    left_out: bool
    expected_noise: float
    noise_spread_db: float
    level_drift: float
    clipped: bool
    amplitude_spread: float
    harmonic_variance: float
    mains: tuple[MainsSeen, ...]
    bin_hz: float
    undithered: bool
    repeats: bool  # undithered, and meeting the same roundings again and again

    @property
    def main_spread_db(self) -> float:
        """One standard deviation of the fundamental's level."""
        return DB_PER_NEPER * self.amplitude_spread / self.amplitude

    @property
    def thd_spread_db(self) -> float | None:
        """One standard deviation of ``thd``; None without harmonics."""
        return self._spread_db(self.harmonic_variance, self.harmonic)

    @property
    def thd_n_spread_db(self) -> float | None:
        """One standard deviation of ``thd_n``."""
        noise_variance = (self.noise_spread_db * self.noise / (DB_PER_NEPER / 2)) ** 2
        return self._spread_db(noise_variance + self.harmonic_variance, self.noise + self.harmonic)

    def _spread_db(self, variance: float, power: float) -> float | None:
        if power > 0:
            return math.hypot(power_spread_db(variance, power), self.main_spread_db)
        return None

    def meets_hum(self, others: Sequence[StepMeasurement]) -> bool:
        """Whether mains hum may change the tone or its harmonics together by more than 0.1 dB.

        ``others``: of the same run, where it is seen.
        """
        sizes = [self.amplitude, *(math.sqrt(2 * p) for p in self.harmonics)]
        seen = [one for step in others for one in step.mains]
        return hum_included(self.frequency, self.bin_hz, sizes, seen)

    @property
    def main(self) -> float:
        return self.amplitude**2 / 2

    @property
    def harmonic(self) -> float:
        return float(sum(self.harmonics))

    @property
    def thd(self) -> float:
        """Ratio to the fundamental."""
        return math.sqrt(self.harmonic / self.main)

    @property
    def thd_n(self) -> float:
        """Ratio to the fundamental."""
        return math.sqrt((self.harmonic + self.noise) / self.main)


def locate_preamble(signal: Signal, stimulus: Stimulus) -> int | None:
    """Frame of the recording at which the stimulus' frame 0 lies (it may be negative).

    None when its chirp is not there.

        By the correlation with the chirp, divided by how loud the recording is there: a loud tone later on does not
    resemble it.
    """
    preamble = chirp(stimulus.rate, round(stimulus["chirp"]), 0.0)
    # Where the chirp is expected: at the stimulus' beginning, plus a second of latency
    near = round(stimulus["lead"] + stimulus["chirp"] + stimulus["gap"] + _NEAR * stimulus.rate)
    for frames in (
        near,
        signal.frames,
    ):  # a device is seldom more than a second late; only a recording from elsewhere is looked through
        best = max(_alike(signal.channel(n)[:frames], preamble) for n in range(1, signal.channels + 1))
        if best[0] > _SURE or frames >= signal.frames:
            break
    if best[0] > _ALIKE:
        return best[1] - round(stimulus["lead"])
    return None


def _alike(x: Samples, preamble: Samples) -> tuple[float, int]:
    """How much x (frames,) resembles the chirp where it does so most, from 0 to 1, and the frame at which that
    begins.
    """
    if x.size <= preamble.size or not x.any():
        return 0.0, 0
    # normalised cross-correlation: over the energy of the chirp and of the recording under it
    similarity = correlation(x, preamble)[: x.size - preamble.size]
    energy = np.concatenate([[0.0], np.cumsum(np.square(x))])
    # energy of every stretch as long as the chirp, by differences of the running sum
    loud = energy[preamble.size : -1] - energy[: x.size - preamble.size]
    share = np.abs(similarity) / np.sqrt(np.maximum(loud, 1e-9 * energy[-1] + 1e-30) * float(preamble @ preamble))
    place = int(np.argmax(share))
    return float(share[place]), place


def settling_time(frequency: float) -> float:
    """Return the least time in s that a step at this frequency is left to settle."""
    return min(_SETTLE_LOW, _SETTLE_CYCLES / frequency)


def step_segment(x: Samples, start: int, step: ScheduledStep, rate: float) -> Samples | None:
    """Return the settled part of a step (frames,) out of a channel; None where the recording does not hold it."""
    # left to settle: a share of the step, and more for low tones (docs/methods.md, Stepped sweeps)
    first = start + step.first + round(max(SETTLE * step.frames, settling_time(step.frequency) * rate))
    # a little is left out at the end, for the start is known to a few frames only
    end = start + step.first + step.frames - round(min(GUARD * rate, 0.1 * step.frames))
    if first < 0 or end > x.size or end - first < _LEAST_FRAMES:
        return None
    return trim_to_fast_length(x[first:end])


def analyse_step(
    x: Samples, rate: float, step: ScheduledStep, harmonics: int, band: tuple[float, float], *, weighting: Weighting
) -> ToneAnalysis | None:
    """Return a stretch (frames,) of a step taken apart; None when it holds no tone of the step's frequency."""
    if not x.any():
        return None
    analysis = analyse_tone(x, rate, step.frequency, harmonics, band, weighting=weighting)
    if analysis is not None and abs(analysis.fit.frequency / step.frequency - 1) < 0.02:
        return analysis
    return None


def measure_step(
    x: Samples,
    rate: float,
    step: ScheduledStep,
    harmonics: int,
    band: tuple[float, float],
    *,
    weighting: Weighting,
    unit: str = "FS",
) -> StepMeasurement | None:
    """``analyse_step`` in figures.

    The same step is analysed once: while it is measured, and not again when the run is analysed.
    """
    # the samples themselves and everything that bears on the result
    key = (
        hashlib.blake2b(np.ascontiguousarray(x).tobytes(), digest_size=16).digest(),
        rate,
        step,
        harmonics,
        band,
        weighting,
        unit,
    )
    with _LOCK:
        if key in _KNOWN:
            _KNOWN.move_to_end(key)
            return _KNOWN[key]
    analysis = analyse_step(x, rate, step, harmonics, band, weighting=weighting)
    if analysis is None:
        figures = None
    else:
        figures = _figures(analysis, step, harmonics, weighting, is_clipped(x, unit) and float(np.abs(x).max()) > 0.99)
    with _LOCK:
        _KNOWN[key] = figures
        while len(_KNOWN) > _KEPT:
            _KNOWN.popitem(last=False)
    return figures


_KEPT = 2048
_KNOWN: OrderedDict[tuple[object, ...], StepMeasurement | None] = OrderedDict()
_LOCK = Lock()


def _figures(
    c: ToneAnalysis, step: ScheduledStep, harmonics: int, weighting: Weighting, clipped: bool
) -> StepMeasurement:
    powers = c.harmonic_powers(weighting)
    inside = int(np.count_nonzero(c.harmonics_inside()))
    return StepMeasurement(
        step.level,
        c.fit.frequency,
        abs(c.fit.amplitudes[0]),
        c.noise,
        tuple(float(p) for p in powers),
        harmonics > inside + 1,
        float((np.square(c.line_spreads[1:]) * c.harmonics_inside()).sum()),
        c.noise_spread_db,
        c.fit.level_drift,
        clipped,
        float(c.line_spreads[0]),
        c.harmonic_variance(weighting),
        mains_seen(c),
        c.rate / c.frames,
        c.undithered is not None,
        c.undithered is not None and c.undithered.coherent,
    )
