"""Sounds from elsewhere in a recording: speech, a door, a passing lorry.

The level of short blocks of stationary noise scatters little and evenly; a block far above the others holds something
else. Blocks are judged as they are and by their differences, so that a slam and a sibilant are both found.

Of a recorded sweep, what lies off its track is judged in the same way: third octaves that neither the sweep nor its
harmonics or reverberation reach at the time. Of several recordings of one sound, their differences are judged, which
hide nothing behind the track (docs/methods.md, Disturbances).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.ndimage import median_filter

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.acoustics.band_levels import bands_within
from epidote.core.analysis.spectral.fractional_octave import edges
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples, as_readonly

_BLOCK = 0.125  # s
_LEAST_BLOCKS = 16
_SCATTERS = 7.0  # times the blocks' own scatter
_LEAST_DB = 1.5
_MOST_SHARE = 0.3  # of the recording that may be left out
_MARGIN = 1  # blocks on either side of a disturbance that are left out, too
_FADE = 0.01  # s, over which what is left is joined
_LEAST_OFF_TRACK_DB, _LEAST_APART_DB = 6.0, 10.0
_FAINT = 1e-6  # re the sweep's own power: what lies lower does not change its response
_NEIGHBOURS = 33  # half blocks (2.1 s) whose median is what lies off the track when nothing else sounds
_OFF_TRACK_BAND = (100.0, 16000.0)  # Hz: below it, a block is too short to tell anything
_FEWEST_BANDS = 3
_HARMONICS = 100  # that are on the track


@dataclass(frozen=True)
class Disturbance:
    """From when to when in s, and by how many dB the block that stands out most does."""

    begin: float
    end: float
    above_db: float


def find_disturbances(x: Samples, rate: float) -> tuple[Disturbance, ...]:
    """Return the stretches of stationary noise x (frames,) in which something else sounds, in their order."""
    block = round(_BLOCK * rate)
    count = x.size // block
    if count < _LEAST_BLOCKS:
        return ()
    above = np.zeros(count)
    for powers in _block_powers(x, block, count):
        levels = 10 * np.log10(np.maximum(powers, 1e-30))
        above = np.maximum(above, _standing_out(levels - float(np.median(levels)), _LEAST_DB))
    return tuple(_runs(above, block / rate))


def _standing_out(over: Samples, least_db: float) -> Samples:
    """Return how far blocks (blocks,) stand out over the usual level, in dB; 0 for those that do not."""
    scatter = float(np.median(np.abs(over))) / NORMAL_MEDIAN
    return np.where(over > max(least_db, _SCATTERS * scatter), over, 0.0)


def find_off_track(x: Samples, d: dc.Deconvolved) -> tuple[Disturbance, ...]:
    """Return the stretches of a recorded sweep x (frames,) in which something else sounds, in their order.

    d: its deconvolution, which says when the sweep began.
    """
    rate = d.kernel.rate
    block = 2 * round(_BLOCK * rate / 2)
    hop = block // 2  # what a window fades out at the end of one block lies in the middle of the next
    count = x.size // hop - 1
    if count < _LEAST_BLOCKS:
        return ()
    # Step 1 (docs/methods.md, Disturbances): power of each block in third octaves that the sweep does not touch
    middle = bands_within(3, *_OFF_TRACK_BAND, rate, x.size)
    powers = np.stack([_band_sums(x[n * hop : n * hop + block], rate, middle) for n in range(count)])
    free = _free_of_sweep(d, middle, np.arange(count) * hop / rate)
    # Step 2: re the band's own background, and its mean over the bands
    background = np.nanmedian(np.where(free, powers, np.nan), axis=0)
    background = np.maximum(background, _FAINT * powers.max(axis=0))
    relative = np.where(free, powers / np.maximum(background, 1e-30), np.nan)
    known = free.sum(axis=1) >= _FEWEST_BANDS
    levels = np.zeros(count)
    levels[known] = 10 * np.log10(np.maximum(np.nanmean(relative[known], axis=1), 1e-3))
    # Step 3: blocks that stand out; what reverberates beside the track changes slowly
    over = np.where(known, _over_neighbours(levels), 0.0)
    return tuple(_runs(_standing_out(over, _LEAST_OFF_TRACK_DB), hop / rate))


def find_disagreeing(repeats: Sequence[Samples], rate: float) -> list[tuple[Disturbance, ...]]:
    """Return for each of several recordings (frames,) of the same sound, which begin at the same frame, the stretches
    in which it holds something else, in their order; of two, which disagree alike, both hold it.
    """
    hop = round(_BLOCK * rate / 2)
    frames = min(x.size for x in repeats)
    count = frames // hop
    found: list[Samples] = [np.zeros(count) for _ in repeats]
    if len(repeats) < 2 or count < _LEAST_BLOCKS:
        return [() for _ in repeats]
    whole = np.sum([x[:frames] for x in repeats], axis=0)
    others = len(repeats) - 1
    own = np.array([_block_powers(x, hop, count) for x in repeats])  # (repeats, 2, blocks)
    apart = np.array([_block_powers(x[:frames] - (whole - x[:frames]) / others, hop, count) for x in repeats])
    suspect = np.argmax(apart, axis=0)
    for number, over in enumerate(found):
        for kind in range(2):
            levels = 10 * np.log10(np.maximum(apart[number, kind], _FAINT * own[:, kind].max(axis=0) + 1e-30))
            excess = _standing_out(_over_neighbours(levels), _LEAST_APART_DB)
            if others > 1:  # of two, both differ as much from each other
                excess = np.where(suspect[kind] == number, excess, 0.0)
            np.maximum(over, excess, out=over)
    return [tuple(_runs(over, hop / rate)) for over in found]


def _over_neighbours(levels: Samples) -> Samples:
    """Return levels in dB (blocks,) less the median of their neighbours: what changes slowly does not stand out."""
    return np.asarray(levels - median_filter(levels, _NEIGHBOURS, mode="mirror"))


def _band_sums(x: Samples, rate: float, middle: Samples) -> Samples:
    """Return the power of a block (frames,) in third octaves (bands,), with a window that leaks nothing into others."""
    window = _block_window(x.size)
    spectrum = transforms.rfft(x * window)
    power = np.cumsum(np.concatenate([[0.0], spectrum.real**2 + spectrum.imag**2]))
    limits = np.stack(edges(middle, 3), axis=1) * x.size / rate
    places = np.clip(np.round(limits).astype(int), 0, power.size - 1)
    return np.asarray(power[places[:, 1]] - power[places[:, 0]])


@lru_cache(maxsize=4)
def _block_window(frames: int) -> Samples:
    return as_readonly(BLACKMAN_HARRIS_7.samples(frames))


def _free_of_sweep(d: dc.Deconvolved, middle: Samples, begins: Samples) -> np.ndarray:
    """Return where (blocks, bands) neither the sweep, nor its harmonics, nor its reverberation sounds.

    begins: of the blocks (blocks,), in s.
    """
    k = d.kernel
    stimulus = k.stimulus
    begin = (stimulus["lead"] + d.delay) / k.rate
    stays = max(dc.AFTER, stimulus["tail"] / k.rate)
    low, high = edges(middle, 3)
    # when the sweep reaches a band, and when its highest harmonic does
    reaches = begin + k.length * np.log(high / stimulus["first"])
    first_harmonic = begin + k.length * np.log(np.maximum(low / _HARMONICS, 1e-9) / stimulus["first"])
    first_harmonic = np.maximum(first_harmonic, begin)
    before = begins[:, None] + 2 * _BLOCK < first_harmonic
    after = begins[:, None] > reaches + stays
    return np.asarray(before | after)


def _block_powers(x: Samples, block: int, count: int) -> tuple[Samples, Samples]:
    """Return the mean squares of blocks (count,) of x, and of its differences, which weigh high frequencies more."""
    plain, differences = np.empty(count), np.empty(count)
    for number in range(count):  # block by block it stays in the processor's cache
        part = x[number * block : (number + 1) * block]
        plain[number] = part @ part
        change = np.diff(part)
        differences[number] = change @ change
    return plain / block, differences / block


def _runs(above: Samples, seconds: float) -> list[Disturbance]:
    """Return runs of blocks with something above, two blocks apart at most, as stretches with a margin."""
    found: list[Disturbance] = []
    for number in np.flatnonzero(above > 0).tolist():
        begin, end = max(0, number - _MARGIN) * seconds, min(above.size, number + 1 + _MARGIN) * seconds
        if found and begin <= found[-1].end:
            last = found.pop()
            found.append(Disturbance(last.begin, end, max(last.above_db, float(above[number]))))
        else:
            found.append(Disturbance(begin, end, float(above[number])))
    return found


def without(x: Samples, rate: float, disturbances: tuple[Disturbance, ...]) -> Samples | None:
    """Return x (frames,) without these stretches, what is left joined by crossfades; None where too little would be
    left.
    """
    if not disturbances:
        return x
    lost = sum(d.end - d.begin for d in disturbances)
    if lost > _MOST_SHARE * x.size / rate:
        return None
    edges = [0, *(round(e * rate) for d in disturbances for e in (d.begin, d.end)), x.size]
    parts = [x[a:b] for a, b in zip(edges[::2], edges[1::2], strict=True) if b > a]
    fade = round(_FADE * rate)
    # of noises that know nothing of each other the powers add: sine and cosine keep them
    rise = np.sin(np.pi / 2 * (np.arange(fade) + 0.5) / fade)
    joined = parts[0]
    for part in parts[1:]:
        if min(part.size, joined.size) <= fade:
            continue
        over = joined[-fade:] * rise[::-1] + part[:fade] * rise
        joined = np.concatenate([joined[:-fade], over, part[fade:]])
    return joined
