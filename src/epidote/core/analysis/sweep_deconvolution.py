"""From a recorded sweep to impulse and frequency responses, of the linear part and of each harmonic.

Division in the frequency domain by the sweep as it was played; the impulse response is then windowed, shorter towards
high frequencies, so that noise outside the response is left out. Harmonic responses lie L ln n before the linear one
(Farina 2000; Novak, Lotton, Simon 2015). The band mask, and the quarter turn of the even orders, are applied before the
window, so that what is windowed is short.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus

Complex = NDArray[np.complex128]

BEFORE, AFTER = 0.02, 0.4  # seconds of the impulse response kept at the lowest frequencies
HARMONIC_BEFORE = 0.2  # the mask below the lowest even harmonic rings for so long
CYCLES, LEAST_AFTER = 32, 0.025  # what is kept towards high frequencies
_LENGTHENED = 2  # times that the longest window may be doubled
_ORDERS_REACH = 4.6  # times the sweep's length constant: up to the 100th order
_BANDS_PER_OCTAVE, _SAME, _OVER_NOISE = 12, 0.001, 3.0
_BRIDGE_TERMS, _EMPTY_ENOUGH = 6, 1e-4
_HUM_BESIDE, _HUM_CLEAR = 8, 20.0  # bins to either side; times their median
FOUND_RATIO = 9.0  # peak of the impulse response over its noise below which there is no sweep in the recording


@dataclass(frozen=True)
class Kernel:
    """What one stimulus makes of every channel: its inverse spectrum (bins,) from 0 Hz up to the end of the sweep."""

    stimulus: Stimulus
    frames: int
    inverse: Complex

    @property
    def rate(self) -> float:
        return self.stimulus.rate

    @property
    def length(self) -> float:
        return self.stimulus["length"]


def kernel(stimulus: Stimulus, frames: int) -> Kernel:
    """Return the kernel for recordings of up to ``frames`` samples; the last ones are kept, for the next run of the
    same kind.
    """
    return _kernel(_Key(stimulus), even_fast_len(max(frames, stimulus.frames)))


@dataclass(frozen=True)
class _Key:
    """A stimulus as what its kernel is kept under."""

    stimulus: Stimulus

    def __hash__(self) -> int:
        return hash((self.stimulus.kind, self.stimulus.rate, tuple(sorted(self.stimulus.parameters.items()))))


@lru_cache(maxsize=2)
def _kernel(key: _Key, size: int) -> Kernel:
    stimulus = key.stimulus
    # Spectrum of the sweep as it was played, fades and all (docs/methods.md, Response: Division)
    spectrum = transforms.rfft(stimulus.samples(), size)
    width = stimulus.rate / size
    stop, above = stimulus["stop"], stimulus["last"] / stimulus["stop"]
    # towards high frequencies the mask turns within the sweep's own fade, where there still is enough of it to divide
    # by
    begin, end = stop * above**0.2, stop * above**0.7
    # above the mask there is nothing left to divide by
    count = min(spectrum.size - 1, math.floor(end / width) + 1)
    inside = spectrum[:count]
    energy = inside.real**2 + inside.imag**2
    # 1/X = conj(X) / |X|²
    inverse = np.conj(inside)
    inverse /= np.maximum(energy, np.finfo(float).tiny)
    bins = np.arange(math.ceil(begin / width), count)
    inverse[bins] *= 0.5 + 0.5 * np.cos(np.pi * np.log(bins * width / begin) / np.log(end / begin))
    return Kernel(stimulus, size, inverse)


@dataclass(frozen=True, eq=False)
class Deconvolved:
    """One channel's circular impulse responses (kernel.frames,): of the linear part and the odd orders, and with
    every frequency turned by a quarter that of the even ones; and what noise there is in them.
    """

    kernel: Kernel
    impulse: Samples
    turned: Samples
    peak: int  # index of the linear response's greatest value
    noise: float  # standard deviation of the impulse response where there is none, robustly
    noise_sums: Samples  # running sum over the bins (noise_size // 2 + 2,) of the noise's power spectrum
    noise_size: int

    @property
    def delay(self) -> int:
        """Frames by which the response is later than the stimulus; negative: earlier, seen round the circle."""
        if self.peak < self.kernel.frames / 2:
            return self.peak
        return self.peak - self.kernel.frames

    @property
    def found(self) -> bool:
        return abs(float(self.impulse[self.peak])) > FOUND_RATIO * self.noise and self.noise >= 0


def deconvolve(x: Samples, with_kernel: Kernel) -> Deconvolved:
    """Divide a recording (frames,) by the stimulus as it was played."""
    k = with_kernel
    # Step 1: the recording filled up to the circle's length
    padded = np.empty(k.frames)
    padded[: x.size] = x
    padded[x.size :] = float(x[-max(1, round(0.02 * k.rate)) :].mean())  # a direct voltage goes on
    # Step 2: divide, up to the end of the sweep
    quotient = transforms.rfft(padded, overwrite_x=True)
    quotient[: k.inverse.size] *= k.inverse
    quotient[k.inverse.size :] = 0
    # the bin at 0 Hz by a parabola through its neighbours: the sweep has no energy there
    quotient[0] = (4 * quotient[1].real - quotient[2].real) / 3  # and says nothing about the response
    # Step 3: back to time, once as it is and once turned by a quarter for the even orders
    turned = _rotate(quotient, k)
    impulse = transforms.irfft(_fill_below_band(quotient, k, index_of_greatest(turned)), k.frames, overwrite_x=True)
    peak = index_of_greatest(impulse)
    # noise where there is no response, robustly: the median is not moved by the responses themselves
    sample = impulse[:: max(1, k.frames // 20000)]
    return Deconvolved(
        k, impulse, turned, peak, float(np.median(np.abs(sample))) / NORMAL_MEDIAN, *_noise_sums(impulse, peak, k)
    )


def _rotate(quotient: Complex, k: Kernel) -> Samples:
    """Impulse response (frames,) of a quotient with every frequency turned by a quarter."""
    full = quotient * -1j
    # the turn cannot pass 0 Hz smoothly, and there is no even harmonic below twice the sweep's start
    low = math.ceil(k.stimulus["start"] * k.frames / k.rate)
    full[:low] *= 0.5 - 0.5 * np.cos(np.pi * np.clip(np.arange(low) / (0.75 * low) - 1 / 3, 0, 1))
    return np.asarray(transforms.irfft(full, k.frames, overwrite_x=True))


def index_of_greatest(x: Samples) -> int:
    """Index of the value of x (frames,) that is farthest from 0."""
    high, low = int(np.argmax(x)), int(np.argmin(x))
    if x[high] >= -x[low]:
        return high
    return low


def _noise_sums(impulse: Samples, peak: int, k: Kernel) -> tuple[Samples, int]:
    """Return the running sum over the bins of the noise's power spectrum, and the length of its transform.

    Between the responses of the 20th and higher orders and the sweep's beginning there is nothing but noise.
    """
    # about the 66th order (4.2 length constants before the peak) there is nothing but noise
    span = int(min(2 * k.length, 1.5) * k.rate)
    begin = peak - int(4.2 * k.length * k.rate) - span // 2
    section = np.take(impulse, np.arange(begin, begin + span), mode="wrap")
    pieces = 7
    # Welch's method (1967): seven half-overlapping Hann segments
    size = transforms.prev_fast_len(2 * span // (pieces + 1), real=True)
    window = np.hanning(size)
    parts = np.stack([section[n * size // 2 : n * size // 2 + size] for n in range(pieces)])
    power = np.square(np.abs(transforms.rfft(parts * window, axis=1))).mean(axis=0) / np.square(window).sum()
    return np.concatenate([[0.0], np.cumsum(power)]), size


def _fill_below_band(quotient: Complex, k: Kernel, delay: int) -> Complex:
    """Return the quotient with its bins below the sweep's first frequency replaced where they are not worth dividing.

    Down there the sweep has next to no energy, and noise, or the direct voltage that even orders leave while the sweep
    sounds, would be divided by nothing. Leaving the bins out is no way either: a response cut off sharply at its low
    end rings for longer than any window. So a smooth continuation, real in time (a polynomial in j f), is chosen that
    leaves the least energy where there can be no response: long after the peak, and between it and the second
    harmonic's. The division stands when it leaves next to none there.
    """
    width = k.rate / k.frames
    gap = max(2, math.ceil(k.stimulus["first"] / width))
    top = math.ceil(8 * k.stimulus["start"] / width)
    if top > k.inverse.size:
        return quotient
    # only the lowest octaves matter here: a small transform of those bins alone
    bins = np.arange(top)
    taper = np.where(bins < top / 2, 1.0, 0.5 + 0.5 * np.cos(np.pi * np.clip(2 * bins / top - 1, 0, 1)))
    turn = np.exp(2j * np.pi * bins * delay / k.frames)
    size = 2 * top
    known = np.zeros(top + 1, complex)
    # the response turned to 0 delay, so that it is short, and tapered at the top
    known[:top] = quotient[:top] * turn * taper
    step = k.frames / k.rate / size
    # where no linear response can be: AFTER and a little beyond the peak, and before it up to half way to the 2nd
    # harmonic
    after = np.arange(math.ceil((AFTER + 0.1) / step), size - math.ceil((k.length * math.log(12) + 0.1) / step))
    before = np.arange(size - math.floor(0.5 * k.length * math.log(2) / step), size - math.floor(0.03 / step))
    empty = np.concatenate([after, before])
    if empty.size < 4 * _BRIDGE_TERMS:
        return quotient
    # energy there with the division as it stands
    as_divided = np.square(transforms.irfft(known, size)[empty]).sum()
    # the same without the doubtful bins
    known[:gap] = 0
    without = transforms.irfft(known, size)
    basis = np.zeros((_BRIDGE_TERMS, top + 1), complex)
    # (j f)^r is real in time for every r, so every combination is
    basis[:, :gap] = np.stack([(1j * bins[:gap] / gap) ** r for r in range(_BRIDGE_TERMS)])
    columns = transforms.irfft(basis, size, axis=1)[:, empty].T
    # least squares: the continuation that leaves the least energy where there can be none
    coefficients, *_ = np.linalg.lstsq(columns, -without[empty], rcond=1e-9)
    left = np.square(without[empty] + columns @ coefficients).sum()
    # the division was good enough: nothing is replaced
    if as_divided <= left + _EMPTY_ENOUGH * np.square(without).sum():
        return quotient
    bridged = quotient.copy()
    bridged[:gap] = (coefficients @ basis[:, :gap]) * turn[:gap].conj()
    return bridged


def flat_window(before: int, after: int) -> Samples:
    """Return a window (before + after,) that is 1 over the inner half of each side and falls as a raised cosine outside
    it.
    """
    rise, fall = max(1, before // 2), max(1, after // 2)
    window = np.ones(before + after)
    window[:rise] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(rise) + 0.5) / rise)
    window[-fall:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(fall) + 0.5) / fall)
    return window


def windowed_responses(impulse: Samples, windows: Sequence[tuple[int, int, int]], size: int) -> Complex:
    """Spectra (windows, size//2+1) of windowed stretches of a circular impulse response, each by (centre, before,
    after), delay up to its centre taken out. Transformed side by side they cost half as much as one after the other.

    A stretch longer than ``size`` is laid over itself: its spectrum is then known at fewer frequencies, but exactly.
    """
    buffer = np.zeros((len(windows), size))
    for row, (centre, before, after) in zip(buffer, windows, strict=True):
        section = np.take(impulse, np.arange(centre - before, centre + after), mode="wrap") * flat_window(before, after)
        for first in range(before, section.size, size):
            part = section[first : first + size]
            row[: part.size] += part
        if before:
            row[-before:] += section[:before]
    return np.asarray(transforms.rfft(buffer, axis=1, overwrite_x=True))


def windowed_response(impulse: Samples, centre: int, before: int, after: int, size: int) -> Complex:
    """One of ``windowed_responses`` (size//2+1,)."""
    return np.asarray(windowed_responses(impulse, [(centre, before, after)], size)[0])


def response_grid(kernel_: Kernel) -> int:
    """Length of the transforms of windowed responses: bins 1/20 of the lowest wanted frequency apart, and room for
    the window.
    """
    rate = kernel_.rate
    least = max((BEFORE + AFTER) * rate + 2, rate / max(kernel_.stimulus["start"] / 20, 0.05))
    return even_fast_len(math.ceil(least))


@dataclass(frozen=True, eq=False)
class Linear:
    """A frequency response (bins,) on the grid of ``response_grid``, referred to the integer delay of the peak, with
    how long the window is after the peak in s (bins,); and the same by the longest window alone, and by half of it:
    where those differ, the response has not died away; longest: that window in s.
    """

    response: Complex
    after: Samples
    whole: Complex
    half: Complex
    longest: float


def linear_response(d: Deconvolved, *, by_frequency: bool) -> Linear:
    """Return the responses in their windows: a fixed window keeps 20 ms before and 400 ms after the peak.

    By frequency, it shortens from there to 32 cycles, 25 ms at least: responses of several windows are crossfaded over
    log frequency. Where a longer window gives another response than noise explains, as about a sharp resonance, it
    stays as long as that takes, up to 1.6 s where the recording holds it.
    """
    rate, size = d.kernel.rate, response_grid(d.kernel)
    if not by_frequency:
        rows = _by_windows(d, [AFTER, AFTER / 2])
        return Linear(rows[0], np.full(rows.shape[1], AFTER), rows[0], rows[1], AFTER)
    lengths = [AFTER * 2.0**n for n in range(_LENGTHENED, 0, -1) if AFTER * 2.0**n < room_after(d.kernel)] + [AFTER]
    usual = len(lengths) - 1
    # each shorter window takes over in the octave where it first holds enough cycles
    begins: list[
        float
    ] = []  # from which frequency on each shorter one takes over: in the octave where it first holds enough cycles
    while (shorter := lengths[-1] / 2) > LEAST_AFTER / 1.5:
        begin = max(CYCLES, d.kernel.stimulus["start"] * AFTER) / shorter
        if begin > 0.5 * rate:
            break
        begins.append(begin)
        lengths.append(max(shorter, LEAST_AFTER))
    if len(lengths) < 2:
        lengths.append(AFTER / 2)
    rows = _by_windows(d, lengths)
    frequency: Samples = np.arange(rows.shape[1], dtype=np.float64) * (rate / size)
    steps = np.full(frequency.size, float(usual))
    for begin in begins:
        # crossfade over log frequency by a cubic that is flat at both ends
        share = np.clip(np.log2(np.maximum(frequency, frequency[1]) / begin), 0, 1)
        steps += share * share * (3 - 2 * share)
    # a resonance keeps the longer window (docs/methods.md, Response: Window)
    steps = np.minimum(steps, _settled_step(d, rows, lengths, frequency))
    lower = np.minimum(steps.astype(int), len(lengths) - 2)
    bins, share = np.arange(frequency.size), steps - lower
    # between two windows: a weighted mean of their responses
    response = rows[lower, bins] + share * (rows[lower + 1, bins] - rows[lower, bins])
    longest = int(lower.min())
    after = np.array(lengths)[lower] * 0.5**share
    return Linear(response, after, rows[longest], rows[longest + 1], lengths[longest])


def _by_windows(d: Deconvolved, lengths: Sequence[float]) -> Complex:
    """Responses (lengths, bins) by windows that keep so many seconds after the peak."""
    rate = d.kernel.rate
    windows = [(d.peak, max(8, round(min(BEFORE, a / 2) * rate)), max(16, round(a * rate))) for a in lengths]
    return windowed_responses(d.impulse, windows, response_grid(d.kernel))


def room_after(k: Kernel) -> float:
    """Seconds after the peak in which a response can be read: what is left of the circle before the harmonics of
    high order.
    """
    return k.frames / k.rate - _ORDERS_REACH * k.length - 2 * BEFORE


def _settled_step(d: Deconvolved, rows: Complex, lengths: Sequence[float], frequency: Samples) -> Samples:
    """Return the shortest window (bins,), counted from the longest, that gives the same response as the next longer
    one, within a thousandth or the noise.

        Looked at in bands of a twelfth of an octave and their neighbours, and joined over log frequency.
    """
    rate = d.kernel.rate
    first, last = d.kernel.stimulus["start"], d.kernel.stimulus["stop"]
    low, high = np.searchsorted(frequency, [first, last])
    if high - low < 4:
        return np.full(frequency.size, float(len(lengths) - 1))
    inside = frequency[low:high]
    band = np.floor(_BANDS_PER_OCTAVE * np.log2(inside / inside[0])).astype(int)
    edges = np.flatnonzero(np.diff(band, prepend=-1))
    allowed = np.full(edges.size, len(lengths) - 1)
    noise = np.sqrt(noise_density(d, inside) * 0.75 * rate)
    for number in range(len(lengths) - 1, 0, -1):
        longer = rows[number - 1, low:high]
        deviation = np.abs(rows[number, low:high] - longer)
        beyond = deviation > _SAME * np.abs(longer) + _OVER_NOISE * noise * math.sqrt(lengths[number - 1])
        allowed = np.where(np.logical_or.reduceat(beyond, edges), np.minimum(allowed, number - 1), allowed)
    # a band beside one that needs longer gets it, too: a resonance has skirts
    padded = np.pad(allowed, 1, mode="edge")
    near = np.minimum(np.minimum(padded[:-2], padded[2:]), allowed)
    return np.asarray(np.interp(np.log(np.maximum(frequency, frequency[1])), np.log(inside[edges]), near.astype(float)))


def harmonic_response(d: Deconvolved, order: int) -> tuple[Complex, int]:
    """Response of harmonic ``order`` against its own (output) frequency on the grid of ``response_grid``; window length
    in samples.
    """
    rate, length = d.kernel.rate, d.kernel.length
    advance = length * math.log(order) * rate
    later = length * math.log(order / (order - 1)) * rate
    earlier = length * math.log((order + 1) / order) * rate
    before = int(min(HARMONIC_BEFORE * rate, 0.4 * earlier))
    after = int(min(AFTER * rate, 0.6 * later))
    whole = math.floor(advance)
    if order % 2:
        impulse = d.impulse
    else:
        impulse = d.turned
    size = response_grid(d.kernel)
    response = windowed_response(impulse, d.peak - whole, max(2, before), max(4, after), size)
    return response, before + after


def noise_density(d: Deconvolved, frequencies: Samples) -> Samples:
    """Power of the deconvolved noise per sample of window (points,); times the sum of a window's squares it is the
    noise in a response.
    """
    cumulative, size = d.noise_sums, d.noise_size
    bins = np.clip(frequencies * size / d.kernel.rate, 1, cumulative.size - 3)
    reach = np.maximum(2, (0.06 * bins).astype(int))
    low, high = np.maximum(0, bins.astype(int) - reach), np.minimum(cumulative.size - 1, bins.astype(int) + reach + 1)
    return np.asarray((cumulative[high] - cumulative[low]) / (high - low))


def hum_amplitudes(d: Deconvolved, frequencies: Samples) -> Samples:
    """Peak amplitude of lines (lines,) at these frequencies that go on through the whole impulse response, as hum does.

    0 where none stands clear.

    A stretch with nothing but noise tells (see ``Deconvolved.noise_sums``). A line of amplitude a has the power a²/4
    (sum w)² in a window w.
    """
    power, size = np.diff(d.noise_sums), d.noise_size
    amplitudes = np.zeros(frequencies.size)
    for number, frequency in enumerate(frequencies):
        place = round(float(frequency) * size / d.kernel.rate)
        if place < 2 * _HUM_BESIDE or place + _HUM_BESIDE >= power.size:
            neighbours = power[max(1, place - _HUM_BESIDE) : place + _HUM_BESIDE]
        else:
            neighbours = np.concatenate(
                [power[place - _HUM_BESIDE : place - 2], power[place + 3 : place + _HUM_BESIDE]]
            )
        own = float(power[max(1, place - 1) : place + 2].max(initial=0.0))
        if neighbours.size and own > _HUM_CLEAR * float(np.median(neighbours)):
            # of a Hann window the square of the sum over the sum of squares is two thirds of its length
            amplitudes[number] = math.sqrt(4 * own / (size * 2 / 3))
    return amplitudes


def best_delay(response: Complex, size: int, weight: Samples, first: int, rate: float) -> float:
    """Delay in samples at which Re sum weight · response · exp(j w delay) is greatest, near 0; bins from ``first``
    (points,).

    With the stimulus' power as weight this is the cross-correlation's peak between samples: the maximum-likelihood
    delay of a path without dispersion in white noise (Knapp, Carter 1976).
    """
    w = 2 * np.pi * (first + np.arange(response.size)) / size
    weighted = weight * response
    tau, sign = 0.0, 1.0
    for step in range(12):
        if step:
            turned = weighted * np.exp(1j * w * tau)
        else:
            turned = weighted
        if step == 0:
            sign = math.copysign(1.0, float(turned.real.sum()))
        slope = sign * float(-(w * turned.imag).sum())
        curvature = sign * float(-(w * w * turned.real).sum())
        if curvature >= 0:
            break
        change = max(-0.5, min(0.5, -slope / curvature))
        tau += change
        if abs(change) < 1e-10:
            break
    return tau
