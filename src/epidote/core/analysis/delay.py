"""How much later one signal is than another: the delay of a band, below a sample, with what the noise leaves of doubt.

Generalised cross-correlation (Knapp, Carter 1976): plain, which reaches the Cramér-Rao bound for a path without dispersion; and weighted by
coherence (Hannan, Thomson 1973, from memory), which no loud dispersed part of the band can pull away. Where the two differ, the second counts.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy.fft
from numpy.typing import NDArray

from epidote.core.analysis.alignment import refined_lag
from epidote.core.analysis.spectrum import even_fast_len
from epidote.core.signal import Samples

_STANDS_OUT = 6.0  # times the root mean square of a correlation: none of a million lags of unrelated noise reaches it
_ALIKE = 0.5  # a periodic signal never stands out of its own correlation, but it is alike
_MOST_COHERENT = 0.999
_SEGMENTS = 16
_DISPERSED = 0.5  # frames between the two ways of weighing
_SPREADS = 6.0
_SURE = 0.7  # coherence


@dataclass(frozen=True)
class Delay:
    """frames: by how much the second is later (negative: earlier); polarity 1 or -1; correlation: of the band once aligned, its sign
    taken out; before: as it came; level_db: what of the first is in the second; spread: one standard deviation in frames; dispersed: the band's parts are not equally late; best: the delay that leaves least after
    subtraction, which then is another."""

    frames: float
    polarity: int
    correlation: float
    before: float
    level_db: float
    spread: float
    dispersed: bool
    best: float


@dataclass(frozen=True)
class NothingInCommon:
    """The greatest correlation there was, which is no more than unrelated signals show."""

    correlation: float


@dataclass(frozen=True)
class Spectra:
    """What two signals hold in a band, summed over stretches laid over each other: cross spectrum and the power of either, (size//2+1,) each.

    span: frames of one stretch; frames: of all of them.
    """

    cross: NDArray[np.complex128]
    first: Samples
    second: Samples
    size: int
    span: int
    frames: int

    def __add__(self, other: Spectra) -> Spectra:
        return Spectra(
            self.cross + other.cross, self.first + other.first, self.second + other.second, self.size, self.span, self.frames + other.frames
        )  # fmt: skip

    def before(self) -> float:
        """Correlation as it came."""
        held = math.sqrt(float(self.first.sum()) * float(self.second.sum()))
        return float(self.cross.real.sum()) / held if held else 0.0


def spectra(first: Samples, second: Samples, rate: float, band: tuple[float, float], size: int) -> Spectra:
    """Of one stretch (frames,) of each, filled up with zeros to ``size`` frames; band in Hz."""
    a, b = (_in_band(x, rate, band, size) for x in (first, second))
    frames = max(first.size, second.size)
    cross = b * a.conj()
    return Spectra(cross, a.real**2 + a.imag**2, b.real**2 + b.imag**2, size, frames, frames)


def _in_band(x: Samples, rate: float, band: tuple[float, float], size: int) -> NDArray[np.complex128]:
    spectrum: NDArray[np.complex128] = scipy.fft.rfft(x, size)
    f = np.arange(spectrum.size) * (rate / size)
    spectrum[(f < band[0]) | (f > min(band[1], rate / 2)) | (f <= 0)] = 0
    return spectrum


def in_band(x: Samples, rate: float, band: tuple[float, float], size: int) -> Samples:
    """What of x (frames,) lies in the band in Hz, filled up with zeros to ``size`` frames first."""
    return np.asarray(scipy.fft.irfft(_in_band(x, rate, band, size), size))[: x.size]


def transform_size(frames: int, rate: float, search: float) -> int:
    """Length with which stretches of ``frames`` may lie ``search`` s apart without meeting from behind."""
    return even_fast_len(frames + min(frames, math.ceil(search * rate)) + 1)


def delay_between(
    first: Samples, second: Samples, rate: float, band: tuple[float, float], search: float, *, watch_dispersion: bool = True
) -> Delay | NothingInCommon:
    """Delay of ``second`` against ``first`` (frames,), within ``search`` s either way, from the band in Hz.

    ``watch_dispersion``: weigh by coherence as well, and let that count where it differs.
    """
    size = transform_size(max(first.size, second.size), rate, search)
    return delay_of(spectra(first, second, rate, band, size), round(search * rate), watch_dispersion=watch_dispersion)


def delay_of(held: Spectra, search: int, *, watch_dispersion: bool = True) -> Delay | NothingInCommon:
    """Delay in the spectra of two signals, within ``search`` frames either way."""
    both = math.sqrt(float(held.first.sum()) * float(held.second.sum()))
    if both <= 0:
        return NothingInCommon(0.0)
    lag, height, rms = _greatest(held.cross, held.size, search)
    alike = height * held.size / 2 / both
    # where they overlap, unrelated signals correlate more than on the average of all lags
    if alike < _ALIKE and height < _STANDS_OUT * rms * math.sqrt(held.size / held.span):
        return NothingInCommon(alike)
    lag, sign = refined_lag(held.cross, held.size, lag)
    plain = _measured(held, lag, sign)
    if not watch_dispersion:
        return plain
    weighted, coherence = _weighted(held, lag, max(1, round(held.size / held.span * _SEGMENTS)))
    moved, turned = refined_lag(weighted, held.size, _greatest(weighted, held.size, search)[0])
    # in noise the second way is the less sure one
    dispersed = coherence > _SURE and abs(moved - lag) > _DISPERSED + _SPREADS * plain.spread
    if not dispersed:
        return plain
    return replace(_measured(held, moved, turned, dispersed=True), best=lag)


def _greatest(cross: NDArray[np.complex128], size: int, search: int) -> tuple[float, float, float]:
    """Lag of the greatest correlation within ``search`` frames, its height, and the root mean square of all lags."""
    found = np.abs(scipy.fft.irfft(cross, size))
    reach = min(search, size // 2 - 1)
    near = np.concatenate([found[size - reach :] if reach else found[:0], found[: reach + 1]])
    place = int(np.argmax(near))
    rms = math.sqrt(float(found @ found) / size)
    return float(place - reach), float(near[place]), rms


def _weighted(held: Spectra, lag: float, width: int) -> tuple[NDArray[np.complex128], float]:
    """The cross spectrum's phase by how coherent it is: C/(1 - C) over its magnitude, C from ``width`` neighbouring bins laid over each other;
    and the median C of the band."""
    from scipy.ndimage import uniform_filter1d

    cross = held.cross
    turned = cross * np.exp(2j * np.pi / held.size * np.arange(cross.size) * lag)
    smooth = [uniform_filter1d(v, 2 * width + 1, mode="nearest") for v in (turned.real, turned.imag, held.first, held.second)]
    # running sums are true to the rounding of their greatest value; below it a bin's coherence says nothing
    rounding = np.finfo(float).eps
    least = max(rounding * float(held.first.max()) * rounding * float(held.second.max()), 1e-300)
    coherence = np.clip((smooth[0] ** 2 + smooth[1] ** 2) / np.maximum(smooth[2] * smooth[3], least), 0, _MOST_COHERENT)
    magnitude = np.abs(cross)
    there = magnitude > 0
    return np.where(there, cross / np.maximum(magnitude, 1e-300) * coherence / (1 - coherence), 0), float(np.median(coherence[there]))


def _measured(held: Spectra, lag: float, sign: float, *, dispersed: bool = False) -> Delay:
    w = 2 * np.pi / held.size * np.arange(held.first.size)
    sum_a, sum_b = float(held.first.sum()), float(held.second.sum())
    alike = float((held.cross * np.exp(1j * w * lag)).real.sum())
    # what the first does not explain is noise, of either; the curvature of the correlation is what it is measured against
    scale = alike / sum_a
    rest = max(0.0, sum_b - alike * alike / sum_a)
    noise = rest / max(1, int(np.count_nonzero(held.first)))
    curvature = float((w**2 * held.first).sum()) * scale**2
    # filling up with zeros gives more bins, not more that are independent; each stretch more gives all of them once more
    spread = math.sqrt(noise / (2 * curvature) * held.size / held.frames) if curvature > 0 else math.inf
    # a path that turns the phases about has no single factor: then it is power against power
    level = 10 * math.log10(sum_b / sum_a) if dispersed or alike == 0 else 20 * math.log10(abs(scale))
    polarity, correlation = (1 if sign > 0 else -1), sign * alike / math.sqrt(sum_a * sum_b)
    return Delay(lag, polarity, correlation, held.before(), level, spread, dispersed, lag)
