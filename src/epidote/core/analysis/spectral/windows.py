"""Cosine-sum windows applied to a spectrum that was taken without one.

A window w = sum a_k cos(2 pi k n / N) turns into a short convolution of the unwindowed bins, so one transform serves
every window. Coefficients: Hann and Blackman-Harris 4-term, Harris, Proc. IEEE 66(1), 1978; 7-term, Albrecht, ICASSP
2001 (from memory, checked in the tests by its side lobes).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals.signal import Samples

_ROW, _PIECE = 16, 2048


@dataclass(frozen=True)
class CosineWindow:
    """Coefficients a_0 ... a_K with alternating signs understood; the window is periodic."""

    name: str
    coefficients: tuple[float, ...]

    @property
    def coherent_gain(self) -> float:
        return self.coefficients[0]

    @property
    def mean_square(self) -> float:
        a0, *rest = self.coefficients
        return a0**2 + 0.5 * sum(a**2 for a in rest)

    @property
    def crowding(self) -> float:
        """By how much the variance of a sum of windowed powers exceeds that of as many without a window: mean w⁴
        over (mean w²)².
        """
        w = self.samples(4096)
        return float(np.mean(w**4) / np.mean(w**2) ** 2)

    @property
    def enbw(self) -> float:
        """Equivalent noise bandwidth in bins."""
        return self.mean_square / self.coherent_gain**2

    def samples(self, frames: int) -> Samples:
        """Return the window itself (frames,)."""
        turn = np.cos(2 * np.pi * np.arange(frames) / frames)
        total = np.full(frames, self.coefficients[0])
        # cos((k + 1) t) = 2 cos(t) cos(k t) - cos((k - 1) t): one cosine for all terms
        before, present = np.ones(frames), turn
        for k, a in enumerate(self.coefficients[1:], start=1):
            total += (-1) ** k * a * present
            before, present = present, 2 * turn * present - before
        return total

    def weighted(self, x: Samples) -> Samples:
        """X (frames,) so windowed and scaled that ``lines_at`` reads the peaks of its lines."""
        return x * self.samples(x.size) * (2 / x.size / self.coherent_gain)

    @property
    def half_width(self) -> int:
        """Half of the main lobe in bins."""
        return len(self.coefficients)


HANN = CosineWindow("Hann", (0.5, 0.5))
BLACKMAN_HARRIS_4 = CosineWindow("Blackman-Harris, 4-term", (0.35875, 0.48829, 0.14128, 0.01168))
BLACKMAN_HARRIS_7 = CosineWindow(
    "Blackman-Harris, 7-term",
    (
        0.27105140069342,
        0.43329793923448,
        0.21812299954311,
        0.06592544638803,
        0.01081174209837,
        0.00077658482522,
        0.00001388721735,
    ),
)


@cache
def _tables(window: CosineWindow) -> tuple[Samples, Samples]:
    """Return the convolution of a row of ``_ROW`` bins as two matrices: what its own bins give it, and what the next
    row's give it.
    """
    reach = len(window.coefficients) - 1
    halves = [0.5 * a * (-1) ** k for k, a in enumerate(window.coefficients)]
    taps = [*halves[:0:-1], window.coefficients[0], *halves[1:]]
    table = np.zeros((_ROW + 2 * reach, _ROW))
    for column in range(_ROW):
        table[column : column + 2 * reach + 1, column] = taps
    return table[:_ROW], table[_ROW:]


def windowed_power(spectrum: NDArray[np.complex128], window: CosineWindow) -> Samples:
    """|bin|² (n//2+1,) of an rfft of even length n as if the samples had been multiplied by the window first."""
    reach = len(window.coefficients) - 1
    own, following = _tables(window)
    count = -(-spectrum.size // _ROW)
    planes = np.empty((2, (count + 1) * _ROW))  # real and imaginary parts apart: the coefficients are real
    for plane, part, sign in ((planes[0], spectrum.real, 1), (planes[1], spectrum.imag, -1)):
        # a real signal's bins continue as their conjugates below 0 and above n/2
        plane[:reach] = sign * part[reach:0:-1]
        plane[reach : reach + part.size] = part
        plane[reach + part.size : 2 * reach + part.size] = sign * part[-2 : -2 - reach : -1]
        plane[2 * reach + part.size :] = 0
    rows = planes.reshape(2, count + 1, _ROW)
    power = np.empty((count, _ROW))
    # matrix products in pieces that stay in the processor's cache: twice as quick as adding shifted bins
    for first in range(0, count, _PIECE):
        end = min(first + _PIECE, count)
        real, imaginary = (plane[first:end] @ own for plane in rows)
        real += rows[0, first + 1 : end + 1, : 2 * reach] @ following
        imaginary += rows[1, first + 1 : end + 1, : 2 * reach] @ following
        np.multiply(real, real, out=power[first:end])
        imaginary *= imaginary
        power[first:end] += imaginary
    return power.ravel()[: spectrum.size]


def windowed_around(
    spectrum: NDArray[np.complex128], centre: int, radius: int, window: CosineWindow
) -> tuple[int, NDArray[np.complex128]]:
    """Return the same for the bins within ``radius`` of ``centre`` only: first bin, bins."""
    reach = len(window.coefficients) - 1
    low = max(reach, centre - radius)
    high = min(spectrum.size - 1 - reach, centre + radius)
    return low, windowed_bins(spectrum, np.arange(low, high + 1), window)


def windowed_bins(
    spectrum: NDArray[np.complex128], bins: NDArray[np.int64], window: CosineWindow
) -> NDArray[np.complex128]:
    """Return the same for any bins (..., bins) that are as far from the spectrum's ends as the window reaches."""
    result = window.coefficients[0] * spectrum[bins]
    for k, a in enumerate(window.coefficients[1:], start=1):
        result += 0.5 * a * (-1) ** k * (spectrum[bins - k] + spectrum[bins + k])
    return result
