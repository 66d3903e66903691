"""How one path runs along another: where it begins, and how its delay goes on, from windows laid over each other
again and again.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.delay.delay_estimation import (
    Delay,
    NoCorrelation,
    Spectra,
    delay_between,
    spectra,
    transform_size,
)
from epidote.core.signals.resampling import resample
from epidote.core.signals.sample_source import MAX_IN_MEMORY_FRAMES, SampleSource, iter_chunks
from epidote.core.signals.signal import Samples

_MOST_WINDOWS, _LEAST_WINDOW, _LONGEST_WINDOW = 64, 0.1, 2.0
_SHORTEST_WINDOW, _ENOUGH = 0.02, 0.7  # s; share of the windows that must be found
_DRIFT_SEEN, _DRIFT_SURE = 0.05, 4.0  # frames over the record; times its spread
_PASSES = 3
_MOST_PPM = 2000.0
_WAVERS, _LEAST_WAVER = 3.0, 0.02  # times the spread of a window's delay; frames
_ALIKE = 0.3
_AGREES = 6.0  # times the spread, or the usual distance
_FEW = 8  # windows
_FADE = 0.02  # s at either end


@dataclass(frozen=True)
class DelayTrack:
    """start: delay at the first's frame 0, drift: frames by frame, with its spread; times, delays and spreads: of each
    window, in frames; before: correlation as it came.
    """

    start: float
    drift: float
    drift_spread: float
    times: Samples
    delays: Samples
    spreads: Samples
    before: float
    whole: Delay | None = None  # of both as a whole, where they could be held at once

    def shift_at(self, begin: int, middle: float) -> float:
        """By how much later than its place in the first the second is read where a stretch begins at ``begin``."""
        return _shift_at(begin, self.start, self.drift, middle)

    def read(self, second: SampleSource, begin: int, size: int) -> Samples:
        """Return what of the second belongs to ``size`` frames of the first from ``begin``; without drift to the
        nearest frame.
        """
        return _read(second, begin, size, self.start, self.drift)

    def common(self, first: SampleSource, second: SampleSource) -> tuple[int, int]:
        """First frame and end, in the first, of what both hold."""
        begin = max(0, math.ceil(-self.start))
        return begin, max(begin, min(first.frames, math.floor((second.frames - self.start) / (1 + self.drift))))

    def wavers(self) -> float:
        """Root mean square in frames by which the delay departs from the straight line, beyond what noise explains."""
        if self.times.size < 4:
            return 0.0
        rest = self.delays - self.start - self.drift * self.times
        rest = rest - float(np.median(rest))
        power = float(np.mean(rest**2) - np.mean(self.spreads**2))
        usual = math.sqrt(float(np.mean(self.spreads**2)))
        rms = math.sqrt(max(0.0, power))
        if rms > max(_WAVERS * usual, _LEAST_WAVER):
            return rms
        return 0.0


def track_delay(
    windows: SegmentGrid, second: SampleSource, band: tuple[float, float], search: float
) -> DelayTrack | NoCorrelation:
    """Return the second along that whose windows are given, both at one rate. band in Hz, search in s.

    What is longer than can be held has its delay looked for in its loudest windows, and followed from one to the next.
    """
    first, rate = windows.way, windows.way.rate
    begin = _first_delay(windows, second, band, search)
    if isinstance(begin, NoCorrelation):
        return begin
    start, drift, drift_spread = begin.frames, 0.0, math.inf
    radius = _search_radius(first)
    times, delays, spreads, share = _segment_delays(windows, second, band, start, 0.0, reach=radius, place=begin.window)
    # the delay may move so quickly that it is smeared within a window
    while share < _ENOUGH and windows.size > _SHORTEST_WINDOW * rate:
        windows = SegmentGrid.of(first, max(windows.size / rate / 4, _SHORTEST_WINDOW))
        shorter = _segment_delays(windows, second, band, start, 0.0, reach=radius, place=begin.window)
        if shorter[3] <= share:
            break
        times, delays, spreads, share = shorter
    for _ in range(_PASSES):
        fitted = _robust_line_fit(times, delays, spreads)
        if fitted is None:
            break
        last = drift
        start, drift, drift_spread = fitted
        if abs(drift) < _DRIFT_SURE * drift_spread or abs(drift) * first.frames < _DRIFT_SEEN:
            drift = 0.0
            start = _usual_delay(delays, spreads)
        if abs(drift - last) * first.frames < _DRIFT_SEEN / 10:
            break
        times, delays, spreads, _ = _segment_delays(
            windows, second, band, start, drift, reach=max(0.002, 2 * float(np.ptp(delays)) / rate)
        )
    return DelayTrack(start, drift, drift_spread, times, delays, spreads, begin.correlation, begin.whole)


@dataclass(frozen=True)
class _FirstDelay:
    """frames: of the delay to begin with.

    window: in which it was found, None where it is that of all. correlation: as it came; whole: the delay of the whole,
    where it could be held.
    """

    frames: float
    correlation: float
    window: int | None = None
    whole: Delay | None = None


def _first_delay(
    windows: SegmentGrid, second: SampleSource, band: tuple[float, float], search: float
) -> _FirstDelay | NoCorrelation:
    """Return the delay of the whole, or of the loudest window of what is too long for that or has no common delay as a
    whole.
    """
    first = windows.way
    if max(first.frames, second.frames) > MAX_IN_MEMORY_FRAMES:
        correlation = _raw_correlation(first, second, band)
        seed = _initial_delay(windows, second, band, search)
        if seed is None:
            return NoCorrelation(abs(correlation))
        return _FirstDelay(float(seed[0]), correlation, seed[1])
    a, b = first.read(0, first.frames), second.read(0, second.frames)
    delay = delay_between(a, b, first.rate, band, search, fade=round(_FADE * first.rate))
    if isinstance(delay, Delay):
        return _FirstDelay(delay.frames, delay.before, whole=delay)
    seed = _initial_delay(windows, second, band, search)
    if seed is None:
        return delay
    return _FirstDelay(float(seed[0]), 0.0)


@dataclass(frozen=True)
class SegmentGrid:
    """Where a way is held against others: ``size`` frames from each of ``begins``, with the energy that is there."""

    way: SampleSource
    size: int
    begins: tuple[int, ...]
    energy: tuple[float, ...]

    @staticmethod
    def of(source: SampleSource, length: float | None = None) -> SegmentGrid:
        """Windows of about ``length`` s, all over the way."""
        rate = source.rate
        if length is None:
            length = min(max(source.frames / rate / 16, _LEAST_WINDOW), _LONGEST_WINDOW)
        size = min(round(length * rate), source.frames)
        count = min(_MOST_WINDOWS, max(1, 2 * source.frames // size - 1))
        begins = tuple(round(v) for v in np.linspace(0, source.frames - size, count))
        return SegmentGrid(source, size, begins, tuple(float(np.square(source.read(b, size)).sum()) for b in begins))


def _search_radius(first: SampleSource) -> float:
    """How far in s the delay of a window may lie from where it is looked for: as two clocks may drift apart, in a
    long record from one window to the next.
    """
    if first.frames > MAX_IN_MEMORY_FRAMES:
        spacing = first.frames / (_MOST_WINDOWS - 1)
    else:
        spacing = first.frames
    return 0.005 + _MOST_PPM * 1e-6 * spacing / first.rate


def _raw_correlation(first: SampleSource, second: SampleSource, band: tuple[float, float]) -> float:
    """Correlation as it came, of windows all over a long record."""
    size = round(_LONGEST_WINDOW * first.rate)
    begins = [round(v) for v in np.linspace(0, first.frames - size, _FEW)]
    length = transform_size(size, first.rate, 0)
    segments = [spectra(first.read(b, size), second.read(b, size), first.rate, band, length) for b in begins]
    return _sum(segments).before()


def _sum(segments: list[Spectra]) -> Spectra:
    total = segments[0]
    for one in segments[1:]:
        total = total + one
    return total


def _initial_delay(
    windows: SegmentGrid, second: SampleSource, band: tuple[float, float], search: float
) -> tuple[float, int] | None:
    """Delay of the loudest window that is found at all, and where that begins: a long record that drifts is nowhere
    alike as a whole.
    """
    size, rate = windows.size, windows.way.rate
    reach = round(search * rate)
    for _, begin in sorted(zip(windows.energy, windows.begins, strict=True), reverse=True)[:4]:
        x = windows.way.read(begin, size)
        best: tuple[float, float] | None = None
        low = max(0, begin - reach)
        end = min(second.frames, begin + size + reach)
        for offset, frames in iter_chunks(max(0, end - low)):
            # by the window's length more, so that none falls between two
            more = min(frames + size, end - low - offset)
            delay = delay_between(x, second.read(low + offset, more), rate, band, max(more, size) / rate)
            if isinstance(delay, Delay) and (best is None or delay.correlation > best[0]):
                best = delay.correlation, delay.frames + low + offset - begin
        if best is not None and abs(best[1]) <= reach + 1:
            return best[1], begin
    return None


def _segment_delays(
    windows: SegmentGrid,
    second: SampleSource,
    band: tuple[float, float],
    start: float,
    drift: float,
    *,
    reach: float,
    place: int | None = None,
) -> tuple[Samples, Samples, Samples, float]:
    """Middle, delay and its spread, all in frames, of each window in which there is something in common; and the share
    of those that are loud.

    With ``place`` (a frame of the first at which ``start`` holds) the delay is followed outwards from there, window by
    window.
    """
    rate, size = windows.way.rate, windows.size
    taper = 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(size) + 0.5) / size)
    loud = 1e-5 * max(windows.energy)
    rows: list[tuple[float, float, float]] = []
    tried = 0
    order = zip(windows.begins, windows.energy, strict=True)
    for begin, energy in order if place is None else sorted(order, key=lambda one: abs(one[0] - place)):
        middle = begin + size / 2
        if place is not None and rows:
            start = min(rows, key=lambda row: abs(row[0] - middle))[1]
        at = begin + start + drift * middle
        if at < 0 or at + size > second.frames or energy < loud:
            continue
        tried += 1
        x = windows.way.read(begin, size)
        y = _read(second, begin, size, start, drift)
        delay = delay_between(x * taper, y * taper, rate, band, reach, watch_dispersion=False, expected=0.0)
        if isinstance(delay, Delay) and delay.correlation > _ALIKE and math.isfinite(delay.spread):
            rows.append((middle, _shift_at(begin, start, drift, middle) + delay.frames, delay.whole_spread))
    table = np.array(sorted(rows)).reshape(-1, 3)
    return table[:, 0], table[:, 1], np.maximum(table[:, 2], 1e-9), len(rows) / max(1, tried)


def _shift_at(begin: int, start: float, drift: float, middle: float) -> float:
    """By how much later than its place in the first a stretch was read from the second."""
    if drift:
        return start + drift * middle
    return float(round(begin + start) - begin)


def _read(second: SampleSource, begin: int, size: int, start: float, drift: float) -> Samples:
    """Return what of the second belongs to ``size`` frames of the first from ``begin``; without drift to the nearest
    frame.
    """
    if not drift:
        return second.read(round(begin + start), size)
    pad = 128
    place = begin + start + drift * begin
    low = math.floor(place) - pad
    return resample(second.read(low, math.ceil(size * (1 + drift)) + 2 * pad), 1 + drift, place - low, size)


def _usual_delay(delays: Samples, spreads: Samples) -> float:
    """Weighted mean of the windows that agree: a coder's or a room's own noise may be alike in both ways at a delay
    of its own.
    """
    weights = spreads**-2.0
    order = np.argsort(delays)
    cumulative = np.cumsum(weights[order])
    middle = float(delays[order][np.searchsorted(cumulative, cumulative[-1] / 2)])
    away = np.abs(delays - middle)
    near = _agree(away, spreads)
    return float(np.average(delays[near], weights=weights[near]))


def _agree(away: Samples, spreads: Samples) -> NDArray[np.bool_]:
    """Which windows are no further away from a robust figure than their spread, or the usual distance, explains."""
    return np.asarray(away <= _AGREES * np.maximum(spreads, float(np.median(away))))


def _robust_line_fit(times: Samples, delays: Samples, spreads: Samples) -> tuple[float, float, float] | None:
    """Delay at frame 0, frames by frame, and the spread of that; None with less than three windows.

    A robust line (Theil, Sen) tells which windows belong to it, a weighted one through those what it is.
    """
    if times.size < 3:
        return None
    from scipy.stats import theilslopes

    robust = theilslopes(delays, times)
    slope, level = float(robust[0]), float(robust[1])
    away = np.abs(delays - level - slope * times)
    near = _agree(away, spreads)
    t, d, w = times[near], delays[near], spreads[near] ** -2.0
    if t.size < 3:
        return None
    mid = float(np.average(t, weights=w))
    moment = float((w * (t - mid) ** 2).sum())
    slope = float((w * (t - mid) * d).sum()) / moment
    level = float(np.average(d, weights=w))
    # windows that scatter more than their noise explains make the line less sure as well
    chi = max(1.0, float((w * (d - level - slope * (t - mid)) ** 2).sum()) / (t.size - 2))
    return level - slope * mid, slope, math.sqrt(chi / moment)
