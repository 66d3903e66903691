"""Where one signal lies in another."""

from __future__ import annotations

import math

import numpy as np
import scipy.fft

from epidote.core.signal import Samples


def correlation(x: Samples, wanted: Samples) -> Samples:
    """Sum over t of x[t + lag] wanted[t], by lag from 0 up; at the end those below 0, as if counted from the end."""
    size = scipy.fft.next_fast_len(x.size + wanted.size, real=True)
    return np.asarray(scipy.fft.irfft(scipy.fft.rfft(x, size) * np.conj(scipy.fft.rfft(wanted, size)), size))


def lag_of(played: Samples, back: Samples, least: float) -> tuple[int, int] | None:
    """By how many frames ``back`` is later than ``played`` (negative: earlier), and its sign; None when less than ``least`` of it is alike."""
    alike = correlation(back, played)
    place = int(np.argmax(np.abs(alike)))
    held = math.sqrt(float(played @ played) * float(back @ back))
    if held == 0 or abs(alike[place]) < least * held:
        return None
    return (place if place < back.size else place - alike.size), (1 if alike[place] > 0 else -1)
