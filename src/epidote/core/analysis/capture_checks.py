"""What can be wrong with a recording before anything is computed from it."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from epidote.core.errors import UnusableInputError
from epidote.core.quantities.units import from_db, to_db
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.signals.fft_lengths import trim_to_fast_length
from epidote.core.signals.signal import BLOCK_FRAMES, Samples, Signal, block_min_max

QUIET_PEAK = from_db(-60.0)
DC_LIMIT = 0.01
_FLAT_RUN, _FLAT_COUNT = 3, 3
_GAP = 32
_AT_ZERO = 0.01  # of the peak
_SLOW = 0.05  # rad from sample to sample: 380 Hz at 48 kHz
_BLOCK = 256
_HALF = _BLOCK // 2
_PIECE = 64 * _HALF  # pieces that stay in the processor's cache


def require_valid(signal: Signal, least_frames: int) -> None:
    """Raise UnusableInputError for samples that are not finite, or too few of them."""
    if signal.channels < 1 or signal.frames < least_frames:
        raise UnusableInputError(
            f"The recording is too short ({signal.frames} of at least {least_frames} samples). Nothing was computed;"
            " make a longer recording."
        )
    if not all(np.isfinite(signal.peak(number)) for number in range(1, signal.channels + 1)):
        bad = int(np.count_nonzero(~np.isfinite(signal.samples)))
        raise UnusableInputError(
            f"The recording has invalid samples (NaN or infinite): {bad}. Nothing was computed; export it again."
        )


def is_clipped(x: Samples, unit: str, extremes: tuple[Samples, Samples] | None = None) -> bool:
    """Flat tops: runs of equal samples at the greatest or least value, in several places, or at digital full scale.

    x (frames,); ``extremes`` as ``Signal.extremes`` gives them, where they are known.

    A slow tone has equal samples at its peaks too, as long as it changes by less than a step there; but then it leaves
    them as slowly: half a run's length away it has fallen by three steps, where a cut-off top has fallen by three times
    what was cut off.
    """
    # full scale to within a step of 16 bits
    limit = 1 - 2.0**-15
    highs, lows = extremes or block_min_max(x)
    for tops, sign in ((highs, 1.0), (-lows, -1.0)):
        top = float(tops.max())
        if top <= QUIET_PEAK and unit == "FS":
            continue
        if unit == "FS" and top >= limit and _has_flat_tops(x, sign, tops, limit):
            return True
        if top > 0 and _has_flat_tops(x, sign, tops, top * (1 - 1e-7)):
            return True
    return False


def _has_flat_tops(x: Samples, sign: float, tops: Samples, level: float) -> bool:
    """Whether at least three runs of three or more samples of ``sign`` x at or above ``level`` end in a corner
    instead of a crest.

    tops (blocks,): the greatest of each block, so that only blocks that reach the level are looked through.
    """
    high, top = np.flatnonzero(tops >= level), float(tops.max())
    parts = [
        np.flatnonzero(sign * x[i * BLOCK_FRAMES : (i + 1) * BLOCK_FRAMES] >= level) + i * BLOCK_FRAMES for i in high
    ]
    if parts:
        at_top = np.concatenate(parts)
    else:
        at_top = np.zeros(0, int)
    if at_top.size < _FLAT_RUN * _FLAT_COUNT:
        return False
    # runs of neighbouring samples at the top
    begin = np.flatnonzero(np.diff(at_top, prepend=-2) > 1)
    lengths = np.diff(begin, append=at_top.size)
    long = lengths >= _FLAT_RUN
    starts, lengths = at_top[begin][long], lengths[long]
    # the converter's step, from the differences of the values that occur
    sample = np.unique(x[: at_top[0] + 4096 : max(1, x.size // 65536)][-8192:])
    step = max(float(np.diff(sample).min(initial=1.0)), 1e-7 * top)
    # half a run's length outside either end: by how much the signal has fallen there
    beyond = lengths // 2 + 1
    after = np.minimum(starts + lengths - 1 + beyond, x.size - 1)
    before = np.maximum(starts - beyond, 0)
    fallen = top - np.minimum(sign * x[after], sign * x[before])
    return int(np.count_nonzero(fallen > 40 * step)) >= _FLAT_COUNT


def has_discontinuity(x: Samples, peak: float | None = None) -> bool:
    """Return samples lost on the way, from a tone or sweep (frames,): a stretch of zeros, or a jump.

    Over a few cycles a tone, and a sweep, obey x[n+1] + x[n-1] = c x[n]; what breaks that in one isolated place is a
    jump. A signal that breaks it everywhere (noise, distortion in every cycle) has none, nor one that
    breaks it where it passes through zero (crossover distortion).
    """
    if peak is None:
        if x.size:
            peak = float(max(x.max(), -x.min()))
        else:
            peak = 0.0
    # leave out silence at both ends
    first, end = _loud_span(x, 0.1 * peak)
    if peak == 0 or end - first < 4 * _BLOCK:
        return False
    inner = x[first:end]
    if np.count_nonzero(inner[:: _GAP // 2]) < inner[:: _GAP // 2].size:  # no run of zeros slips between those
        zeros = np.flatnonzero(inner == 0)
        if zeros.size > _GAP and bool(np.any(zeros[_GAP:] - zeros[:-_GAP] == _GAP)):
            return True
    # a jump worth the name is seen in single precision, and breaks the law at two samples in a row, so every other one
    # will do
    even, odd = inner[::2].astype(np.float32), inner[1::2].astype(np.float32)
    error = np.concatenate(
        [
            _prediction_error(even[i : i + _PIECE + 1], odd[i : i + _PIECE])
            for i in range(0, even.size - _HALF - 1, _PIECE)
        ]
    )
    high = np.flatnonzero(error > 1e-3 * peak)
    # neighbours, not the whole record: distortion and noise vary slowly along a sweep
    if high.size == 0:
        return False
    jumps = high[error[high] > 8 * median_of_neighbours(error, high)]
    most = max(4, error.size // 50)
    gaps = 0
    for block in jumps:
        piece = inner[block * _BLOCK : (block + 1) * _BLOCK + 2]
        gaps += not _is_at_zero(piece, peak)
        if gaps > most:
            return False
    return gaps > 0


def _is_at_zero(x: Samples, peak: float) -> bool:
    """Whether what breaks the law of a tone in x (frames,) is where it passes through zero, on both sides of the break.

    So it is with crossover distortion, in a slow tone at one place of each half period; samples that are lost leave a
    step from one place of the tone to another.
    """
    centre, sides = x[1:-1], x[:-2] + x[2:]
    c = float(centre @ sides) / max(float(centre @ centre), np.finfo(float).tiny)
    worst = int(np.abs(sides - c * centre).argmax())
    step = math.acos(min(1.0, max(-1.0, c / 2)))  # of the tone's phase from sample to sample
    zone = _AT_ZERO
    if step < _SLOW:
        zone = max(zone, 2 * step)  # two samples before or after zero; of faster tones every block has a kink
    return float(np.abs(x[worst : worst + 3]).max()) < zone * peak


def _loud_span(x: Samples, limit: float) -> tuple[int, int]:
    """From the first sample of x (frames,) beyond ``limit`` to after the last.

    They are near the ends as a rule, so not all are looked at.
    """
    ends = []
    for turned in (x, x[::-1]):
        reach = 4096
        while not (loud := np.abs(turned[:reach]) > limit).any() and reach < x.size:
            reach *= 4
        ends.append(int(np.argmax(loud)))
    return ends[0], x.size - ends[1]


def _prediction_error(even: NDArray[np.float32], odd: NDArray[np.float32]) -> NDArray[np.float32]:
    """Greatest |x[n+1] + x[n-1] - c x[n]| over the odd n of each whole block, with the c that fits the block best."""
    count = min(odd.size, even.size - 1) // _HALF
    span = count * _HALF
    centre = odd[:span].reshape(count, _HALF)
    sides = (even[:span] + even[1 : span + 1]).reshape(count, _HALF)
    c = np.vecdot(centre, sides) / np.maximum(np.vecdot(centre, centre), np.finfo(np.float32).tiny)
    sides -= c[:, None] * centre
    return np.asarray(np.abs(sides, out=sides).max(axis=1))


def median_of_neighbours(values: NDArray[np.float32], at: NDArray[np.int64], reach: int = 4) -> Samples:
    """Median (places,) of what stands within ``reach`` of each place of values (blocks,)."""
    padded = np.pad(values, reach, mode="reflect" if values.size > reach else "edge")
    return np.asarray(
        np.partition(np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)[at], reach, axis=1)[:, reach]
    )


def capture_cautions(signal: Signal, channel: int, *, gaps: bool = True) -> tuple[Caution, ...]:
    """Return what is wrong with one channel (from 1) of a capture of a tone or sweep.

    Of several tones at once, which break what a gap is looked for by, without ``gaps``.
    """
    x = signal.channel(channel)
    cautions = []
    peak = signal.peak(channel)
    if is_clipped(x, signal.unit, signal.extremes(channel)):
        cautions.append(Caution.CLIPPED)
    elif gaps and has_discontinuity(x, peak):
        cautions.append(Caution.DROPOUT)
    if signal.unit == "FS":
        if peak < QUIET_PEAK:
            cautions.append(Caution.TOO_QUIET)
        if abs(float(x.mean())) > DC_LIMIT:
            cautions.append(Caution.DC)
    return tuple(cautions)


def headroom(signal: Signal, channel: int) -> Reading:
    """Return what is left between the greatest sample of a channel and digital full scale."""
    peak = signal.peak(channel)
    return Reading("headroom", channel, -to_db(peak) if peak > 0 and signal.unit == "FS" else None, "dB")


def settled_segment(x: Samples, rate: float, settle: float, seconds: float | None, least: int) -> Samples:
    """Return the steady part of x (frames,) less ``settle`` s at its beginning, ``seconds`` of it at most, in a length
    that transforms quickly.

        All of x where that leaves fewer than ``least`` frames.
    """
    first, end = steady_interval(x, rate)
    first = min(first + round(settle * rate), end)
    if seconds is not None:
        end = min(end, first + round(seconds * rate))
    return trim_to_fast_length(x[first:end] if end - first >= least else x)


def steady_interval(x: Samples, rate: float) -> tuple[int, int]:
    """First and end frame of the longest stretch of even loudness in x (frames,): a tone without its silence and
    ramps.
    """
    block = max(64, round(0.05 * rate))
    count = x.size // block
    if count < 4:
        return 0, x.size
    blocks = x[: count * block].reshape(count, block)
    power = np.einsum("ij,ij->i", blocks, blocks) / block
    loud = power > 0.25 * np.median(power[power >= 0.25 * power.max()])
    edges = np.flatnonzero(np.diff(np.concatenate([[False], loud, [False]]).astype(int)))
    starts, ends = edges[::2], edges[1::2]
    if starts.size == 0:
        return 0, x.size
    best = int(np.argmax(ends - starts))
    first, end = int(starts[best]), int(ends[best])
    # blocks at an onset hold part of the ramp; where the record itself begins or ends there is none
    if first == 0:
        low = 0
    else:
        low = (first + 1) * block
    if end == count:
        high = x.size
    else:
        high = (end - 1) * block
    if high - low >= block:
        return (low, high)
    return (0, x.size)
