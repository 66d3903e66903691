"""Where one signal lies in another: to a frame, and between frames."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples

_STEPS = 6


def correlation(x: Samples, chirp: Samples) -> Samples:
    """Sum over t of x[t + lag] wanted[t], by lag from 0 up; at the end those below 0, as if counted from the end."""
    size = transforms.next_fast_len(x.size + chirp.size, real=True)
    return np.asarray(transforms.irfft(transforms.rfft(x, size) * np.conj(transforms.rfft(chirp, size)), size))


def coarse_lag(played: Samples, back: Samples, least: float) -> tuple[int, int] | None:
    """By how many frames ``back`` is later than ``played`` (negative: earlier), and its sign.

    None when less than ``least`` of it is alike.
    """
    heights = correlation(back, played)
    place = int(np.argmax(np.abs(heights)))
    norm = math.sqrt(float(played @ played) * float(back @ back))
    if norm == 0 or abs(heights[place]) < least * norm:
        return None
    return (place if place < back.size else place - heights.size), (1 if heights[place] > 0 else -1)


def refined_lag(cross: NDArray[np.complex128], size: int, lag: float) -> tuple[float, float]:
    """Return the maximum of a cross-correlation near ``lag`` frames, between frames too, and its sign.

    cross (size//2+1,): spectrum of the later times the conjugate of the earlier, 0 outside the band. Newton's steps on
    the band-limited correlation itself: a parabola through three of its samples is off by up to 0.1 frames.
    """
    w = 2 * np.pi * np.arange(cross.size) / size
    used = np.flatnonzero(cross)
    w, cross = w[used], cross[used]
    if float((cross * np.exp(1j * w * lag)).real.sum()) >= 0:
        sign = 1.0
    else:
        sign = -1.0
    for _ in range(_STEPS):
        turned = sign * cross * np.exp(1j * w * lag)
        slope, bend = float(-(w * turned.imag).sum()), float((w * w * turned.real).sum())
        if bend <= 0:
            break
        step = slope / bend
        lag += max(-0.5, min(0.5, step))
        if abs(step) < 1e-9:
            break
    return lag, sign
