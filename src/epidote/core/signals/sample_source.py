"""Audio sources read in chunks, so that long files need not fit in memory."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.core.signals.slicing import zero_padded_slice

CHUNK_FRAMES = 2**19  # frames that are held at a time of what is longer than HELD
MAX_IN_MEMORY_FRAMES = 4 * CHUNK_FRAMES


class SampleSource(Protocol):
    """The sound of one path; rate in Hz."""

    @property
    def rate(self) -> float: ...

    @property
    def frames(self) -> int: ...

    def read(self, first: int, frames: int) -> Samples:
        """``frames`` samples from ``first`` on (frames,), with zeros where there is nothing."""


@dataclass(frozen=True)
class ArraySource:
    """Samples (frames,) that are in memory."""

    samples: Samples
    rate: float

    @property
    def frames(self) -> int:
        return int(self.samples.size)

    def read(self, first: int, frames: int) -> Samples:
        return zero_padded_slice(self.samples, first, frames)


@dataclass(frozen=True)
class ZeroMeanSource:
    """Another way less its mean."""

    way: SampleSource
    mean: float

    @property
    def rate(self) -> float:
        return self.way.rate

    @property
    def frames(self) -> int:
        return self.way.frames

    def read(self, first: int, frames: int) -> Samples:
        out = self.way.read(first, frames)
        out[max(0, -first) : max(0, self.frames - first)] -= self.mean
        return out


def iter_chunks(frames: int, at_once: int = CHUNK_FRAMES) -> Iterator[tuple[int, int]]:
    """First frame and length of the pieces that a way of ``frames`` is read in."""
    for first in range(0, frames, at_once):
        yield first, min(at_once, frames - first)


_PAD = 128


@dataclass(frozen=True)
class ResampledSource:
    """Another way, brought to ``rate``."""

    way: SampleSource
    rate: float

    @property
    def frames(self) -> int:
        return int(self.way.frames * self.rate / self.way.rate)

    def read(self, first: int, frames: int) -> Samples:
        step = self.way.rate / self.rate
        low = math.floor(first * step) - _PAD
        return resample(self.way.read(low, math.ceil(frames * step) + 2 * _PAD), step, first * step - low, frames)
