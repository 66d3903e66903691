"""Two stretches laid over each other by any delay one likes: how alike they are there, what is left after
subtraction, and in what phase they stand.

The correlation of the band is computed once, by frames; between frames it is read as what it is, band-limited. So every
nudge costs nothing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.analysis.delay.delay_estimation import in_band, spectra, transform_size
from epidote.core.analysis.delay.onsets import onsets
from epidote.core.analysis.spectral.transfer_function import WelchAccumulator
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.resampling import resample
from epidote.core.signals.sample_source import CHUNK_FRAMES, ArraySource
from epidote.core.signals.signal import Samples

_AROUND = 256
_REACH, _BETA = 128, 20.0  # frames; leaves 1e-6 of what lies below 0.95 of half the rate
_SEGMENT = 0.25  # s, of the averaged spectra
_PER_OCTAVE = 12
_DEEPEST = 1e-16


@dataclass(frozen=True)
class AlignmentQuality:
    """correlation: of the band, with its sign.

    level_db: of the second re the first; null_db: what is left of the second once the first, at its level, is taken
    from it.
    """

    correlation: float
    level_db: float
    null_db: float

    @property
    def polarity(self) -> int:
        if self.correlation >= 0:
            return 1
        return -1


class PairAlignment:
    """first and second (frames,) at ``rate`` Hz, of which the band in Hz counts; delays to ``reach`` s either way."""

    def __init__(self, first: Samples, second: Samples, rate: float, band: tuple[float, float], reach: float) -> None:
        self.first, self.second, self.rate, self.band = first, second, rate, band
        self.reach = min(round(reach * rate), max(first.size, second.size) - 1)
        size = transform_size(max(first.size, second.size), rate, reach)
        pair = spectra(first, second, rate, band, size)
        self._cross, self._size = pair.cross, size
        self._power = float(pair.first.sum()), float(pair.second.sum())
        self._banded = [in_band(x, rate, band, size) for x in (first, second)]
        by_frame = transforms.irfft(pair.cross, size) * (size / 2)
        wide = self.reach + _AROUND
        if 2 * wide < size:
            self._by_frame = np.concatenate([by_frame[-wide:], by_frame[: wide + 1]])
        else:
            self._by_frame = by_frame
        if 2 * wide < size:
            self._zero = wide
        else:
            self._zero = 0
        self._steps: tuple[int, Samples, Samples] | None = None

    def at(self, delay: float) -> AlignmentQuality:
        """With the second taken to be ``delay`` frames late."""
        whole = math.floor(delay)
        k = np.arange(-_REACH + 1, _REACH + 1)
        # a windowed sinc: the correlation goes on far to both sides, and nothing of it may be cut off sharply
        away = delay - whole - k
        kernel = np.sinc(away) * np.exp(_BETA * (np.sqrt(np.maximum(1 - (away / _REACH) ** 2, 0)) - 1))
        value = float(kernel @ np.take(self._by_frame, self._zero + whole + k, mode="wrap"))
        one, two = self._powers(whole)
        if one * two <= 0:
            return AlignmentQuality(0.0, 0.0, 0.0)
        similarity = value / math.sqrt(one * two)
        return AlignmentQuality(
            similarity,
            10 * math.log10(two / one),
            10 * math.log10(min(1.0, max(1 - similarity * similarity, _DEEPEST))),
        )

    def _powers(self, delay: int) -> tuple[float, float]:
        """Of either in the band, where both are: what hangs over at an end is not held against them."""
        begin = max(0, -delay)
        end = max(begin, min(self.first.size, self.second.size - delay))
        shares = [
            float(np.square(x[low:high]).sum()) / max(float(np.square(x).sum()), 1e-300)
            for x, low, high in ((self._banded[0], begin, end), (self._banded[1], begin + delay, end + delay))
        ]
        return self._power[0] * shares[0], self._power[1] * shares[1]

    def best(self, near: float | None = None) -> float:
        """Return the delay at which they are most alike, of either polarity; of all of them, or the one up the hill
        from ``near``.
        """
        if near is None:
            inner = np.abs(
                self._by_frame[self._zero - self.reach : self._zero + self.reach + 1] if self._zero else self._by_frame
            )
            near = float(int(np.argmax(inner)) - (self.reach if self._zero else 0))
        return refined_lag(self._cross, self._size, near)[0]

    def phase(self, delay: float) -> tuple[Samples, Samples]:
        """Frequencies in Hz and the phase in degrees in which the second, brought forward by ``delay`` frames,
        stands to the first.
        """
        whole = round(delay)
        if self._steps is None or abs(self._steps[0] - whole) > _SEGMENT * self.rate / 8:
            begin, end = max(0, -whole), min(self.first.size, self.second.size - whole)
            segment = even_fast_len(round(min(_SEGMENT * self.rate, max(64, (end - begin) / 8))))
            gathered = WelchAccumulator(segment, self.rate, 0.5)
            if end - begin >= segment:
                gathered.add(self.first[begin:end], self.second[begin + whole : end + whole])
            path = gathered.path()
            strength = np.sqrt(path.coherence) * np.exp(1j * np.angle(path.response))
            self._steps = whole, path.width * np.arange(strength.size), strength
        at, f, strength = self._steps
        low, high = max(self.band[0], 2 * f[1]), min(self.band[1], 0.49 * self.rate)
        turned = strength * np.exp(2j * np.pi * f / self.rate * (delay - at))
        centres = low * 2 ** (
            np.arange(max(1, math.floor(_PER_OCTAVE * math.log2(max(high / low, 1))) + 1)) / _PER_OCTAVE
        )
        edges = np.clip(
            np.round(np.append(centres, centres[-1] * 2 ** (1 / _PER_OCTAVE)) * 2 ** (-0.5 / _PER_OCTAVE) / f[1]),
            1,
            f.size - 1,
        )
        sums = [turned[int(a) : max(int(a) + 1, int(b))].sum() for a, b in pairwise(edges)]
        return centres, np.degrees(np.angle(sums))

    def aligned(self, delay: float, *, invert: bool = False) -> Samples:
        """Return the second (frames of the first,), brought forward by ``delay`` frames, a fraction of one too.

        Nothing else is changed.
        """
        out = np.zeros(self.first.size)
        for begin in range(0, out.size, CHUNK_FRAMES):
            count = min(CHUNK_FRAMES, out.size - begin)
            low = math.floor(begin + delay) - _AROUND
            part = ArraySource(self.second, self.rate).read(low, count + 2 * _AROUND)
            if delay == round(delay):
                out[begin : begin + count] = part[_AROUND : _AROUND + count]
            else:
                out[begin : begin + count] = resample(part, 1.0, begin + delay - low, count)
        if invert:
            return -out
        return out

    def events(self) -> list[int]:
        """Frames of the first at which a transient begins."""
        return [one.frame for one in onsets(ArraySource(self.first, self.rate))]

    def loudest(self) -> int:
        """Frame of the first's greatest sample."""
        return int(np.argmax(np.abs(self.first)))
