"""Where something begins: clicks, hits, plucked strings, spoken syllables.

Two searches that complete each other. A click stands out of the samples around it, however little energy it has. A note
that goes on does not: it is found where the energy of its bands rises (spectral flux; methods.md, “Onsets of music”),
and placed in the waveform by the change point of the band that gains most (Maeda 1985, from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.signal_scan import SignalStatistics, scan_source
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.sample_source import SampleSource
from epidote.core.signals.signal import Samples

_TIMES = 7.0  # the noise's standard deviation: in an hour of white noise nothing reaches it
_AROUND = 11  # blocks
_BEFORE, _OVER = 0.02, 6.0  # s; times what was usual there
_APART = 0.05  # s in which clicks are one

_FRAME, _HOP = 1024 / 48000, 0.005  # s
_KNEE = 1000.0  # below the greatest line by this ratio, levels count linearly
_LAG = 2  # hops
_PEAK_HOPS, _MEDIAN_HOPS = 6, 20  # to either side
_OVER_MEDIAN, _OVER_NOTHING = 1.5, 0.1
_SCATTER = (
    3.0  # in noise the mean of n bins scatters by 0.64/sqrt(n) about 0.34 (measured): with half of that, seven times
)
_GAP, _ENDS = 0.1, 0.1  # s between two onsets; s at either end of the record in which a rise may be its cut
_LOUD_BLOCKS = 8
_ROWS = 2048  # frames transformed at a time

_LOOK_BACK, _LOOK_ON = 0.04, 0.03  # s
_BANDS = ((0.0, math.inf), (150.0, 600.0), (600.0, 2400.0), (2400.0, 9600.0))  # Hz
_LEAST_SIDE = 0.002  # s on either side of a change point
_ENOUGH = 0.1  # of the greatest evidence
_OF_ATTACK = 0.3  # of the time that an attack takes: how late its beginning is seen in noise (tried out)
_RISEN = 0.5  # of the greatest magnitude: from here on the attack is over


@dataclass(frozen=True)
class Onset:
    """frame: where something begins; doubt: standard deviation of that in frames."""

    frame: int
    doubt: float


def onsets(source: SampleSource, seen: SignalStatistics | None = None) -> list[Onset]:
    """All that begin, in order, at least 50 ms apart; ``seen`` where the way was looked through already."""
    seen = seen or scan_source(source)
    if seen.peak == 0:
        return []
    # Search 1: single samples that stand out; search 2: energy that rises in many bands (docs/methods.md, Transients)
    clicks = [Onset(place, 0.5) for place in _clicks(source, seen)]
    notes = [_placed(source, rise, seen.mean) for rise in _rises(source, seen)]
    gap = _GAP * source.rate
    # what both searches found, the waveform has placed
    separate = [c for c in clicks if all(abs(c.frame - n.frame) > gap for n in notes)]
    return sorted([*notes, *separate], key=lambda one: one.frame)


def _clicks(source: SampleSource, seen: SignalStatistics) -> list[int]:
    """Frames at which a sample stands out.

    A sample counts when it stands seven times above the usual size of its surroundings, found as the median of half a
    second (Donoho's robust standard deviation, median over 0.6745), and above a tenth of the greatest; and, to begin
    one, as far above the 20 ms before it: the last of a sound that ends is none.
    """
    from scipy.ndimage import median_filter

    local = median_filter(seen.usual, _AROUND, mode="nearest") / NORMAL_MEDIAN
    # before a hit there may be silence, and the noise of the converter is no event
    threshold = np.maximum(_TIMES * local, 0.1 * seen.peak)
    starts: list[int] = []
    last = -math.inf
    count = seen.usual.size
    for number in np.flatnonzero(seen.greatest > threshold):
        first = int(number) * seen.block
        if number == count - 1:
            frames = source.frames - first
        else:
            frames = seen.block
        for place in first + np.flatnonzero(np.abs(source.read(first, frames) - seen.mean) > threshold[number]):
            if place - last > _APART * source.rate and _begins(source, int(place), seen.mean):
                starts.append(int(place))
            last = int(place)
    return starts


def _begins(source: SampleSource, place: int, mean: float) -> bool:
    """Whether what stands at ``place`` was not there a moment before."""
    frames = min(place, max(1, round(_BEFORE * source.rate)))
    if frames == 0:
        return True
    before = np.abs(source.read(place - frames, frames) - mean)
    return abs(float(source.read(place, 1)[0]) - mean) > _OVER * float(np.median(before)) / NORMAL_MEDIAN


@dataclass(frozen=True)
class _Frames:
    """The short spectra of a way: ``size`` frames each, one every ``hop`` frames."""

    way: SampleSource
    mean: float
    size: int
    hop: int

    @property
    def count(self) -> int:
        return max(0, (self.way.frames - self.size) // self.hop + 1)

    def magnitudes(self, first: int, count: int) -> Samples:
        """Of ``count`` of them from the one numbered ``first`` (count, bins)."""
        x = self.way.read(first * self.hop, (count - 1) * self.hop + self.size) - self.mean
        rows = np.lib.stride_tricks.sliding_window_view(x, self.size)[:: self.hop]
        window = np.hanning(self.size + 1)[:-1]
        return np.asarray(np.abs(transforms.rfft(rows * window, axis=1)))


def _rises(source: SampleSource, seen: SignalStatistics) -> list[int]:
    """Middles, in frames, of the short spectra at which the energy of many bands has risen."""
    hop = max(1, round(_HOP * source.rate))
    spectra = _Frames(source, seen.mean, transforms.next_fast_len(round(_FRAME * source.rate), real=True), hop)
    if spectra.count < 2 * _MEDIAN_HOPS:
        return []
    # Step 1: spectral flux, the gain of log magnitudes
    flux = _flux(spectra, _KNEE / _loudest_line(spectra, seen))
    from scipy.ndimage import maximum_filter1d, median_filter

    # Step 2: peaks of the flux that stand above its local median
    usual = median_filter(flux, 2 * _MEDIAN_HOPS + 1, mode="nearest")
    greatest = maximum_filter1d(flux, 2 * _PEAK_HOPS + 1, mode="nearest")
    starts: list[int] = []
    # the fewer bins, the more their mean scatters in noise
    over = max(_OVER_NOTHING, _SCATTER / math.sqrt(spectra.size / 2))
    for number in np.flatnonzero((flux == greatest) & (flux > _OVER_MEDIAN * usual + over)):
        # the rise lies between the spectrum at this number and the one that it was compared with
        place = int(number) * hop + spectra.size // 2 - _LAG * hop // 2
        inside = _ENDS * source.rate <= place <= source.frames - _ENDS * source.rate
        if inside and (not starts or place - starts[-1] >= _GAP * source.rate):
            starts.append(place)
    return starts


def _loudest_line(spectra: _Frames, seen: SignalStatistics) -> float:
    """Return the greatest magnitude of a line where the way is loudest, by peak and by what is usual."""
    blocks = np.unique(np.concatenate([np.argsort(values)[-_LOUD_BLOCKS:] for values in (seen.greatest, seen.usual)]))
    count = max(1, seen.block // spectra.hop)
    firsts = np.minimum(blocks * seen.block // spectra.hop, max(0, spectra.count - count))
    return max(float(spectra.magnitudes(int(first), min(count, spectra.count)).max()) for first in firsts) or 1.0


def _flux(spectra: _Frames, scale: float) -> Samples:
    """Mean over the bins of what the logarithm of each gained in two hops (spectra,)."""
    flux = np.zeros(spectra.count)
    before: NDArray[np.floating] | None = None
    for first in range(0, spectra.count, _ROWS):
        count = min(_ROWS, spectra.count - first)
        # log(1 + k m): compresses loud bins, and leaves silence at 0
        levels = np.log1p(scale * spectra.magnitudes(first, count))
        if before is None:
            joined = levels
        else:
            joined = np.concatenate([before, levels])
        gained = np.maximum(joined[_LAG:] - joined[:-_LAG], 0).mean(axis=1)
        flux[first + count - gained.size : first + count] = gained
        before = levels[-_LAG:]
    return flux


def _placed(source: SampleSource, rise: int, mean: float) -> Onset:
    """Return the onset near a rise of energy: the change point of the band whose power grows most."""
    rate = source.rate
    begin = max(0, rise - round(_LOOK_BACK * rate))
    # a stretch that holds the rise and what was before it
    x = source.read(begin, min(source.frames, rise + round(_LOOK_ON * rate)) - begin) - mean
    # the change point of each band, with its evidence
    seen = [_change_in(x, low, high, rate) for low, high in _BANDS if high <= 0.45 * rate or math.isinf(high)]
    enough = _ENOUGH * max(one.evidence for one in seen)
    # something begins where the first of the bands that show it does
    first = min((one for one in seen if one.evidence >= enough), key=lambda one: one.place)
    return Onset(begin + first.place, math.hypot(first.width, _OF_ATTACK * first.attack, 0.5))


@dataclass(frozen=True)
class _Change:
    """place: frame at which the power changes.

    width: standard deviation of that; attack: frames until it is over; evidence in nepers.
    """

    place: int
    width: float
    attack: float
    evidence: float


def _change_in(x: Samples, low: float, high: float, rate: float) -> _Change:
    """Return the change point of x (frames,) in a band in Hz; in the whole of it where the band has no upper end."""
    if math.isinf(high):
        # differences: of music, which falls towards high frequencies, they are more nearly independent than the samples
        passed, independent = np.diff(x, prepend=x[0]), 1.0
    else:
        passed, independent = _band_passed(x, low, high, rate), 2 * (high - low) / rate
    place, width, evidence = _change_point(passed, rate, independent)
    return _Change(place, width, _attack(passed, place), evidence)


def _band_passed(x: Samples, low: float, high: float, rate: float) -> Samples:
    """X (frames,) through a causal band pass of second order at either end (Butterworth): nothing of an attack comes
    before it.
    """
    size = transforms.next_fast_len(2 * x.size, real=True)
    # by the bilinear transform: an analogue response that is cut at half the rate would ring before the attack
    turn = np.tan(np.pi * transforms.rfftfreq(size))
    above, below = (1j * turn / math.tan(math.pi * corner / rate) for corner in (low, high))
    root = math.sqrt(2)
    highs = above**2 / (above**2 + root * above + 1)
    lows = 1 / (below**2 + root * below + 1)
    return transforms.irfft(transforms.rfft(x, size) * highs * lows, size)[: x.size]


def _change_point(x: Samples, rate: float, independent: float) -> tuple[int, float, float]:
    """Frame at which the power of x (frames,) changes, its spread in frames, and by how much in nepers.

    ``independent``: share of the samples that are.

        Two stretches of Gaussian noise, each with its own power: minus twice the logarithm of their likelihood is n
    ln(power), summed.
    """
    side = max(2, round(_LEAST_SIDE * rate))
    # running energy: the power before and after every place in one pass
    energy = np.concatenate([[0.0], np.cumsum(np.square(x))])
    tiny = 1e-12 * float(energy[-1]) / x.size + 1e-300
    places = np.arange(side, x.size - side)
    before = np.maximum(energy[places] / places, tiny)
    after = np.maximum((energy[-1] - energy[places]) / (x.size - places), tiny)
    # -2 log likelihood of two powers with the change at each place
    unlikely = places * np.log(before) + (x.size - places) * np.log(after)
    at = int(np.argmin(unlikely))
    # posterior of the place for a flat prior: its mean and width
    likely = np.exp(-0.5 * min(1.0, independent) * (unlikely - unlikely[at]))
    likely /= likely.sum()
    middle = float(likely @ places)
    width = math.sqrt(float(likely @ np.square(places - middle)))
    unchanged = x.size * math.log(max(float(energy[-1]) / x.size, tiny))
    return int(places[at]), width, 0.5 * independent * (unchanged - float(unlikely[at]))


def _attack(x: Samples, place: int) -> float:
    """Frames from ``place`` on until x (frames,) has reached half of its greatest magnitude."""
    size = np.abs(x[place:])
    return float(np.argmax(size >= _RISEN * float(size.max())))
