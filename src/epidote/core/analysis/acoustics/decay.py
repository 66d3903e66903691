"""Decay of sound in a room: backward-integrated energy, early decay time and reverberation time (ISO 3382-2).

The integration ends where the decay meets the noise; the noise's power is subtracted, and what lies beyond the end is
put back as the exponential that the decay follows there (ISO 3382-1, 5.3.3; from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.spectral.fractional_octave import edges
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

OCTAVES = tuple(1000 * 10 ** (0.3 * n) for n in range(-3, 4))  # exact midband frequencies, 125 Hz to 8 kHz
_EDT = (0.0, -10.0)  # dB, ISO 3382-1: the first 10 dB of the decay
_T20 = (-5.0, -25.0)  # dB, ISO 3382-2, 5.3
_CLEAR_DB = 10.0  # the noise must lie so far below the end of the range (ISO 3382-2, 4.2)
_NOISE_SHARE = 0.1  # of the record, from its end
_ROUNDS = 6
_KNEE_OVER_NOISE_DB, _FIT_OVER_NOISE_DB = 3.0, 8.0
_BLOCKS_PER_10_DB = 5
_LEAST_BLOCK = 0.002  # s


@dataclass(frozen=True, eq=False)
class Decay:
    """time in s after the arrival and level in dB re the beginning (points,) of the backward-integrated energy, up to
    where the noise begins; edt, t20 in s, None where the range does not reach; range_db: from the beginning to the
    noise.
    """

    time: Samples
    level: Samples
    edt: float | None
    t20: float | None
    range_db: float


def decay_of(impulse: Samples, rate: float) -> Decay:
    """Return the decay of an impulse response (frames,) that begins with the arrival and ends in its noise."""
    energy = np.square(impulse)
    last = max(16, round(_NOISE_SHARE * energy.size))
    noise = float(energy[-last:].mean())
    knee, rate_of_fall = _knee(energy, noise, rate)
    # Step 1: backward integration of what exceeds the noise
    kept = energy[:knee] - noise
    remaining = np.cumsum(kept[::-1])[::-1]
    # Step 2: the part beyond the knee, as the exponential that the decay follows
    if rate_of_fall > 0:
        at_knee = noise * 10 ** (_KNEE_OVER_NOISE_DB / 10)
        remaining = remaining + at_knee / rate_of_fall
    start = float(remaining[0]) if remaining.size else 0.0
    if not start > 0:
        return Decay(np.zeros(0), np.zeros(0), None, None, 0.0)
    level = 10 * np.log10(np.maximum(remaining / start, 1e-12))
    # the noise as the integration sees it: its power over the time constant of the decay
    if noise == 0:
        range_db = float(-level[-1])
    elif rate_of_fall > 0:
        range_db = 10 * math.log10(start * rate_of_fall / noise)
    else:
        range_db = 0.0  # what was recorded ends before the sound has fallen
    time = np.arange(level.size) / rate
    return Decay(
        time, level, _decay_time(time, level, _EDT, range_db), _decay_time(time, level, _T20, range_db), range_db
    )


def _decay_time(time: Samples, level: Samples, span: tuple[float, float], range_db: float) -> float | None:
    """Return the time for 60 dB from a line through the decay curve within ``span``; None where noise is too near."""
    top, bottom = span
    if range_db < -bottom + _CLEAR_DB:
        return None
    begins, ends = np.flatnonzero(level <= top), np.flatnonzero(level <= bottom)
    if not begins.size or not ends.size:
        return None
    inside = slice(int(begins[0]), int(ends[0]) + 1)
    if inside.stop - inside.start < 4:
        return None
    slope = float(np.polyfit(time[inside], level[inside], 1)[0])
    if slope < 0:
        return -60.0 / slope
    return None


def _knee(energy: Samples, noise: float, rate: float) -> tuple[int, float]:
    """Return the sample at which the decay comes within 3 dB of the noise, and its fall there as the rate of an
    exponential per sample; the record's end and 0 where no noise is met.

    A straight line through the energy in blocks, made again with blocks that suit its slope (Lundeby et al. 1995, from
    memory).
    """
    block = max(1, round(0.01 * rate))
    knee, fall = energy.size, 0.0
    if noise <= 0:
        return knee, fall
    for _ in range(_ROUNDS):
        count = energy.size // block
        if count < 4:
            break
        levels = 10 * np.log10(np.maximum(energy[: count * block].reshape(count, block).mean(axis=1), 1e-300))
        over = levels - 10 * math.log10(noise)
        top = int(np.argmax(over))
        below = np.flatnonzero(over[top:] < _FIT_OVER_NOISE_DB)
        end = top + int(below[0]) if below.size else count
        # the late part tells how the decay meets the noise: the lowest 20 dB above it
        late = np.flatnonzero(over[top:end] <= _FIT_OVER_NOISE_DB + 20)
        begin = top + int(late[0]) if late.size else top
        if end - begin < 3:
            begin = max(top, end - 3)
        if end - begin < 2:
            break
        centre = (np.arange(begin, end) + 0.5) * block
        slope, at_zero = np.polyfit(centre, over[begin:end], 1)
        if slope >= 0:
            break
        fall = -float(slope) * math.log(10) / 10
        knee = int(min(energy.size, max(block, (_KNEE_OVER_NOISE_DB - at_zero) / slope)))
        block = max(round(_LEAST_BLOCK * rate), round(10 / -float(slope) / _BLOCKS_PER_10_DB))
    return knee, fall


def in_octave(impulse: Samples, rate: float, middle: float) -> Samples:
    """Return the part (frames,) of an impulse response in the octave about an exact midband frequency."""
    low, high = (float(edge[0]) for edge in edges(np.array([middle]), 1))
    size = even_fast_len(2 * impulse.size)
    spectrum = transforms.rfft(impulse, size)
    f = np.maximum(np.arange(spectrum.size) * (rate / size), 1e-6)
    # edges of a third of an octave, -3 dB at the band's edge
    rising = np.clip(0.5 + 3 * np.log2(f / low), 0, 1)
    falling = np.clip(0.5 + 3 * np.log2(high / f), 0, 1)
    spectrum *= np.sin(np.pi / 2 * rising) * np.sin(np.pi / 2 * falling)
    return np.asarray(transforms.irfft(spectrum, size)[: impulse.size])
