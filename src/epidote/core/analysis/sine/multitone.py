"""A recorded multitone: the recorder's clock, the tones, and what lies between them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.cross_correlation import coarse_lag
from epidote.core.analysis.quantisation import follows_rounding
from epidote.core.analysis.sine.hum import hum_moves, hum_on, mains_lines, may_meet_hum
from epidote.core.analysis.spreads import WINDOWED_BLOCK, lower_mean, power_variance
from epidote.core.signals import transforms
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.multitone import tones_of

_SLIP = 1e-4  # cycles by which the highest tone may slip over the period before the clock is put right
_ALIKE = 0.1
_ROOM = 256
_BESIDE = 40  # bins to either side of a tone
_HANN_CROWDING = 35 / 18  # mean of the window's fourth power over the square of that of its second


@dataclass(frozen=True)
class Tones:
    """What a period of a multitone holds.

    frequencies in Hz, peaks and the standard deviation of those (tones,). between: mean square from each tone to the
    next (tones - 1,), as if the tones were not there. power: mean square per bin of what is no tone (bins,). width: of
    a bin in Hz. ratio: recorder's clock over the player's; ratio_spread: its standard deviation. hum_included: mains
    hum may change a tone by more than 0.1 dB. undithered: the samples were rounded without dither.
    """

    frequencies: Samples
    peaks: Samples
    peak_spreads: Samples
    played: float
    between: Samples
    between_variance: float
    power: Samples
    whole: Samples
    width: float
    ratio: float
    ratio_spread: float
    hum_included: bool
    undithered: bool


def analyse_multitone(x: Samples, stimulus: Stimulus) -> Tones | None:
    """Return a channel (frames,) analysed over one period.

    None when the tones are not there, or the recording does not hold a period of them.
    """
    # Step 1: where the stimulus lies in the recording
    lag = coarse_lag(stimulus.samples(), x, _ALIKE)  # a clock that is a little off does not matter
    if lag is None:
        return None
    start, _ = lag
    rate, period = stimulus.rate, round(stimulus["period"])
    first = start + round(stimulus["lead"]) + round(stimulus["settle"])
    if first < 0 or first + period > x.size:
        return None
    bins, played = tones_of(stimulus)
    # Step 2: the recorder's clock, from the phases of the tones along the period
    ratio, spread = _clock(x[first : first + period], bins)
    section = x[first : first + period]
    # put right by resampling, twice, since the first estimate is made with the wrong clock
    if abs(ratio - 1) * bins[-1] > _SLIP:
        for _ in range(2):
            low, high = max(0, first - _ROOM), min(x.size, first + period + _ROOM + round(abs(ratio - 1) * period))
            section = resample(x[low:high], ratio, first - low, period)
            more, spread = _clock(section, bins)
            ratio *= more
    # Step 3: over a whole period every tone falls into one bin, without a window
    spectrum = transforms.rfft(section - section.mean())
    peaks = 2 / period * np.abs(spectrum[bins])
    whole = 2 * np.square(np.abs(spectrum) / period)
    # Step 4: what is no tone
    rest = spectrum.copy()
    rest[bins] = 0
    # a Hann window on what is left, by its three bins: a tone that drifts leaks no further than it must
    windowed = rest[1:-1] / 2 - (rest[:-2] + rest[2:]) / 4
    power = np.zeros(rest.size)
    # 0.375: mean square of the Hann window
    power[1:-1] = 2 * np.square(np.abs(windowed) / period) / 0.375
    usable = np.ones(power.size, bool)
    usable[:2] = usable[-1] = False
    for shift in (-1, 0, 1):  # a bin emptied of its tone is missing from its neighbours, too
        usable[np.clip(bins + shift, 0, usable.size - 1)] = False
    peak_spreads = _peak_spreads(rest, bins, period)
    # Step 5: sums from each tone to the next, for the curve of what lies between
    gaps = [_Gap.of(power[a:b], usable[a:b]) for a, b in pairwise(bins.tolist())]
    between = np.array([gap.total for gap in gaps])
    variance = _HANN_CROWDING * power_variance(np.concatenate([gap.counted for gap in gaps]), WINDOWED_BLOCK)
    width = rate / period
    frequencies = bins * width
    residual = np.asarray(transforms.irfft(rest, period))
    return Tones(
        frequencies,
        peaks,
        peak_spreads,
        played,
        between,
        variance,
        np.where(usable, power, 0.0),
        whole,
        width,
        ratio,
        spread,
        _hum_is_included(frequencies, peaks, residual, rate),
        follows_rounding(section, residual) is not None,
    )


def _hum_is_included(frequencies: Samples, peaks: Samples, residual: Samples, rate: float) -> bool:
    """Whether hum on a tone may change it by more than 0.1 dB, judged by the mains' other lines."""
    width = rate / residual.size
    concerned = [i for i, frequency in enumerate(frequencies.tolist()) if may_meet_hum(frequency, 1, width)]
    if not concerned:
        return False
    seen = mains_lines(residual, rate, lambda line: float(frequencies[np.argmin(np.abs(frequencies - line))]))
    return any(hum_moves(float(peaks[i]), hum_on(float(frequencies[i]), width, 1, seen)) for i in concerned)


def _peak_spreads(rest: NDArray[np.complex128], bins: NDArray[np.int64], period: int) -> Samples:
    """Return the standard deviation of each tone's peak (tones,), from what lies beside it: the noise's mean square per
    bin, as for any fitted line.
    """
    power = 2 * np.square(np.abs(rest) / period)
    there = np.ones(power.size, bool)
    there[bins] = there[0] = False
    spreads = np.zeros(bins.size)
    for number, place in enumerate(bins.tolist()):
        reach = slice(max(1, place - _BESIDE), place + _BESIDE + 1)
        around = power[reach][there[reach]]
        if around.size:
            spreads[number] = math.sqrt(lower_mean(around))
    return spreads


@dataclass(frozen=True)
class _Gap:
    """What lies from one tone to the next: the usable bins' powers as they count, those that say nothing held to be
    the mean of the others.
    """

    counted: Samples

    @property
    def total(self) -> float:
        return float(self.counted.sum())

    @staticmethod
    def of(power: Samples, usable: NDArray[np.bool_]) -> _Gap:
        count = int(np.count_nonzero(usable))
        return _Gap(power[usable] * (power.size / count) if count else np.zeros(0))


def _clock(x: Samples, bins: NDArray[np.int64]) -> tuple[float, float]:
    """How much faster the recorder's clock ran, from the tones' phases in both halves of a period x (frames,), and
    its standard deviation.

    From the lowest tone up, each tone's phase is read with the clock that those below it have told.
    """
    half = x.size // 2
    n = np.arange(half)
    window = 0.5 - 0.5 * np.cos(2 * np.pi * (n + 0.5) / half)
    # bins of the whole period are whole or half bins of a half: two transforms hold both
    parts = []
    for piece in (x[:half], x[half:]):
        weighted = (piece - piece.mean()) * window
        even = transforms.fft(weighted)
        odd = transforms.fft(weighted * np.exp(-1j * np.pi * n / half))
        parts.append(np.where(bins % 2 == 0, even[bins // 2], odd[bins // 2]))
    turned = parts[1] * np.conj(parts[0]) * np.exp(-1j * np.pi * bins)
    size = np.abs(turned)
    keep = size > 1e-3 * size.max()
    top = bottom = 0.0
    offset = 0.0
    kept_bins = bins[keep].astype(float)
    slipped = np.zeros(kept_bins.size)
    for number, (b, z) in enumerate(zip(kept_bins.tolist(), turned[keep].tolist(), strict=True)):
        expected = np.pi * b * offset
        slipped[number] = (expected + float(np.angle(z * np.exp(-1j * expected)))) / np.pi
        weight = abs(z) * b
        top += weight * slipped[number]
        bottom += weight * b
        offset = top / bottom
    # each tone's own departure from the line, as it counts in the slope (White's estimator)
    scores = size[keep] * kept_bins * (slipped - kept_bins * offset)
    count = kept_bins.size
    if bottom:
        spread = math.sqrt(float(scores @ scores) * count / max(1, count - 1)) / bottom
    else:
        spread = 0.0
    # a recorder that runs fast sees every tone low
    return 1 / (1 + offset), spread
