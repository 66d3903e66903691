"""One material by several ways, each against the first: delay, level, drift, transients, response.

What is longer than can be held is read a piece at a time, all ways side by side, and the cross spectra of all pieces
tell the whole.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Protocol, TypeVar

import numpy as np

from epidote.core.analysis.delay.delay_estimation import (
    Delay,
    NoCorrelation,
    Spectra,
    delay_of,
    spectra,
    transform_size,
)
from epidote.core.analysis.delay.delay_tracking import DelayTrack, SegmentGrid, track_delay
from epidote.core.analysis.delay.onset_delay import AFTER, BEFORE, onset_delay
from epidote.core.analysis.delay.onsets import Onset, onsets
from epidote.core.analysis.signal_scan import SignalStatistics
from epidote.core.analysis.spectral.transfer_function import TransferFunction, WelchAccumulator
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.sample_source import CHUNK_FRAMES, MAX_IN_MEMORY_FRAMES, SampleSource, iter_chunks
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends

_TAPER = 0.01  # of the stretch, at either end
_ONSET_REACH = 0.03  # s by which an onset may lie away from the course
_REST = 0.001  # s by which the second may still be off once it is laid over the first
_SEGMENT = 0.25  # s, of the averaged spectra


@dataclass(frozen=True)
class Event:
    """time in s in the first, and how sure that is; delay in s with its spread; level in dB re the first."""

    time: float
    time_spread: float
    delay: float
    delay_spread: float
    level: float


@dataclass(frozen=True)
class PathEstimate:
    """delay: of the whole, at its middle where it drifts.

    drift: frames by frame, with its spread; course: time in s and delay in frames of each window (windows,); wavers:
    rms departure of those from the straight line in frames, beyond what noise explains (0: none); path: response of the
    second over the first, laid over it by the whole's delay, by averaged spectra; None for what is too short.
    """

    delay: Delay
    drift: float
    drift_spread: float
    course: tuple[Samples, Samples]
    wavers: float
    null_db: float
    events: tuple[Event, ...]
    path: TransferFunction | None


T = TypeVar("T")


class ParallelMap(Protocol):
    """Does pieces of work, some of them at the same time."""

    def __call__(self, work: Sequence[Callable[[], T]], /) -> list[T]: ...


def sequential_map(work: Sequence[Callable[[], T]], /) -> list[T]:
    """Do pieces of work one after the other; stands in for a pool of threads."""
    return [one() for one in work]


def compare_paths(
    first: SampleSource,
    others: Sequence[SampleSource],
    band: tuple[float, float],
    search: float,
    *,
    events: bool,
    seen: SignalStatistics | None = None,
    together: ParallelMap = sequential_map,
) -> list[PathEstimate | NoCorrelation]:
    """Each of the others against the first, all at one rate.

    band in Hz, search in s; ``seen``: the first, where it was looked through.
    """
    windows = SegmentGrid.of(first)
    courses = together([partial(track_delay, windows, other, band, search) for other in others])
    aligned = [
        _AlignedPair(first, o, c, band) if isinstance(c, DelayTrack) else c
        for o, c in zip(others, courses, strict=True)
    ]
    there = [one for one in aligned if isinstance(one, _AlignedPair)]
    if events and there:
        begin_at = onsets(first, replace(seen, mean=0.0) if seen else None)
    else:
        begin_at = []
    for begin, size in iter_chunks(
        first.frames, MAX_IN_MEMORY_FRAMES if first.frames <= MAX_IN_MEMORY_FRAMES else CHUNK_FRAMES
    ):
        inside = [one for one in begin_at if begin <= one.frame < begin + size]
        x = first.read(begin, size)
        together([partial(one.add, begin, x, inside) for one in there])
    return [one.found() if isinstance(one, _AlignedPair) else one for one in aligned]


class _AlignedPair:
    """The second laid over the first by its course, gathered piece by piece."""

    def __init__(
        self, first: SampleSource, second: SampleSource, course: DelayTrack, band: tuple[float, float]
    ) -> None:
        self._first, self._second, self._course, self._band = first, second, course, band
        self._begin, self._end = course.common(first, second)
        segment = even_fast_len(round(min(_SEGMENT * first.rate, (self._end - self._begin) / 8)))
        self._averaged = WelchAccumulator(segment, first.rate, 0.5) if segment >= 64 else None
        self._held: Spectra | None = None
        self._events: list[Event] = []

    def add(self, begin: int, x: Samples, inside: Sequence[Onset]) -> None:
        """X (frames,): the first from ``begin`` on; inside: what begins in it."""
        low, high = max(begin, self._begin), min(begin + x.size, self._end)
        if high <= low:
            return
        a, b = x[low - begin : high - begin], self._course.read(self._second, low, high - low)
        if self._averaged:
            self._averaged.add(a, b)
        taper = np.ones(a.size)
        fade_ends(taper, max(1, min(a.size // 2, round(_TAPER * a.size))))
        rate = self._first.rate
        if self._held:
            size = self._held.size
        else:
            size = transform_size(min(x.size, CHUNK_FRAMES) if x.size > a.size else a.size, rate, _REST + 4 / rate)
        one = spectra(a * taper, b * taper, rate, self._band, size)
        if self._held is None:
            self._held = one
        else:
            self._held = self._held + one
        self._hear(inside)

    def _hear(self, inside: Sequence[Onset]) -> None:
        """Each onset's own delay."""
        rate, course = self._first.rate, self._course
        reach, size = round(_ONSET_REACH * rate), round((BEFORE + AFTER) * rate)
        for onset in inside:
            begin = onset.frame - round(BEFORE * rate)
            if not self._begin <= onset.frame < self._end:
                continue
            a, b = self._first.read(begin, size), course.read(self._second, begin - reach, size + 2 * reach)
            one = onset_delay(a, b, reach, rate, self._band)
            if one is not None:
                delay = course.shift_at(begin - reach, onset.frame) + one.frames
                self._events.append(
                    Event(onset.frame / rate, onset.doubt / rate, delay / rate, one.spread / rate, one.level_db)
                )

    def found(self) -> PathEstimate | NoCorrelation:
        rate, course, held = self._first.rate, self._course, self._held
        # of a sound that repeats the course has told which period it is
        repeats = course.whole is not None and course.whole.ambiguous
        if held:
            rest = delay_of(held, round(_REST * rate + 4), expected=0.0 if repeats else None)
        else:
            rest = NoCorrelation(0.0)
        if isinstance(rest, NoCorrelation) or held is None:
            if isinstance(rest, NoCorrelation):
                return rest
            return NoCorrelation(0.0)
        middle = course.shift_at(self._begin, self._first.frames / 2)
        overall = replace(rest, frames=middle + rest.frames, best=middle + rest.best, before=course.before)
        if course.whole is not None:
            overall = replace(overall, rivals=course.whole.rivals)
        wavers = course.wavers()
        if wavers:  # the whole is most alike at a turning point of the delay: its mean says more
            level = 10 * math.log10(float(held.second.sum()) / float(held.first.sum()))
            overall = replace(overall, frames=float(course.delays.mean()), spread=wavers, level_db=level)
        null = 10 * math.log10(max(1 - rest.correlation**2, 1e-16))
        if self._averaged:
            path = self._averaged.path(-rest.frames, rest.polarity)
        else:
            path = None
        times = course.times / rate
        return PathEstimate(
            overall, course.drift, course.drift_spread, (times, course.delays), wavers, null, tuple(self._events), path
        )
