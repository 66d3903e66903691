"""Signals, stimuli and recordings: the numbers that go out to a device and come back."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float64]


def as_readonly(values: Any) -> Samples:
    """Return a read-only float64 array of ``values``, copied only when it must be."""
    array = np.ascontiguousarray(values, dtype=np.float64)
    if array.flags.writeable:
        array = array.view()
        array.flags.writeable = False
    return array


BLOCK_FRAMES = 4096


def block_min_max(x: Samples) -> tuple[Samples, Samples]:
    """Return the greatest and the least of each ``EXTREMES_OVER`` samples of x (frames,), the last of fewer.

    0 of nothing.
    """
    whole = x.size // BLOCK_FRAMES * BLOCK_FRAMES
    blocks, rest = x[:whole].reshape(-1, BLOCK_FRAMES), x[whole:] if whole < x.size else x[:0]
    if rest.size or whole:
        last = [rest]
    else:
        last = [np.zeros(1)]
    highs, lows = blocks.max(axis=1), blocks.min(axis=1)
    if last[0].size:
        highs, lows = np.append(highs, last[0].max()), np.append(lows, last[0].min())
    return highs, lows


@dataclass(frozen=True, eq=False)
class Signal:
    """Samples (frames, channels) in float64 at ``rate`` Hz; unit FS (a sine of peak 1 is 0 dBFS, AES17), V or Pa."""

    samples: Samples
    rate: float
    unit: str = "FS"

    def __post_init__(self) -> None:
        if self.samples.ndim == 1:
            samples = self.samples[:, None]
        else:
            samples = self.samples
        object.__setattr__(self, "samples", as_readonly(samples))

    @property
    def frames(self) -> int:
        return int(self.samples.shape[0])

    @property
    def channels(self) -> int:
        return int(self.samples.shape[1])

    @property
    def duration(self) -> float:
        """In seconds."""
        return self.frames / self.rate

    def channel(self, number: int) -> Samples:
        """Return samples (frames,) of a channel; channels count from 1."""
        return np.asarray(self._by_channel[number - 1])

    def extremes(self, number: int) -> tuple[Samples, Samples]:
        """Return the greatest and the least (blocks,) of each block of ``EXTREMES_OVER`` samples of a channel."""
        extremes = self._extremes.get(number)
        if extremes is None:
            extremes = self._extremes[number] = block_min_max(self.channel(number))
        return extremes

    def peak(self, number: int) -> float:
        """Return the greatest absolute value of a channel; 0 where there is none."""
        highs, lows = self.extremes(number)
        return float(max(highs.max(), -lows.min()))

    @cached_property
    def _extremes(self) -> dict[int, tuple[Samples, Samples]]:
        return {}

    @cached_property
    def _by_channel(self) -> Samples:
        return as_readonly(self.samples.T)
