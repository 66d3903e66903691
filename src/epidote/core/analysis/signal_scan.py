"""One path's sound, read stretch by stretch, so that hours of it need not be held; and what one look through it
tells.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from epidote.core.analysis.capture_checks import is_clipped
from epidote.core.signals.sample_source import CHUNK_FRAMES, SampleSource, iter_chunks
from epidote.core.signals.signal import Samples

_QUICK = 0.05  # s; blocks whose median says what is usual in their middle
_SAME_TOP = 0.999
_ENOUGH = 600  # samples of a block tell its median to 4 %


@dataclass(frozen=True)
class SignalStatistics:
    """mean: its direct part.

    peak: greatest sample without that; unusable: samples that are not finite; usual and greatest (blocks,): median and
    maximum of the magnitude in blocks of ``block`` frames, the last of which takes what is left over.
    """

    mean: float
    peak: float
    unusable: int
    clipped: bool
    block: int
    usual: Samples
    greatest: Samples


def scan_source(source: SampleSource) -> SignalStatistics:
    """One look through a way, a piece at a time."""
    return scan_sources([source], lambda work: [one() for one in work])[0]


def scan_sources(
    sources: Sequence[SampleSource], together: Callable[[Sequence[Callable[[], None]]], object]
) -> list[SignalStatistics]:
    """One look through ways of one rate side by side, a piece of each at a time.

    ``together`` does the work on a piece of each.
    """
    looks = [_SourceScan(way) for way in sources]
    for first, frames in iter_chunks(max(w.frames for w in sources), CHUNK_FRAMES // looks[0].block * looks[0].block):
        together([partial(look.add, first, frames) for look in looks])
    return [look.survey() for look in looks]


class _SourceScan:
    def __init__(self, source: SampleSource) -> None:
        self._way = source
        self.block = max(1, round(_QUICK * source.rate))
        self._usual: list[Samples] = []
        self._greatest: list[Samples] = []
        self._tops: list[tuple[float, bool]] = []
        self._unusable, self._sum, self._mean = 0, 0.0, 0.0

    def add(self, first: int, frames: int) -> None:
        if first < self._way.frames:
            x = self._way.read(first, min(frames, self._way.frames - first))
        else:
            x = np.zeros(0)
        if x.size == 0:
            return
        total = float(x.sum())
        if not math.isfinite(total):
            self._unusable += int(np.count_nonzero(~np.isfinite(x)))
            return
        if first == 0:
            self._mean = total / x.size  # the whole of a short way; of a long one near enough for what is loud in it
        self._sum += total
        blocks = x.size // self.block
        size = np.abs(x - self._mean)
        whole = size[: blocks * self.block].reshape(blocks, -1)
        rest = size[blocks * self.block :]
        high = list(whole.max(axis=1))
        usual = list(np.median(whole[:, :: max(1, self.block // _ENOUGH)], axis=1))
        if rest.size and (blocks or self._greatest):  # belongs to the block before it
            high = high or [self._greatest.pop()[-1]]
            high[-1] = max(high[-1], float(rest.max()))
        elif rest.size:
            high, usual = [float(rest.max())], [float(np.median(rest))]
        self._greatest.append(np.array(high))
        self._usual.append(np.array(usual))
        top = float(max(high))
        if top >= _SAME_TOP * max((t for t, _ in self._tops), default=0.0):
            self._tops.append((top, is_clipped(x, "FS")))

    def survey(self) -> SignalStatistics:
        peak = max((top for top, _ in self._tops), default=0.0)
        # flat tops count where the whole is loudest: a piece of faint noise is flat at its own small peak
        clipped = any(cut and top >= _SAME_TOP * peak for top, cut in self._tops)
        none = [np.zeros(0)]
        return SignalStatistics(
            self._sum / max(1, self._way.frames),
            peak,
            self._unusable,
            clipped,
            self.block,
            np.concatenate(self._usual or none),
            np.concatenate(self._greatest or none),
        )
