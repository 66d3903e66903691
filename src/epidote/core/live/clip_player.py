"""Clips of equal length played on one time axis: switched, looped and set in level without a click."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db, to_db
from epidote.core.signals.signal import Samples

CROSSFADE = 0.02  # s from one clip to another, from the end of the loop to its beginning, and to open or close
SILENT_DB = -120.0  # level below which nothing is played
_LEAST_LOOP = 0.1  # s


@dataclass(frozen=True)
class PlayOrder:
    """clip: number of the clip that sounds, from 0. first, last: the loop in s; last 0: to the end. level: of the
    highest peak of all clips in dBFS. jump: time in s at which to go on, -1 for where it is.
    """

    clip: int = 0
    playing: bool = False
    first: float = 0.0
    last: float = 0.0
    level: float = -40.0
    jump: float = -1.0

    def to_json(self) -> dict[str, Any]:
        return asdict(self)

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> PlayOrder:
        return PlayOrder(**data)


class ClipPlayer:
    """Makes what sounds block by block. ``place``: the frame of the clips that the next block begins with."""

    def __init__(self, rate: float, outputs: int, ceiling_dbfs: float, clips: Sequence[Samples]) -> None:
        """clips: (frames, channels) each, all of one shape. One channel goes to all outputs; of several each to its
        own. Raises SettingError for clips that are not alike.
        """
        if not clips or len({clip.shape for clip in clips}) != 1 or clips[0].shape[0] < rate * _LEAST_LOOP:
            raise SettingError("Clips of equal length, at least 0.1 s, are needed. Select other clips.")
        self.place = 0
        self._rate, self._outputs, self._ceiling = rate, outputs, ceiling_dbfs
        self._clips = clips
        self._frames, self._channels = clips[0].shape
        self._peak_db = to_db(max(1e-9, *(float(np.abs(clip).max()) for clip in clips)))
        self._order = PlayOrder()
        self._step = 1 / (CROSSFADE * rate)
        self._weights = np.zeros(len(clips))
        self._weights[0] = 1.0
        self._former: int | None = None  # where the sound that is faded out goes on, after a jump
        self._arrived = 1.0  # share of the fade since the last jump
        self._gate = self._gain = 0.0

    @property
    def loop(self) -> tuple[int, int]:
        """First and last frame of the loop, at least 0.1 s apart."""
        least = math.ceil(_LEAST_LOOP * self._rate)
        first = min(max(round(self._order.first * self._rate), 0), self._frames - least)
        last = round(self._order.last * self._rate) if self._order.last > 0 else self._frames
        return first, min(max(last, first + least), self._frames)

    @property
    def sounding(self) -> bool:
        return self._gate > 0

    def order(self, order: PlayOrder) -> None:
        """Follow an order from the next block on. Raises SettingError for a clip that there is not."""
        if not 0 <= order.clip < len(self._clips):
            raise SettingError(f"There is no clip {order.clip + 1}; there are {len(self._clips)}. Select another.")
        self._order = order
        first, last = self.loop
        if order.jump >= 0:
            self._jump(min(max(round(order.jump * self._rate), first), last - 1))
        elif not first <= self.place < last:
            self._jump(first)

    def mute(self) -> None:
        """Silence within the next block."""
        self._order = PlayOrder(self._order.clip, False, self._order.first, self._order.last, self._order.level)
        self._gate = min(self._gate, 1e-6)

    def next(self, frames: int) -> Samples:
        """Return the next block (frames, outputs) in FS."""
        out = np.zeros((frames, self._outputs))
        done = 0
        while done < frames and (self._order.playing or self._gate > 0):
            first, last = self.loop
            count = min(frames - done, last - self.place)
            self._put(out[done : done + count], self._made(count))
            done += count
            if self.place >= last:
                self._jump(first)
        limit = from_db(self._ceiling)
        np.clip(out, -limit, limit, out=out)
        return out

    def _jump(self, place: int) -> None:
        self._former, self._arrived = self.place, 0.0
        self.place = place

    def _put(self, out: Samples, made: Samples) -> None:
        """Put what was made (frames, channels) on the outputs."""
        if self._channels == 1:
            out += made
            return
        used = min(self._channels, self._outputs)
        out[:, :used] += made[:, :used]

    def _made(self, count: int) -> Samples:
        """Return the next frames (count, channels), which lie within the loop."""
        steps: Samples = self._step * np.arange(1, count + 1, dtype=np.float64)
        weights = self._moved_weights(steps)
        made = self._mixed(self.place, weights, count)
        if self._former is not None:
            arrived = _eased(np.minimum(self._arrived + steps, 1.0))[:, None]
            made = arrived * made + (1 - arrived) * self._mixed(self._former, weights, count)
            self._former += count
            self._arrived = min(1.0, self._arrived + float(steps[-1]))
            if self._arrived >= 1:
                self._former = None
        self.place += count
        return made * self._opened(steps)[:, None]

    def _moved_weights(self, steps: Samples) -> Samples:
        """Return the weight of each clip (clips, frames) on the way to the one that is wanted; they add up to 1."""
        target = np.zeros(self._weights.size)
        target[self._order.clip] = 1.0
        if np.array_equal(target, self._weights):
            return np.repeat(target[:, None], steps.size, axis=1)
        direction = np.where(target > 0, 1.0, -1.0)[:, None]
        moved = np.clip(self._weights[:, None] + direction * steps, 0.0, 1.0)
        self._weights = moved[:, -1].copy()
        eased = _eased(moved)
        total: Samples = eased / eased.sum(axis=0)
        return total

    def _mixed(self, place: int, weights: Samples, count: int) -> Samples:
        """Return all clips from a place on, weighted; silence after their end."""
        made = np.zeros((count, self._channels))
        for clip, weight in zip(self._clips, weights, strict=True):
            if weight.any():
                part = clip[place : place + count]
                made[: part.shape[0]] += weight[: part.shape[0], None] * part
        return made

    def _opened(self, steps: Samples) -> Samples:
        """Return what passes (frames,): the gate that opens and closes, and the level on its way."""
        direction = 1.0 if self._order.playing else -1.0
        gate = np.clip(self._gate + direction * steps, 0.0, 1.0)
        self._gate = float(gate[-1])
        # no clip's peak may exceed the ceiling, and all clips get the same level
        level = min(self._order.level, self._ceiling)
        wanted = from_db(level - self._peak_db) if level > SILENT_DB else 0.0
        start = self._gain if self._gain or direction < 0 else wanted
        gain = start + np.clip(wanted - start, -steps * max(start, wanted), steps * max(start, wanted))
        self._gain = float(gain[-1])
        opened: Samples = _eased(gate) * gain
        return opened


def _eased(share: Samples) -> Samples:
    """Return a raised cosine from 0 to 1."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * share))
