"""Power in bands, and the place of a tone, from one Fourier transform."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.spectral.weighting import Weighting, power_weight
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_4, CosineWindow, windowed_around, windowed_power
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples, as_readonly

Complex = NDArray[np.complex128]
MAINS = (50.0, 60.0)  # Hz
MAINS_ORDERS = 10
_LEAST = 1e-40


@lru_cache(maxsize=8)
def bin_frequencies(bins: int, bin_width: float) -> Samples:
    """Centres in Hz (bins,) of bins from 0 Hz up, locked: the spectra of a column share them."""
    return as_readonly(np.arange(bins, dtype=np.float64) * np.float64(bin_width))


def line_levels(peaks: Samples, offset: float) -> Samples:
    """Level in dB (bins,) of squared peaks, ``offset`` being that of a peak of 1."""
    level = np.maximum(peaks, _LEAST)
    np.log10(level, out=level)  # in place: at high rates each array is megabytes
    level *= 10
    level += offset
    return level


def mean_squares(power: Samples, frames: int, mean_square: float = 1.0) -> Samples:
    """|bin|² (bins,) of an rfft of ``frames`` samples, scaled in place so that their sum is the mean square (Parseval).

    ``mean_square`` is that of the window, 1 without one.
    """
    power *= 2 / (frames**2 * mean_square)
    power[0] /= 2
    if frames % 2 == 0:
        power[-1] /= 2
    return power


def windowed_mean_squares(x: Samples, rate: float, window: CosineWindow) -> tuple[Samples, float]:
    """Mean square per bin (bins,) of a windowed stretch of even length (frames,), and the bins' width in Hz."""
    return mean_squares(windowed_power(transforms.rfft(x), window), x.size, window.mean_square), rate / x.size


def band_power(
    power: Samples, bin_width: float, low: float, high: float, weighting: Weighting = Weighting.NONE
) -> float:
    """Sum of ``power`` (bins,) between two frequencies in Hz, weighted.

    A bin is half a bin wide to either side of its centre.
    """
    inside, below, above = _band(power.size, bin_width, low, high)
    if inside.stop <= inside.start:
        return 0.0
    chosen = band_powers_of(power, bin_width, low, high, weighting)
    return float(chosen.sum()) - below * float(chosen[0]) - above * float(chosen[-1])


def band_powers_of(
    power: Samples, bin_width: float, low: float, high: float, weighting: Weighting = Weighting.NONE
) -> Samples:
    """Return the powers (bins,) that ``band_power`` sums, weighted."""
    inside, _, _ = _band(power.size, bin_width, low, high)
    return _weighted(power[inside], inside, power.size, bin_width, weighting)


def _weighted(powers: Samples, inside: slice, bins: int, bin_width: float, weighting: Weighting) -> Samples:
    if weighting is Weighting.NONE:
        return powers
    return np.asarray(powers * _power_weights(bins, bin_width, weighting)[inside])


@lru_cache(maxsize=6)
def _power_weights(bins: int, bin_width: float, weighting: Weighting) -> Samples:
    """Power factors (bins,) of a weighting: the channels of a recording share them."""
    return as_readonly(power_weight(bin_frequencies(bins, bin_width), weighting))


def _band(bins: int, bin_width: float, low: float, high: float) -> tuple[slice, float, float]:
    """Return the bins that reach into a band, and the shares of the first and the last of them that lie outside it."""
    first = max(0, int(np.floor(low / bin_width + 0.5)))
    last = min(bins - 1, int(np.floor(high / bin_width + 0.5)))
    if last > first:
        above = 1 - max(0.0, min(1.0, high / bin_width - last + 0.5))
    else:
        above = 0.0
    return slice(first, last + 1), 1 - min(1.0, first + 0.5 - low / bin_width), above


def mean_square_in_band(
    spectrum: Complex, frames: int, rate: float, low: float, high: float, *, weighting: Weighting
) -> float:
    """Return the same straight from the rfft of ``frames`` samples: their mean square in the band, without a window."""
    inside, below, above = _band(spectrum.size, rate / frames, low, high)
    if weighting is not Weighting.NONE or inside.start == 0 or inside.stop == spectrum.size:
        power = mean_squares(np.square(spectrum.real) + np.square(spectrum.imag), frames)
        return band_power(power, rate / frames, low, high, weighting)
    if inside.stop <= inside.start:
        return 0.0
    chosen = spectrum[inside]
    outside = below * abs(chosen[0]) ** 2 + above * abs(chosen[-1]) ** 2
    return float((np.vdot(chosen, chosen).real - outside) * 2 / frames**2)


def unwindowed_powers(
    spectrum: Complex, frames: int, rate: float, low: float, high: float, *, weighting: Weighting
) -> Samples:
    """Mean square of each bin (bins,) in the band of the rfft of ``frames`` samples, weighted, without a window."""
    inside, _, _ = _band(spectrum.size, rate / frames, low, high)
    chosen = spectrum[inside]
    powers = (np.square(chosen.real) + np.square(chosen.imag)) * (2 / frames**2)
    return np.asarray(_weighted(powers, inside, spectrum.size, rate / frames, weighting))


def peak_near(spectrum: Complex, frames: int, rate: float, low: float, high: float) -> tuple[float, float]:
    """Frequency in Hz (to a few hundredths of a bin) and peak amplitude of the strongest line between two frequencies.

    From an unwindowed rfft; the line's surroundings are windowed (Blackman-Harris, 4-term) to find it between bins.
    """
    width = rate / frames
    first, last = max(1, round(low / width)), min(spectrum.size - 2, round(high / width))
    if last < first:
        return low, 0.0
    centre = first + int(np.argmax(np.abs(spectrum[first : last + 1])))
    start, bins = windowed_around(spectrum, centre, 3, BLACKMAN_HARRIS_4)
    if bins.size < 3:
        return centre * width, 2 * abs(spectrum[centre]) / frames
    size = np.abs(bins)
    top = min(max(int(np.argmax(size)), 1), size.size - 2)
    left, middle, right = np.log(np.maximum(size[top - 1 : top + 2], np.finfo(float).tiny))
    curvature = left - 2 * middle + right
    if curvature < 0:
        offset = 0.5 * (left - right) / curvature
    else:
        offset = 0.0
    offset = min(max(offset, -1.0), 1.0)  # beside a slope there is no peak, and a parabola would lead anywhere
    height = middle - 0.25 * (left - right) * offset
    return (start + top + offset) * width, 2 * float(np.exp(height)) / frames / BLACKMAN_HARRIS_4.coherent_gain


def line_power(power: Samples, bin_width: float, frequency: float, window: CosineWindow) -> tuple[float, float]:
    """Mean square of a line at ``frequency`` in a windowed power spectrum (bins,), and the noise expected under it.

    The main lobe's bins are summed; the noise comes from the bins just beside it.
    """
    lines, noise = line_powers(power, bin_width, np.array([frequency]), window)
    return float(lines[0]), float(noise[0])


def line_powers(
    power: Samples, bin_width: float, frequencies: Samples, window: CosineWindow
) -> tuple[Samples, Samples]:
    """``line_power`` of several lines (lines,) at once."""
    half = window.half_width
    places = np.round(frequencies / bin_width).astype(int)[:, None] + np.arange(-4 * half, 4 * half + 1)
    powers = np.where((places >= 0) & (places < power.size), power[np.clip(places, 0, power.size - 1)], np.nan)
    inside = powers[:, 3 * half : 5 * half + 1]
    neighbours = np.concatenate([powers[:, : 3 * half], powers[:, 5 * half + 1 :]], axis=1)
    known = np.isfinite(neighbours)
    # the middle of those there are: what lies beyond the spectrum's ends sorts last
    middle = np.sort(neighbours, axis=1)
    count = known.sum(axis=1)
    rows = np.arange(len(places))
    low, high = (
        middle[rows, np.maximum(count - 1, 0) // 2],
        middle[rows, np.minimum(count // 2, neighbours.shape[1] - 1)],
    )
    noise = np.where(count > 0, (low + high) / 2, 0.0) / np.log(2) * np.isfinite(inside).sum(axis=1)
    total = np.nansum(inside, axis=1)
    return total, np.where(_is_narrow(inside, total - noise), noise, total)


def _is_narrow(inside: Samples, power: Samples) -> NDArray[np.bool_]:
    """Whether what stands above the noise lies within two bins of the greatest, as a line does and noise in a narrow
    band does not.
    """
    filled = np.nan_to_num(inside)
    reach = np.argmax(filled, axis=1)[:, None] + np.arange(-_LINE_REACH, _LINE_REACH + 1)
    there = (reach >= 0) & (reach < filled.shape[1])
    near = np.where(there, np.take_along_axis(filled, np.clip(reach, 0, filled.shape[1] - 1), axis=1), 0.0).sum(axis=1)
    return np.asarray(near >= _LINE_SHARE * power)


_LINE_REACH, _LINE_SHARE = 2, 0.93  # bins; share of the power, 0.97 of a line between two bins
LINE_CLEAR = (
    6.0  # times the noise expected under it: of ten lines of plain noise less than one in a thousand spectra has one
)


def mains_lines(
    power: Samples, bin_width: float, rate: float, mains: float, window: CosineWindow
) -> list[tuple[float, float, float]]:
    """(frequency in Hz, mean square, noise expected under it) of the mains' first ten lines below half the rate.

    Both are 0 where the bins are too coarse to tell one line from the next.
    """
    fine = 5 * window.half_width * bin_width < mains
    lines = (n * mains for n in range(1, MAINS_ORDERS + 1))
    return [(f, *(line_power(power, bin_width, f, window) if fine and f < rate / 2 else (0.0, 0.0))) for f in lines]
