"""How much later one signal is than another: the delay of a band, below a sample, with what the noise leaves of doubt.

Generalised cross-correlation (Knapp, Carter 1976): plain, which reaches the Cramér-Rao bound for a path without
dispersion; and weighted by coherence (Hannan, Thomson 1973, from memory), which no loud dispersed part of the band can
pull away. Where the two differ, the second counts.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.analysis.delay.correlation_peaks import Peaks, highest_peaks
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends

_STANDS_OUT = 6.0  # times the root mean square of a correlation: none of a million lags of unrelated noise reaches it
_ALIKE = 0.5  # a periodic signal never stands out of its own correlation, but it is alike
_MOST_COHERENT = 0.999
_SEGMENTS = 16
_DISPERSED = 0.5  # frames between the two ways of weighing: from here on the second counts
_WORTH_SAYING = 0.02  # frames between the parts of a band: the coupling of an ordinary input shifts them by a hundredth
_SPREADS = 6.0
_LIKELY_SPREADS = 3.0  # from here on a shift widens the spread
_SURE = 0.7  # coherence
_MANY_BINS = 10.0
_SURE_OF_PEAK = 0.99  # likelihood
_LEAST_LIKELY, _MOST_RIVALS = 0.001, 12
_PERIODIC = 0.8  # of the highest peak: what a period of a steady sound reaches within the search
_EQUAL, _OUTSIDE = 0.9995, 1e-3  # alike per overlap; share of the energy outside it


@dataclass(frozen=True)
class Rival:
    """A delay that the correlation allows: frames, polarity 1 or -1, and how likely it is among all of them."""

    frames: float
    polarity: int
    likelihood: float


@dataclass(frozen=True)
class Delay:
    """Delay of a second signal against a first one, in frames.

    frames: by how much the second is later (negative: earlier). polarity: 1 or -1. correlation: of the band once
    aligned, its sign taken out; before: as it came. level_db: of the first in the second; level_spread: its standard
    deviation in dB. spread: one standard deviation of frames. dispersed: the band's parts are not equally late. best:
    the delay that leaves least after subtraction, which then is another. rivals: the delays that the correlation
    allows, the likeliest first. nearly_as_high: lags of further peaks of the same sign, whatever their likelihood.
    shift: by how many frames the upper part of the band is later or earlier than the lower, 0 where the noise may do as
    much.
    """

    frames: float
    polarity: int
    correlation: float
    before: float
    level_db: float
    spread: float
    dispersed: bool
    best: float
    rivals: tuple[Rival, ...] = ()
    level_spread: float = math.nan
    nearly_as_high: tuple[float, ...] = ()
    shift: float = 0.0

    @property
    def ambiguous(self) -> bool:
        """Whether another peak of the correlation may be the delay as well."""
        return len(self.rivals) > 1 and self.rivals[0].likelihood < _SURE_OF_PEAK

    @property
    def spread_with_shift(self) -> float:
        """One standard deviation in frames with what dispersion leaves open: which part of the band the delay is of."""
        return math.hypot(self.spread, self.shift)

    @property
    def whole_spread(self) -> float:
        """One standard deviation in frames with the doubt of which peak it is."""
        variance = sum(r.likelihood * (r.frames - self.frames) ** 2 for r in self.rivals)
        return math.hypot(self.spread, math.sqrt(variance))


@dataclass(frozen=True)
class NoCorrelation:
    """The greatest correlation there was, which is no more than unrelated signals show."""

    correlation: float


@dataclass(frozen=True)
class Spectra:
    """What two signals hold in a band, summed over stretches laid over each other: cross spectrum and the power of
    either, (size//2+1,) each.

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
            self.cross + other.cross,
            self.first + other.first,
            self.second + other.second,
            self.size,
            self.span,
            self.frames + other.frames,
        )

    def before(self) -> float:
        """Correlation as it came."""
        norm = math.sqrt(float(self.first.sum()) * float(self.second.sum()))
        if norm:
            return float(self.cross.real.sum()) / norm
        return 0.0


def spectra(first: Samples, second: Samples, rate: float, band: tuple[float, float], size: int) -> Spectra:
    """Of one stretch (frames,) of each, filled up with zeros to ``size`` frames; band in Hz."""
    a, b = (_in_band(x, rate, band, size) for x in (first, second))
    frames = max(first.size, second.size)
    cross = b * a.conj()
    return Spectra(cross, a.real**2 + a.imag**2, b.real**2 + b.imag**2, size, frames, frames)


def _in_band(x: Samples, rate: float, band: tuple[float, float], size: int) -> NDArray[np.complex128]:
    spectrum: NDArray[np.complex128] = transforms.rfft(x, size)
    f = np.arange(spectrum.size) * (rate / size)
    spectrum[(f < band[0]) | (f > min(band[1], rate / 2)) | (f <= 0)] = 0
    return spectrum


def in_band(x: Samples, rate: float, band: tuple[float, float], size: int) -> Samples:
    """Return what of x (frames,) lies in the band in Hz, filled up with zeros to ``size`` frames first."""
    return np.asarray(transforms.irfft(_in_band(x, rate, band, size), size))[: x.size]


def transform_size(frames: int, rate: float, search: float) -> int:
    """Length with which stretches of ``frames`` may lie ``search`` s apart without meeting from behind."""
    return even_fast_len(frames + min(frames, math.ceil(search * rate)) + 1)


def delay_between(
    first: Samples,
    second: Samples,
    rate: float,
    band: tuple[float, float],
    search: float,
    *,
    watch_dispersion: bool = True,
    expected: float | None = None,
    fade: int = 0,
) -> Delay | NoCorrelation:
    """Delay of ``second`` against ``first`` (frames,), within ``search`` s either way, from the band in Hz.

    ``watch_dispersion``: weigh by coherence as well, and let that count where it differs; ``expected``: of peaks that
    are nearly as high, as those of a steady tone are, that nearest to this lag in frames; ``fade``: frames over which
    both are faded at their ends, for records that were cut in the middle of a sound: their steps lie where they were
    cut and not where the sound is.
    """
    # room for the search on either side, so that the circle does not join late and early
    size = transform_size(max(first.size, second.size), rate, search)
    spectra_of_pair = spectra(_faded(first, fade), _faded(second, fade), rate, band, size)
    delay = delay_of(spectra_of_pair, round(search * rate), watch_dispersion=watch_dispersion, expected=expected)
    if isinstance(delay, NoCorrelation) or expected is not None or not delay.nearly_as_high:
        return delay
    return _steady(delay, first, second, rate, band, size=size)


def _faded(x: Samples, fade: int) -> Samples:
    fade = min(fade, x.size // 100)
    if fade < 1:
        return x
    faded = x.copy()
    fade_ends(faded, fade)
    return faded


def _steady(
    delay: Delay, first: Samples, second: Samples, rate: float, band: tuple[float, float], *, size: int
) -> Delay:
    """Return the same, with every period allowed where the sound goes on to both ends of the record.

        Then only the ends of the record tell one period from the next, which is no evidence: peaks that are as high per
    overlap are equally likely, and of these the shortest delay is given.
    """
    # Step 1: the period and its multiples: lags at which the correlation is nearly as high
    others = sorted(delay.nearly_as_high, key=abs)[:_MOST_RIVALS]
    lags = np.array([delay.frames, *others])
    a, b = (_in_band(x, rate, band, size) for x in (first, second))
    cross = b * a.conj()
    w = 2 * np.pi * np.arange(cross.size) / size
    # Step 2: the correlation at each of these lags, between frames, straight from the cross spectrum
    heights = np.array([2 / size * float((cross * np.exp(1j * w * lag)).real.sum()) for lag in lags])
    sounds = (transforms.irfft(spectrum, size)[: x.size] for spectrum, x in ((a, first), (b, second)))
    held_a, held_b = (np.concatenate([[0.0], np.cumsum(np.square(x))]) for x in sounds)
    # Step 3: where both records sound at that lag, and how much energy either has there
    begin = np.clip(np.ceil(-lags), 0, first.size).astype(int)
    end = np.clip(np.floor(second.size - lags), begin, first.size).astype(int)
    moved = np.round(lags).astype(int)
    energy_a = held_a[end] - held_a[begin]
    energy_b = held_b[np.clip(end + moved, 0, second.size)] - held_b[np.clip(begin + moved, 0, second.size)]
    # Step 4: correlation of the overlap alone; the end of a record is no evidence
    coherence = np.abs(heights) / np.sqrt(np.maximum(energy_a * energy_b, 1e-300))
    outside = 1 - energy_a / max(float(held_a[-1]), 1e-300)
    equal = coherence >= _EQUAL * float(coherence[0])
    if np.count_nonzero(equal) < 2 or float(outside[equal].max()) <= _OUTSIDE:
        return delay
    # all that are as good are equally likely; the shortest delay is given
    likely = 1 / int(np.count_nonzero(equal))
    order = [i for i in np.argsort(np.abs(lags), kind="stable") if equal[i]]
    rivals = tuple(Rival(float(lags[i]), delay.polarity, likely) for i in order)
    return replace(delay, frames=rivals[0].frames, best=rivals[0].frames, rivals=rivals)


def delay_of(
    pair: Spectra, search: int, *, watch_dispersion: bool = True, expected: float | None = None
) -> Delay | NoCorrelation:
    """Delay in the spectra of two signals, within ``search`` frames either way."""
    # no energy in the band: nothing to compare
    both = math.sqrt(float(pair.first.sum()) * float(pair.second.sum()))
    if both <= 0:
        return NoCorrelation(0.0)
    peaks = highest_peaks(pair.cross, pair.size, search)
    similarity = abs(float(peaks.heights[0])) * pair.size / 2 / both
    # where they overlap, unrelated signals correlate more than on the average of all lags
    if similarity < _ALIKE and abs(float(peaks.heights[0])) < _STANDS_OUT * peaks.rms * math.sqrt(
        pair.size / pair.span
    ):
        return NoCorrelation(similarity)
    if expected is None:
        place = float(peaks.lags[0])
    else:
        place = peaks.nearest(expected)
    # between frames: where the correlation itself is greatest, by Newton's method
    lag, sign = refined_lag(pair.cross, pair.size, place)
    peaks = replace(peaks, lags=np.where(peaks.lags == place, lag, peaks.lags))
    plain = replace(
        _estimate_at(pair, lag, sign), rivals=_rivals(pair, peaks), nearly_as_high=_nearly_as_high(peaks, lag)
    )
    if not watch_dispersion:
        return plain
    # a path that does not delay its whole band alike
    shift, shift_spread = _shift_within(pair, lag)
    if shift > _LIKELY_SPREADS * shift_spread:
        plain = replace(plain, shift=shift, dispersed=shift > max(_WORTH_SAYING, _SPREADS * shift_spread))
    # a second estimate by coherence (Knapp, Carter 1976); where it differs by more than noise explains, the path is
    # dispersed
    weighted, coherence = _weighted(pair, lag, max(1, round(pair.size / pair.span * _SEGMENTS)))
    moved, turned = refined_lag(weighted, pair.size, highest_peaks(weighted, pair.size, search).nearest(lag))
    # in noise the second way is the less sure one
    if coherence <= _SURE:
        return plain
    if abs(moved - lag) > _DISPERSED + _SPREADS * plain.spread:
        return replace(_estimate_at(pair, moved, turned, dispersed=True), best=lag)
    return plain


def _shift_within(pair: Spectra, lag: float) -> tuple[float, float]:
    """By how many frames the upper part of a band is later or earlier than its lower part, with the spread that
    noise leaves it.

    Either part decides half of the delay. Their own lags are one step of Newton's method from that of both. The best
    alignment of a unit with a high-pass lies between them, and so does its delay above the band.
    """
    w: Samples = np.asarray(2 * np.pi / pair.size * np.arange(pair.cross.size))
    turned = pair.cross * np.exp(1j * w * lag)
    # first and second derivative of the correlation with respect to the lag, bin by bin
    slopes, bends = w * turned.imag, w * w * turned.real
    if float(bends.sum()) >= 0:
        sign = 1.0
    else:
        sign = -1.0
    # the frequency below which half of the information about the delay lies
    decided = np.cumsum(np.maximum(sign * bends, 0))
    middle = int(np.searchsorted(decided, decided[-1] / 2))
    padded = pair.size / pair.span
    lags, variance = [], 0.0
    # each half's own lag is one Newton step away: slope over bend
    for part in (slice(None, middle), slice(middle, None)):
        bend = float(bends[part].sum())
        square = float(np.square(bends[part]).sum())
        if sign * bend <= 0 or bend**2 < _MANY_BINS * padded * square:
            return 0.0, math.inf
        lags.append(-float(slopes[part].sum()) / bend)
        variance += float(np.square(slopes[part]).sum()) * padded / bend**2
    return abs(lags[1] - lags[0]), math.sqrt(variance)


def _nearly_as_high(peaks: Peaks, lag: float) -> tuple[float, ...]:
    high = np.abs(peaks.heights) >= _PERIODIC * abs(float(peaks.heights[0]))
    same = np.sign(peaks.heights) == np.sign(peaks.heights[np.argmin(np.abs(peaks.lags - lag))])
    return tuple(float(v) for v in peaks.lags[high & same & (np.abs(peaks.lags - lag) > 1)])


def _rivals(pair: Spectra, peaks: Peaks) -> tuple[Rival, ...]:
    """Return the peaks that may be the delay as well, with their likelihood: what each leaves unexplained of the
    second, in white noise.
    """
    sum_a, sum_b = float(pair.first.sum()), float(pair.second.sum())
    # energy of the second signal that each lag explains
    explained = (peaks.heights * pair.size / 2) ** 2 / sum_a
    rest = np.maximum(sum_b - explained, 1e-15 * sum_b)
    # as many independent values as the record holds in the band: the zeros that fill it up add bins, not values
    values = 2 * np.count_nonzero(pair.first) * pair.frames / pair.size
    # log likelihood ratio in white Gaussian noise: half the values times the log of the unexplained power
    nats = np.minimum(values / 2 * np.log(rest / rest.min()), 700)
    likely = np.exp(-nats) / np.exp(-nats).sum()
    order = [i for i in np.argsort(-likely, kind="stable") if likely[i] > _LEAST_LIKELY][:_MOST_RIVALS]
    return tuple(Rival(float(peaks.lags[i]), 1 if peaks.heights[i] > 0 else -1, float(likely[i])) for i in order)


def _weighted(pair: Spectra, lag: float, width: int) -> tuple[NDArray[np.complex128], float]:
    """Return the cross spectrum's phase by how coherent it is: C/(1 - C) over its magnitude, C from ``width``
    neighbouring bins laid over each other; and the median C of the band.
    """
    from scipy.ndimage import uniform_filter1d

    cross = pair.cross
    turned = cross * np.exp(2j * np.pi / pair.size * np.arange(cross.size) * lag)
    # coherence from neighbouring bins instead of from many segments
    smooth = [
        uniform_filter1d(v, 2 * width + 1, mode="nearest") for v in (turned.real, turned.imag, pair.first, pair.second)
    ]
    # running sums are true to the rounding of their greatest value; below it a bin's coherence says nothing
    rounding = np.finfo(float).eps
    least = max(rounding * float(pair.first.max()) * rounding * float(pair.second.max()), 1e-300)
    coherence = np.clip((smooth[0] ** 2 + smooth[1] ** 2) / np.maximum(smooth[2] * smooth[3], least), 0, _MOST_COHERENT)
    magnitude = np.abs(cross)
    there = magnitude > 0
    return np.where(there, cross / np.maximum(magnitude, 1e-300) * coherence / (1 - coherence), 0), float(
        np.median(coherence[there])
    )


def _estimate_at(pair: Spectra, lag: float, sign: float, *, dispersed: bool = False) -> Delay:
    w: Samples = np.asarray(2 * np.pi / pair.size * np.arange(pair.first.size))
    sum_a, sum_b = float(pair.first.sum()), float(pair.second.sum())
    # cross spectrum with the delay taken out: real where the path is flat
    turned = pair.cross * np.exp(1j * w * lag)
    real_sum = float(turned.real.sum())
    scale = real_sum / sum_a
    spread = _spread_of(pair, w, turned, max(0.0, sum_b - real_sum * scale))
    # a path that turns the phases about has no single factor: then it is power against power
    if dispersed or real_sum == 0:
        level = 10 * math.log10(sum_b / sum_a)
    else:
        level = 20 * math.log10(abs(scale))
    polarity, correlation = (1 if sign > 0 else -1), sign * real_sum / math.sqrt(sum_a * sum_b)
    level_spread = _level_spread(pair, turned, scale, real_sum)
    return Delay(lag, polarity, correlation, pair.before(), level, spread, dispersed, lag, level_spread=level_spread)


def _level_spread(pair: Spectra, turned: NDArray[np.complex128], scale: float, similarity: float) -> float:
    """Return the standard deviation in dB of the factor by which the first is in the second, from what each bin departs
    from it (White's estimator).

        Along the factor and across it the noise is alike; along it, a path that is not flat departs as well.
    """
    if similarity == 0:
        return math.inf
    padded = pair.size / pair.span
    across = float(np.square(turned.imag).sum()) * padded
    along = float(np.square(turned.real - scale * pair.first).sum()) * padded
    return DB_PER_NEPER * math.sqrt(min(across, along)) / abs(similarity)


def _spread_of(pair: Spectra, w: Samples, turned: NDArray[np.complex128], rest: float) -> float:
    """Return the standard deviation of the lag in frames: the slope's own noise over the bend of the correlation at its
    peak.

    The noise is what each bin shows across the peak (White's estimator, 1980, from memory), so that it counts where it
    is: coloured noise is not taken for white. Where few bins decide, as with a tone, their own part is fitted away, and
    what the second leaves unexplained, spread evenly, counts if it is more.
    """
    bends = w * w * turned.real
    bend = abs(float(bends.sum()))
    if bend == 0:
        return math.inf
    # filling up with zeros gives more bins, not more that are independent; each piece more gives all of them once more
    padded = pair.size / pair.span
    deciding = bend**2 / max(float((bends * bends).sum()), 1e-300) / padded
    seen = (
        math.sqrt(float(np.square(w * turned.imag).sum()) * padded)
        / bend
        * math.sqrt(deciding / max(deciding - 1, 0.25))
    )
    if deciding >= _MANY_BINS:
        return seen
    noise = rest / max(1, int(np.count_nonzero(pair.first)))
    even = math.sqrt(noise / 2 * float((w * w * pair.first).sum()) * padded) / bend
    return max(seen, even)
