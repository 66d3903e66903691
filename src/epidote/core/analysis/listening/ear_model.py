"""Noise-to-mask ratio by the FFT ear model of ITU-R BS.1387-1, basic version. All constants from memory.

An estimate of how far a difference rises above the masking threshold; no listening test. docs/methods.md says on what
it was validated. Times in s, frequencies in Hz, levels in dB.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from epidote.core.signals import transforms
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples, as_readonly

RATE = 48000.0
FRAME, _HOP = 2048, 1024
PLAYBACK_DB = 92.0  # dB SPL of a full-scale sine (2.1.2)
_CALIBRATION = 1019.5  # Hz
_LOW, _HIGH, _WIDTH = 80.0, 18000.0, 0.25  # Hz, Hz, Bark (2.1.5)
_DOWN_DB = 27.0  # per Bark (2.1.7)
_UP_DB, _UP_BY_FREQUENCY, _UP_BY_LEVEL, _LEAST_UP = 24.0, 230.0, 0.2, 4.0
_ADDITION = 0.4  # exponent with which contributions add
_TAU_LEAST, _TAU_100 = 0.008, 0.030  # s (2.1.8)
_OFFSET_DB, _OFFSET_FROM, _OFFSET_PER_BARK = 3.0, 12.0, 0.25  # dB, Bark, dB per Bark (2.1.10)
_CHUNK = 256  # frames that are spread at once


def at_ear_rate(x: Samples, rate: float) -> Samples:
    """Return x (frames,) at the rate that the model is made for."""
    if rate == RATE:
        return x
    step = rate / RATE
    return resample(x, step, 0.0, math.floor(x.size / step))


@dataclass(frozen=True)
class NoiseToMask:
    """total: mean over frames, in dB; time, ratio: of each frame (frames,), in s and dB; share: of frames in which a
    band's noise lies above its mask; worst: the greatest ratio of a band in a frame, with its frequency and time.
    """

    total: float
    time: Samples
    ratio: Samples
    share: float
    worst: float
    worst_frequency: float
    worst_time: float


@lru_cache(maxsize=1)
def _edges() -> Samples:
    """Edges of the bands in Hz (bands + 1,): a quarter of a Bark each, z = 7 asinh(f / 650 Hz)."""
    low, high = (7 * math.asinh(f / 650) for f in (_LOW, _HIGH))
    count = round((high - low) / _WIDTH)
    return as_readonly(650 * np.sinh((low + _WIDTH * np.arange(count + 1)) / 7))


@lru_cache(maxsize=1)
def centres() -> Samples:
    """Return the middle of each band in Hz (bands,)."""
    low = 7 * math.asinh(_LOW / 650)
    return as_readonly(650 * np.sinh((low + _WIDTH * (np.arange(_edges().size - 1) + 0.5)) / 7))


@lru_cache(maxsize=1)
def _ear_weights() -> Samples:
    """Outer and middle ear as a factor of amplitude (bins,); 0 at 0 Hz."""
    kilohertz = np.maximum(np.arange(FRAME // 2 + 1) * RATE / FRAME, 1e-3) / 1000
    db = -0.6 * 3.64 * kilohertz**-0.8 + 6.5 * np.exp(-0.6 * (kilohertz - 3.3) ** 2) - 0.001 * kilohertz**3.6
    weights = 10 ** (db / 20)
    weights[0] = 0.0
    return as_readonly(weights)


@lru_cache(maxsize=1)
def _grouping() -> Samples:
    """Share of each bin in each band (bins, bands): a bin is as wide as the distance of two."""
    width = RATE / FRAME
    middle = np.arange(FRAME // 2 + 1) * width
    edges = _edges()
    upper = np.minimum(middle[:, None] + width / 2, edges[None, 1:])
    lower = np.maximum(middle[:, None] - width / 2, edges[None, :-1])
    return as_readonly(np.maximum(upper - lower, 0.0) / width)


def _internal_noise() -> Samples:
    """Power of the ear's own noise (bands,)."""
    return np.asarray(10 ** (0.4 * 0.364 * (centres() / 1000) ** -0.8))


def _frames_of(frames: int) -> int:
    """Return how many frames of the model a sound of so many samples has."""
    return max(1, 1 + (frames - FRAME) // _HOP)


def _spectra(x: Samples, playback_db: float, first: int, last: int) -> Samples:
    """Ear-weighted magnitudes (frames, bins) of the model's frames from ``first`` to before ``last`` of x (frames,), a
    full-scale sine being at the playback level.
    """
    window = math.sqrt(8 / 3) * 0.5 * (1 - np.cos(2 * np.pi * np.arange(FRAME) / (FRAME - 1)))
    tone = np.sin(2 * np.pi * _CALIBRATION / RATE * np.arange(FRAME))
    norm = float(np.abs(transforms.rfft(tone * window)).max())
    padded = np.concatenate([x, np.zeros(max(0, FRAME - x.size))]) if x.size < FRAME else x
    framed = sliding_window_view(padded, FRAME)[first * _HOP : (last - 1) * _HOP + 1 : _HOP]
    magnitudes = np.abs(transforms.rfft(framed * window, axis=1))
    return np.asarray(magnitudes * (10 ** (playback_db / 20) / norm) * _ear_weights())


def spread(excitation: Samples) -> Samples:
    """Spread excitations (frames, bands) over frequency; a flat one stays flat."""
    return np.asarray(_added(excitation) / _added(np.ones((1, excitation.shape[1]))))


def _added(excitation: Samples) -> Samples:
    count = excitation.shape[1]
    level = 10 * np.log10(np.maximum(excitation, 1e-12))
    up = np.maximum(_UP_DB + _UP_BY_FREQUENCY / centres() - _UP_BY_LEVEL * level, _LEAST_UP)
    powers = np.maximum(excitation, 1e-12) ** _ADDITION
    total = powers.copy()
    down = 10 ** (-_DOWN_DB * _WIDTH * _ADDITION / 10)
    running = np.zeros(excitation.shape[0])
    for band in range(count - 2, -1, -1):  # towards low frequencies every band falls alike
        running = (running + powers[:, band + 1]) * down
        total[:, band] += running
    for band in range(count - 1):  # towards high ones by its own level
        slope = 10 ** (-up[:, band] * _WIDTH * _ADDITION / 10)
        steps = slope[:, None] ** np.arange(1, count - band)
        total[:, band + 1 :] += powers[:, band : band + 1] * steps
    return np.asarray(total ** (1 / _ADDITION))


def _smeared(excitation: Samples) -> Samples:
    """Excitations (frames, bands) with forward masking: the greater of present and decayed."""
    tau = _TAU_LEAST + 100 / centres() * (_TAU_100 - _TAU_LEAST)
    keep = np.exp(-_HOP / RATE / tau)
    state = np.zeros(excitation.shape[1])
    out = np.empty_like(excitation)
    for number, present in enumerate(excitation):
        state = keep * state + (1 - keep) * present
        out[number] = np.maximum(state, present)
    return out


def _chunks(frames: int) -> list[tuple[int, int]]:
    """Return stretches of the model's frames that are computed at once."""
    count = _frames_of(frames)
    return [(first, min(first + _CHUNK, count)) for first in range(0, count, _CHUNK)]


def mask_of(reference: Samples, playback_db: float = PLAYBACK_DB) -> Samples:
    """Return the mask (frames, bands) of a sound (frames,) at 48 kHz."""
    parts = [_excitation(_spectra(reference, playback_db, *chunk)) for chunk in _chunks(reference.size)]
    return _mask(np.concatenate(parts))


def _excitation(spectra: Samples) -> Samples:
    """Return the excitation (frames, bands) of ear-weighted magnitudes, spread over frequency."""
    return spread(np.square(spectra) @ _grouping() + _internal_noise())


def _mask(excitation: Samples) -> Samples:
    """Return the mask (frames, bands) of an excitation: smeared in time, less the offset of masking."""
    bark = _WIDTH * np.arange(excitation.shape[1])
    offset = np.where(bark <= _OFFSET_FROM, _OFFSET_DB, _OFFSET_PER_BARK * bark)
    return np.asarray(_smeared(excitation) / 10 ** (offset / 10))


def noise_to_mask(reference: Samples, test: Samples, playback_db: float = PLAYBACK_DB) -> NoiseToMask:
    """Return how far the difference of two aligned sounds (frames,) at 48 kHz rises above the reference's mask."""
    frames = min(reference.size, test.size)
    noise, excitation = [], []
    for chunk in _chunks(frames):
        own = _spectra(reference[:frames], playback_db, *chunk)
        other = _spectra(test[:frames], playback_db, *chunk)
        noise.append(np.square(own - other) @ _grouping())
        excitation.append(_excitation(own))
    ratios = np.concatenate(noise) / _mask(np.concatenate(excitation))
    by_frame = ratios.mean(axis=1)
    greatest = ratios.max(axis=1)
    frame, band = np.unravel_index(int(np.argmax(ratios)), ratios.shape)
    time = (np.arange(by_frame.size) * _HOP + FRAME / 2) / RATE
    return NoiseToMask(
        _db(float(by_frame.mean())),
        time,
        10 * np.log10(np.maximum(by_frame, 1e-20)),
        float(np.mean(greatest > 1.0)),
        _db(float(ratios.max())),
        float(centres()[band]),
        float(time[frame]),
    )


def _db(ratio: float) -> float:
    return 10 * math.log10(max(ratio, 1e-20))
