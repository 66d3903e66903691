"""A recording of programme laid over its original: delay, clock, polarity, gain, and the linear path between them.

The steps are those of docs/methods.md, Programme. The reference is free of noise, so it is the one that is warped to
the recording's clock and filtered; the recording stays as it is.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.analysis.listening.linear_path import WHITENED, LinearFit, modelled_through
from epidote.core.concurrency import stop_if_cancelled
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.resampling import Resampler
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends

_COARSE = 2**17
_BLOCKS, _BLOCK, _MOST_PPM = 24, 2**15, 1000.0
MOST_TAPS, _BEFORE, _SHARE = 16384, 512, 24  # of the filter; at most one tap for so many frames
_MENDED = 2  # times that dropouts are replaced by a model which their absence has made better
_CLOCK_TAPS = 4096  # of the path while the clock is looked for
_REFINED_FRAMES = 2**19
_PASSES, _NEARLY, _SETTLED = 5, 0.2, 1e-3  # passes of the clock; frames at the ends that a last step may move
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

    def turned(self, ppm: float, middle: float) -> _Place:
        """Return the place with a clock that is so many ppm faster; what lies at a frame, the middle, stays there."""
        original_middle = (middle - self.delay) / (1 + self.ppm * 1e-6)
        return replace(self, ppm=self.ppm + ppm, delay=self.delay - original_middle * ppm * 1e-6)

    def warped(self, source: Resampler, frames: int) -> Samples:
        """Return the original as the recorder's clock saw it (frames,)."""
        step = 1 / (1 + self.ppm * 1e-6)
        return source.read(step, -self.delay * step, frames)

    def refined(self, source: Resampler, heard: Samples, *, whitened: bool = False) -> _Place:
        """Return the place at which the original resembles what was heard (frames,) most, between frames too; told by
        the middle of the record. whitened: by all frequencies nearly alike, so that a change of the response at low
        ones leaves no fraction of a frame.
        """
        frames = min(heard.size, _REFINED_FRAMES)
        first = (heard.size - frames) // 2
        step = 1 / (1 + self.ppm * 1e-6)
        reference = source.read(step, (first - self.delay) * step, frames)
        size = even_fast_len(2 * frames)
        cross = transforms.rfft(heard[first : first + frames], size) * np.conj(transforms.rfft(reference, size))
        if whitened:
            magnitude = np.abs(cross)
            cross = cross / (magnitude + WHITENED * float(magnitude.max()) + 1e-300)
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
    place, middle = _coarse(original, recording)
    if clock_ppm is None:
        place = _clocked(original, recording, place)
    else:
        # the coarse delay is that of a stretch's middle, by which time the clocks have already drifted apart
        place = _Place(place.delay - middle * clock_ppm * 1e-6, clock_ppm, place.polarity)
    first = max(0, math.floor(place.delay) - round(0.05 * rate))
    last = min(recording.size, math.ceil(place.delay + original.size * (1 + place.ppm * 1e-6)) + round(0.3 * rate))
    missing = _missing_end(original, recording, place, rate)
    if missing:
        last = min(last, round(missing[0][0] * rate))
    heard = _faded(recording[first:last], rate, at_end=not missing)
    here = _Place(place.delay - first, place.ppm, place.polarity)
    source = Resampler(original)
    # Steps 2 to 4: warp, fit the linear path, refine the clock
    taps = max(64, min(most_taps, heard.size // _SHARE))
    before = min(_BEFORE, taps // 4)
    here, fit, path = _fitted(
        source, heard, here.refined(source, heard, whitened=True), taps, before, find_clock=clock_ppm is None
    )
    modelled = modelled_through(fit, path, heard, rate)
    # Step 5: dropouts are replaced by the model, and clock and path are fitted again
    lost = _dropouts(heard - modelled, modelled, rate)
    mended = heard
    plain = fit.through(path)  # a filter with a long memory would learn the dropouts
    for _ in range(_MENDED if lost else 0):
        mended = heard.copy()
        for begin, end in lost:
            mended[begin:end] = plain[begin:end]
        here, fit, path = _fitted(source, mended, here, taps, before, find_clock=clock_ppm is None, near=fit)
        plain = fit.through(path)
    if lost:
        modelled = modelled_through(fit, path, mended, rate)
    main, polarity = fit.main_tap(modelled)
    # the place at which the reference resembles the recording most, by its main tap and between frames
    delayed = _Place(here.delay + main - before, here.ppm, polarity).refined(source, heard)
    reference = delayed.warped(source, heard.size)
    power = float(reference @ reference)
    gain = abs(float(reference @ heard)) / max(power, 1e-300)
    seconds = (*(((first + b) / rate, (first + e) / rate) for b, e in lost), *missing)
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


def _missing_end(original: Samples, recording: Samples, place: _Place, rate: float) -> tuple[tuple[float, float], ...]:
    """Return the stretch in s from where a recording ends to where the original's sound would; () where it is all
    there.
    """
    there = int(np.flatnonzero(recording)[-1]) + 1
    expected = place.delay + (int(np.flatnonzero(original)[-1]) + 1) * (1 + place.ppm * 1e-6)
    if there > expected - _DROPOUT * rate or there < original.size // 8:
        return ()
    return ((there / rate, expected / rate),)


def _fitted(
    source: Resampler,
    heard: Samples,
    place: _Place,
    taps: int,
    before: int,
    *,
    find_clock: bool,
    near: LinearFit | None = None,
) -> tuple[_Place, LinearFit, Samples]:
    """Return the place with its clock, the normal equations there, and the path (taps,) to what was heard (frames,).

    near: the equations of a place that was nearly right.
    """
    fit = near
    if find_clock:
        # a short path tells the clock nearly, the whole one the last thousandths of a ppm; each step squares the error
        fewer = min(taps, _CLOCK_TAPS)
        if near is None:
            place, _ = _clock_found(source, heard, place, fewer, min(before, fewer // 4), settled=_NEARLY)
        place, fit = _clock_found(source, heard, place, taps, before, settled=_SETTLED, near=near)
    stop_if_cancelled()
    fit = LinearFit(place.warped(source, heard.size), taps, before, fit)
    return place, fit, fit.solve(heard)


def _clock_found(
    source: Resampler,
    heard: Samples,
    place: _Place,
    taps: int,
    before: int,
    *,
    settled: float,
    near: LinearFit | None = None,
) -> tuple[_Place, LinearFit | None]:
    """Return the place with a better clock, and the equations shortly before it: once a step moves the ends by less
    than ``settled`` frames, its square is left.
    """
    fit = near
    for _ in range(_PASSES):
        stop_if_cancelled()
        fit = LinearFit(place.warped(source, heard.size), taps, before, fit)
        step = _clock_step(fit, heard)
        place = place.turned(step, heard.size / 2)
        if abs(step) * 1e-6 * heard.size / 2 < settled:
            break
    return place, fit


def _faded(x: Samples, rate: float, *, at_end: bool) -> Samples:
    """Return x (frames,) with faded ends: only then is the matrix of the least squares exactly Toeplitz. A recording
    that ends early ends at once, as its original is cut off there.
    """
    out = x.copy()
    fade_ends(out, min(round(_FADE * rate), x.size // 4))
    if not at_end:
        out[x.size // 2 :] = x[x.size // 2 :]
    return out


def _coarse(original: Samples, recording: Samples) -> tuple[_Place, float]:
    """Return delay and polarity from the loudest stretch of the original, and the frame of its middle."""
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
    return _Place(float(lag - begin), 0.0, 1 if height[place] > 0 else -1), begin + size / 2


def _whitened(x: Samples, part: Samples) -> Samples:
    """Cross-correlation of x (n,) with a part (m,), weighted so that all frequencies count nearly alike."""
    size = even_fast_len(x.size + part.size)
    cross = transforms.rfft(x, size) * np.conj(transforms.rfft(part, size))
    magnitude = np.abs(cross)
    return np.asarray(transforms.irfft(cross / (magnitude + WHITENED * magnitude.max() + 1e-300), size))


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


def _clock_step(fit: LinearFit, heard: Samples) -> float:
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
