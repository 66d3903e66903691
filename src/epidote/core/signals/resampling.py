"""Resampling of analysis data: a windowed sinc on twice the rate, which leaves less than 1e-7."""

from __future__ import annotations

import math

import numpy as np

from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

_TAPS, _BETA = 28, 18.0  # at twice the rate; the kernel of Barnett, Magland, af Klinteberg 2019 as a window


def resample(x: Samples, step: float, start: float, frames: int) -> Samples:
    """X (n,) read at start + step·m, m < frames, in its own frames: (frames,).

    What lies outside x is 0; above half of the new rate, cut.
    """
    pad = 64
    size = even_fast_len(x.size + 2 * pad)
    spectrum = transforms.rfft(np.concatenate([np.zeros(pad), x]), size)
    if step > 1.001:
        keep = math.floor(0.5 / step * size)
        roll = max(2, keep // 50)
        spectrum[keep:] = 0
        spectrum[keep - roll : keep] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(roll) + 0.5) / roll)
    wide = np.zeros(size + 1, complex)
    wide[: spectrum.size] = 2 * spectrum
    wide[size // 2] /= 2
    fine = transforms.irfft(wide, 2 * size)
    out = np.zeros(frames)
    reach = _TAPS // 2
    k = np.arange(-reach + 1, reach + 1)
    for first in range(0, frames, 16384):
        m = np.arange(first, min(first + 16384, frames))
        place = 2 * (start + step * m + pad)
        whole = np.floor(place).astype(int)
        part = (place - whole)[:, None] - k[None, :]
        inside = np.maximum(1 - (part / (reach + 0.001)) ** 2, 0)
        kernel = np.sinc(part) * np.exp(_BETA * (np.sqrt(inside) - 1))
        index = whole[:, None] + k[None, :]
        valid = (index >= 0) & (index < fine.size)
        values = np.where(valid, fine[np.clip(index, 0, fine.size - 1)], 0.0)
        # read beyond the record there is nothing
        values[(place < 2 * pad - 2 * reach) | (place > 2 * (pad + x.size) + 2 * reach)] = 0.0
        out[m] = np.einsum("ij,ij->i", kernel, values)
    return out
