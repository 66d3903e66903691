"""The highest peaks of a cross-correlation, found between its samples before one of them is chosen.

On whole samples a peak that lies between two of them looks lower than a neighbour that lies on one: with tones and
bells, whose neighbours are nearly as high, the wrong period would win. So the correlation is computed at twice the
rate, the crest of each peak is estimated as that of a cosine, and the highest are read off a windowed-sinc
interpolation (methods.md, “Delay between samples: the right peak”).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples

_RIVAL = 0.7  # of the greatest: lower extremes are no rivals
_NEARLY = 0.9  # of the greatest: what a steady tone shows a few periods away, and a sound that ends does not
_MOST_PEAKS = 256
_TAPS, _BETA = 16, 9.0  # a side, of the Kaiser window: true to about 1e-5 of the peak
_FINE_TAPS, _FINE_BETA = 48, 16.0  # true to about 1e-8, by which the highest are told apart
_FINELY_READ = 24
_ROUNDS = (0.2, 0.05)  # half frames between the three points of each parabola


@dataclass(frozen=True, eq=False)
class Peaks:
    """The highest peaks first: lags in frames (peaks,), and the correlation there (peaks,), signed, as irfft counts it.

    rms: of all lags.
    """

    lags: Samples
    heights: Samples
    rms: float

    def nearest(self, lag: float) -> float:
        """Of the peaks that are nearly as high as the highest, the one nearest to a lag."""
        high = self.lags[np.abs(self.heights) >= _NEARLY * abs(float(self.heights[0]))]
        return float(high[np.argmin(np.abs(high - lag))])


def highest_peaks(cross: NDArray[np.complex128], size: int, search: int) -> Peaks:
    """Of a cross-correlation given by its spectrum (size//2+1,), within ``search`` frames either way."""
    reach = min(search, size // 2 - 1)
    # the correlation at whole frames
    on_frames = transforms.irfft(cross, size)
    rms = math.sqrt(float(on_frames @ on_frames) / size)
    near = _around(on_frames, reach)
    greatest = float(np.abs(near).max())
    if greatest == 0:
        return Peaks(np.zeros(1), np.zeros(1), rms)
    # one peak that nothing between the frames can exceed: done
    if _stands_alone(near, greatest, cross):
        place = int(np.argmax(np.abs(near)))
        return Peaks(np.array([float(place - reach)]), near[place : place + 1], rms)
    # the correlation half a frame further: together a grid at twice the rate
    half = np.exp(1j * np.pi / size * np.arange(cross.size))
    between = transforms.irfft(cross * half, size)
    fine = np.empty(2 * near.size)
    fine[0::2], fine[1::2] = near, _around(between, reach)
    # crests by parabolas on a windowed sinc; the best few again by a finer one
    places = _read_off(fine, _crests(fine))
    values = _interpolated(fine, places)
    order = np.argsort(-np.abs(values), kind="stable")
    places, values = places[order], values[order]
    values[:_FINELY_READ] = _interpolated(fine, places[:_FINELY_READ], _FINE_TAPS, _FINE_BETA)
    order = np.argsort(-np.abs(values), kind="stable")
    return Peaks(places[order] / 2 - reach, values[order], rms)


def _around(correlation: Samples, reach: int) -> Samples:
    """Return the lags from -reach to reach of what irfft orders from 0 up."""
    return np.concatenate(
        [correlation[correlation.size - reach :] if reach else correlation[:0], correlation[: reach + 1]]
    )


def _stands_alone(near: Samples, greatest: float, cross: NDArray[np.complex128]) -> bool:
    """Whether no other extreme can be as high between its samples: a band that ends at f drops by cos(pi f / rate)
    at most in half a sample.
    """
    used = np.flatnonzero(cross)
    # of half the rate
    if used.size:
        highest_share = float(used[-1]) / (cross.size - 1)
    else:
        highest_share = 0.0
    least = greatest * math.cos(math.pi / 2 * highest_share)
    high = np.flatnonzero(np.abs(near) >= least)
    return int(high[-1] - high[0]) <= 1


def _crests(fine: Samples) -> Samples:
    """Estimated places of the highest extremes on a grid at twice the rate, in its steps."""
    size = np.abs(fine)
    inner = np.arange(1, fine.size - 1)
    extreme = (
        (size[inner] >= size[inner - 1]) & (size[inner] > size[inner + 1]) & (size[inner] >= _RIVAL * float(size.max()))
    )
    at = inner[extreme]
    if at.size == 0:
        return np.array([float(np.argmax(size))])
    sign = np.sign(fine[at])
    left, middle, right = sign * fine[at - 1], sign * fine[at], sign * fine[at + 1]
    # three samples of a cosine: its step w, and the part that is turned by a quarter
    step = np.arccos(np.clip((left + right) / (2 * middle), -1, 0.999999))
    quarter = (right - left) / (2 * np.sin(step))
    height = np.hypot(middle, quarter)
    places = at + np.clip(np.arctan2(quarter, middle) / step, -0.6, 0.6)
    return np.asarray(places[np.argsort(-height, kind="stable")[:_MOST_PEAKS]])


def _read_off(fine: Samples, places: Samples) -> Samples:
    """Return the places moved to the crest of the interpolated correlation, by parabolas that grow smaller."""
    for step in _ROUNDS:
        left, middle, right = (np.abs(_interpolated(fine, places + by)) for by in (-step, 0.0, step))
        bend = left - 2 * middle + right
        moved = np.where(bend < 0, 0.5 * (left - right) / np.where(bend < 0, bend, -1.0), 0.0)
        places = places + step * np.clip(moved, -2, 2)
    return places


def _interpolated(fine: Samples, places: Samples, reach: int = _TAPS, beta: float = _BETA) -> Samples:
    """Fine (n,) between its samples, by a windowed sinc of ``reach`` taps a side; the grid is twice as fine as the band
    needs.
    """
    whole = np.floor(places).astype(int)
    taps = np.arange(1 - reach, reach + 1)
    offsets = (places - whole)[:, None] - taps
    inside = np.maximum(1 - (offsets / reach) ** 2, 0)
    kernel = np.sinc(offsets) * np.i0(beta * np.sqrt(inside)) / np.i0(beta)
    index = np.clip(whole[:, None] + taps, 0, fine.size - 1)
    return np.asarray(np.einsum("ij,ij->i", kernel, fine[index]))
