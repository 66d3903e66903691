"""Two arrivals of a sound that nobody knows, mixed in one signal: how far apart, and how loud the fainter one is.

The logarithm of |1 + g exp(-jwt)|² is 2 (g cos wt - g²/2 cos 2wt + …): in the cepstrum, the transform of the logarithm
of the power spectrum, the second arrival stands as g at t (Bogert, Healy, Tukey 1963, from memory). Which of the two
came first the power does not tell.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.sample_source import CHUNK_FRAMES, SampleSource, iter_chunks
from epidote.core.signals.signal import Samples

_LEAST = 0.0003  # s; nearer ones are the colour of the sound itself
_STANDS_OUT = 9.0  # times the usual height (median over 0.6745): none of a million delays of noise reaches it
_FAINTEST = 0.01
_SHORTEST = 16  # times the longest delay that is looked for


@dataclass(frozen=True)
class Echo:
    """apart: s between the two.

    gain: the fainter over the louder, negative where one is turned over; delays (s) and heights: the cepstrum.
    """

    apart: float
    gain: float
    delays: Samples
    heights: Samples

    @property
    def null_hz(self) -> float:
        """The comb's first null above 0 Hz: half a period apart, or a whole one where one is turned over."""
        return (0.5 if self.gain > 0 else 1.0) / self.apart

    @property
    def depth_db(self) -> float:
        """From the comb's peaks to its nulls."""
        g = min(abs(self.gain), 1.0)
        if g < 1:
            return 20 * math.log10((1 + g) / (1 - g))
        return math.inf


def detect_echo(source: SampleSource, band: tuple[float, float], longest: float) -> Echo | None:
    """Return the second arrival within ``longest`` s in one signal, by what of it lies in the band in Hz.

    None where none stands out.
    """
    # the record must hold the longest delay many times over
    longest = min(longest, source.frames / source.rate / _SHORTEST)
    size = even_fast_len(min(source.frames, CHUNK_FRAMES))
    f = np.arange(size // 2 + 1) * (source.rate / size)
    inside = np.flatnonzero((f >= band[0]) & (f <= min(band[1], 0.49 * source.rate)) & (f > 0))
    if inside.size < 64:
        return None
    # Hann over the band: side lobes of the cepstrum fall fast
    shape = 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(inside.size) + 0.5) / inside.size)
    logs = np.zeros(inside.size)
    count = 0
    for first, frames in iter_chunks(source.frames):
        x = source.read(first, frames)
        if (count and frames < size / 2) or not x.any():
            continue
        spectrum = transforms.rfft(x, size)[inside]
        power = spectrum.real**2 + spectrum.imag**2
        # mean of the log power over pieces: noise averages out, the comb stays
        logs += np.log(np.maximum(power, 1e-20 * power.max()))
        count += 1
    if not count:
        return None
    logs /= count
    weighted = np.zeros(size // 2 + 1, complex)
    # the mean is taken off, else 0 delay outweighs everything
    weighted[inside] = shape * (logs - np.average(logs, weights=shape)) / shape.sum()
    # the cepstrum: g stands at the delay between both arrivals
    heights = transforms.irfft(weighted, size)[: round(longest * source.rate) + 1] * size / 2
    near = np.abs(heights)
    near[: math.ceil(_LEAST * source.rate)] = 0
    place = int(np.argmax(near))
    if np.any(near):
        usual = float(np.median(near[near > 0])) / NORMAL_MEDIAN
    else:
        usual = 0.0
    if near[place] < max(_STANDS_OUT * usual, _FAINTEST):
        return None
    lag, sign = refined_lag(weighted, size, float(place))
    gain = sign * abs(float((weighted * np.exp(2j * np.pi / size * lag * np.arange(weighted.size))).real.sum()))
    return Echo(lag / source.rate, gain, np.arange(heights.size) / source.rate, heights)
