"""A recording of programme laid over its original: delay, clock, polarity, gain, and the linear path between them.

The steps are those of docs/methods.md, Programme. The reference is free of noise, so it is the one that is warped to
the recording's clock and filtered; the recording stays as it is.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy.linalg import solve_toeplitz

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends

_COARSE, _WHITENED = 2**17, 1e-3
_BLOCKS, _BLOCK, _MOST_PPM = 24, 2**15, 1000.0
MOST_TAPS, _BEFORE, _SHARE = 16384, 512, 24  # of the filter; at most one tap for so many frames
_REGULARISED = 1e-9  # of the reference's power
_REFINEMENTS = 2
_MENDED = 2  # times that dropouts are replaced by a model which their absence has made better
_PASSES, _SETTLED = 5, 2e-6  # passes of the clock; frames at the ends of the record that a step may still move
_DROPOUT, _DROPOUT_DB, _MOST_DROPOUTS = 0.05, 20.0, 0.1  # s, dB over the median, share of the record
_MISSING = 0.02  # of a block's power, which a gap of 1 ms takes away
_FOUND = 8.0  # times the median of the correlation, above which it is the same sound
_FADE = 0.01  # s


@dataclass(frozen=True, eq=False)
class Alignment:
    """delay: of the recording in frames at its first frame of sound; ppm: how much faster the recorder's clock ran;
    polarity: 1 or -1; gain: in dB. reference (frames,): the original on the recording's clock and place, at its own
    gain; recording (frames,): what it is compared with. equalised (frames,): the reference through the fitted linear
    path, path (taps,), the main tap being ``before``. lost: stretches in s that were taken for dropouts.
    """

    delay: float
    ppm: float
    polarity: int
    gain: float
    reference: Samples
    recording: Samples
    equalised: Samples
    path: Samples
    before: int
    lost: tuple[tuple[float, float], ...]
    rate: float

    @property
    def residual(self) -> Samples:
        """What differs once delay, clock, polarity and gain are taken out (frames,)."""
        return self.recording - self.polarity * 10 ** (self.gain / 20) * self.reference

    @property
    def residual_equalised(self) -> Samples:
        """What differs once the linear path is taken out, too (frames,)."""
        return self.recording - self.equalised


@dataclass(frozen=True)
class _Place:
    """Where the original lies: delay in frames of its frame 0, clock in ppm, and sign."""

    delay: float
    ppm: float
    polarity: int

    def warped(self, original: Samples, frames: int) -> Samples:
        """Return the original (n,) as the recorder's clock saw it (frames,)."""
        step = 1 / (1 + self.ppm * 1e-6)
        return resample(original, step, -self.delay * step, frames)

    def refined(self, original: Samples, heard: Samples) -> _Place:
        """Return the place at which the original resembles what was heard (frames,) most, between frames too."""
        reference = self.warped(original, heard.size)
        size = even_fast_len(2 * heard.size)
        cross = transforms.rfft(heard, size) * np.conj(transforms.rfft(reference, size))
        lag, _ = refined_lag(cross, size, 0.0)
        return replace(self, delay=self.delay + max(-1.0, min(1.0, lag)))


def align(
    original: Samples, recording: Samples, rate: float, *, clock_ppm: float | None = None, most_taps: int = MOST_TAPS
) -> Alignment:
    """Return how a recording (m,) follows from an original (n,).

    clock_ppm: how much faster the recorder's clock ran than the player's, where it is known; else it is found.
    most_taps: of the fitted path. Raises UnusableInputError where the two have nothing in common.
    """
    # Step 1: coarse delay and polarity, then the clock from many blocks
    place = _coarse(original, recording)
    if clock_ppm is None:
        place = _clocked(original, recording, place)
    else:
        place = _Place(place.delay, clock_ppm, place.polarity)
    first = max(0, math.floor(place.delay) - round(0.05 * rate))
    last = min(recording.size, math.ceil(place.delay + original.size * (1 + place.ppm * 1e-6)) + round(0.3 * rate))
    heard = _faded(recording[first:last], rate)
    here = _Place(place.delay - first, place.ppm, place.polarity)
    # Steps 2 to 4: warp, fit the linear path, refine the clock
    taps = max(64, min(most_taps, heard.size // _SHARE))
    before = min(_BEFORE, taps // 4)
    here, fit, path = _fitted(
        original, heard, here.refined(original, heard), taps, before, find_clock=clock_ppm is None
    )
    modelled = fit.through(path)
    # Step 5: dropouts are replaced by the model, and clock and path are fitted again
    lost = _dropouts(heard - modelled, modelled, rate)
    for _ in range(_MENDED if lost else 0):
        mended = heard.copy()
        for begin, end in lost:
            mended[begin:end] = modelled[begin:end]
        here, fit, path = _fitted(original, mended, here, taps, before, find_clock=clock_ppm is None)
        modelled = fit.through(path)
    main = int(np.argmax(np.abs(path)))
    polarity = 1 if path[main] >= 0 else -1
    # the place at which the reference resembles the recording most, by its greatest tap and between frames
    delayed = _Place(here.delay + main - before, here.ppm, polarity).refined(original, heard)
    reference = delayed.warped(original, heard.size)
    power = float(reference @ reference)
    gain = abs(float(reference @ heard)) / max(power, 1e-300)
    seconds = tuple(((first + b) / rate, (first + e) / rate) for b, e in lost)
    return Alignment(
        delayed.delay + first,
        here.ppm,
        polarity,
        20 * math.log10(max(gain, 1e-12)),
        reference,
        heard,
        modelled,
        path,
        before,
        seconds,
        rate,
    )


def _fitted(
    original: Samples, heard: Samples, place: _Place, taps: int, before: int, *, find_clock: bool
) -> tuple[_Place, _Fit, Samples]:
    """Return the place with its clock, the normal equations there, and the path (taps,) to what was heard (frames,)."""
    fit = _Fit(place.warped(original, heard.size), taps, before)
    for _ in range(_PASSES if find_clock else 0):
        step = _clock_step(fit, heard)
        place = replace(place, ppm=place.ppm + step)
        fit = _Fit(place.warped(original, heard.size), taps, before)
        if abs(step) * 1e-6 * heard.size / 2 < _SETTLED:
            break
    return place, fit, fit.solve(heard)


def _faded(x: Samples, rate: float) -> Samples:
    """Return x (frames,) with faded ends: only then is the matrix of the least squares exactly Toeplitz."""
    out = x.copy()
    fade_ends(out, min(round(_FADE * rate), x.size // 4))
    return out


def _coarse(original: Samples, recording: Samples) -> _Place:
    """Return delay and polarity from the loudest stretch of the original."""
    size = min(_COARSE, original.size)
    cumulative = np.concatenate([[0.0], np.cumsum(np.square(original))])
    starts = np.arange(0, max(1, original.size - size + 1), max(1, size // 8))
    begin = int(starts[np.argmax(cumulative[starts + size] - cumulative[starts])])
    height = _whitened(recording, original[begin : begin + size])
    place = int(np.argmax(np.abs(height)))
    if abs(height[place]) < _FOUND * float(np.median(np.abs(height))) / NORMAL_MEDIAN or not recording.any():
        raise UnusableInputError(
            "The recording has nothing in common with the original. Nothing was computed; check that it is the"
            " recording of this file, and that it is loud enough."
        )
    lag = place if place < recording.size else place - height.size
    return _Place(float(lag - begin), 0.0, 1 if height[place] > 0 else -1)


def _whitened(x: Samples, part: Samples) -> Samples:
    """Cross-correlation of x (n,) with a part (m,), weighted so that all frequencies count nearly alike."""
    size = even_fast_len(x.size + part.size)
    cross = transforms.rfft(x, size) * np.conj(transforms.rfft(part, size))
    magnitude = np.abs(cross)
    return np.asarray(transforms.irfft(cross / (magnitude + _WHITENED * magnitude.max() + 1e-300), size))


def _clocked(original: Samples, recording: Samples, place: _Place) -> _Place:
    """Return the place with the clock: a robust line (Theil, Sen) through the delays of blocks."""
    block = min(_BLOCK, original.size // 4)
    starts = np.linspace(0, original.size - block, _BLOCKS).astype(int)
    reach = math.ceil(original.size * _MOST_PPM * 1e-6) + 32
    at, lags = [], []
    loudest = max(float(np.square(original[s : s + block]).sum()) for s in starts)
    for start in starts.tolist():
        part = original[start : start + block]
        if float(np.square(part).sum()) < 1e-4 * loudest:
            continue
        begin = round(place.delay) + start - reach
        section = np.zeros(block + 2 * reach)
        low, high = max(0, begin), min(recording.size, begin + section.size)
        if high - low < block // 2:
            continue
        section[low - begin : high - begin] = recording[low:high]
        height = _whitened(section, part)[: 2 * reach + 1]
        top = int(np.argmax(np.abs(height)))
        at.append(start + block / 2)
        lags.append(top - reach + _parabola(np.abs(height), top))
    if len(at) < 4:
        return place
    x, y = np.array(at), np.array(lags)
    i, j = np.triu_indices(x.size, 1)
    slope = float(np.median((y[j] - y[i]) / (x[j] - x[i])))
    offset = float(np.median(y - slope * x))
    return _Place(place.delay + offset, slope * 1e6, place.polarity)


def _parabola(y: Samples, top: int) -> float:
    if not 0 < top < y.size - 1:
        return 0.0
    left, mid, right = y[top - 1 : top + 2].tolist()
    bend = left - 2 * mid + right
    return 0.0 if bend == 0 else 0.5 * (left - right) / bend


class _Fit:
    """The least-squares filter from a reference (frames,) to a recording, the normal equations made once."""

    def __init__(self, reference: Samples, taps: int, before: int) -> None:
        self.taps, self.before = taps, before
        self.frames = reference.size
        self.size = even_fast_len(reference.size + 2 * taps)
        self.spectrum = transforms.rfft(reference, self.size)
        column = transforms.irfft(np.square(np.abs(self.spectrum)), self.size)[:taps]
        self.column = column.copy()
        self.column[0] *= 1 + _REGULARISED

    def correlated(self, x: Samples) -> Samples:
        """Return the correlation of x (frames,) with the reference at the taps' lags (taps,)."""
        height = transforms.irfft(transforms.rfft(x, self.size) * np.conj(self.spectrum), self.size)
        return np.asarray(np.take(height, np.arange(-self.before, self.taps - self.before), mode="wrap"))

    def solve(self, x: Samples, *, refine: bool = True) -> Samples:
        """Return the filter (taps,) whose output from the reference is nearest to x (frames,)."""
        wanted = self.correlated(x)
        path = np.asarray(solve_toeplitz(self.column, wanted))
        if not refine:
            return path
        # refinement: what the model leaves of the record, fitted again, takes the regularisation's bias away
        for _ in range(_REFINEMENTS):
            left = self.correlated(x - self.through(path))
            path = path + np.asarray(solve_toeplitz(self.column, left))
        return path

    def through(self, path: Samples) -> Samples:
        """Return the reference through a filter (frames,)."""
        circle = np.zeros(self.size)
        circle[: self.taps - self.before] = path[self.before :]
        circle[self.size - self.before :] = path[: self.before]
        return np.asarray(transforms.irfft(self.spectrum * transforms.rfft(circle), self.size)[: self.frames])


def _clock_step(fit: _Fit, heard: Samples) -> float:
    """Return by how many ppm the clock is off, by variable projection: what a change of it would do to the model, less
    what a filter can do.
    """
    modelled = fit.through(fit.solve(heard, refine=False))
    spectrum = transforms.rfft(modelled, fit.size)
    slope = transforms.irfft(spectrum * (2j * np.pi * np.arange(spectrum.size) / fit.size), fit.size)[: fit.frames]
    moved = -(np.arange(fit.frames) - fit.frames / 2) * slope
    moved -= fit.through(fit.solve(moved, refine=False))
    power = float(moved @ moved)
    if power <= 0:
        return 0.0
    return float((heard - modelled) @ moved) / power * 1e6


def _dropouts(residual: Samples, modelled: Samples, rate: float) -> list[tuple[int, int]]:
    """Return the blocks, from frame to frame, in which far more is left than usual and much of the sound is missing;
    none where that is too much. Distortion of loud notes leaves more than usual, but little of the sound.
    """
    block = round(_DROPOUT * rate)
    count = residual.size // block
    if count < 8:
        return []
    powers, own = (np.square(x[: count * block]).reshape(count, block).mean(axis=1) for x in (residual, modelled))
    usual = float(np.median(powers))
    odd = np.flatnonzero((powers > usual * 10 ** (_DROPOUT_DB / 10)) & (powers > _MISSING * own))
    if usual <= 0 or odd.size > _MOST_DROPOUTS * count:
        return []
    return [(int(n) * block, (int(n) + 1) * block) for n in odd]


def null_depth(residual: Samples, reference: Samples, taps: int = 0) -> float:
    """Return the residual's power re the recording's in dB; taps: of the filter that took its share of the noise."""
    share = max(1e-3, 1 - taps / max(1, residual.size))
    power = float(np.mean(np.square(residual))) / share
    return 10 * math.log10(max(power, 1e-30) / max(float(np.mean(np.square(reference))), 1e-30))
