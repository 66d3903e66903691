"""Levels as they move, for calibrating: ten looks a second at the last quarter of one, and how steady they stand."""

from __future__ import annotations

import collections
import math
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.calibration.methods import Steadiness, ToneLevel, steadiness, tone_level, weighted_level
from epidote.core.quantities.units import to_db
from epidote.core.signals.signal import Samples

_CLEARLY_DB = 12.0
EVERY, TONE_SECONDS, NOISE_SECONDS, KEPT_SECONDS = 0.1, 0.25, 1.0, 10.0


@dataclass(frozen=True)
class LevelNow:
    """One channel: the tone (None when there is none), or the weighted level, in dBFS.

    RMS and greatest sample in dBFS; how steady.
    """

    level: float | None
    tone: ToneLevel | None
    rms: float
    peak: float
    steadiness: Steadiness


@dataclass(frozen=True)
class LevelSnapshot:
    """All channels at one moment, and the levels (points,) of the watched one over the last 10 s, times ending at 0."""

    channels: tuple[LevelNow, ...]
    times: Samples
    levels: Samples
    watched: int

    @property
    def hearing(self) -> int | None:
        """The channel (from 1) that hears a tone, as a calibrator's, clearly more than every other one; None where
        none does.
        """
        heard = [(c.level if c.level is not None else -math.inf, n) for n, c in enumerate(self.channels, start=1)]
        level, number = max(heard)
        others = [c.rms for n, c in enumerate(self.channels, start=1) if n != number]
        if math.isfinite(level) and all(level > rms + _CLEARLY_DB for rms in others):
            return number
        return None


class LevelMeter:
    """Feed it blocks (frames, channels); it answers whenever there is something new to show.

    ``watched``: the channel (from 1) drawn.
    """

    def __init__(self, rate: float, channels: int, weighting: Weighting | None = None, watched: int = 1) -> None:
        self._rate, self._weighting, self.watched = rate, weighting, min(watched, channels)
        self._span = round((NOISE_SECONDS if weighting else TONE_SECONDS) * rate)
        self._recent = np.zeros((0, channels))
        self._since = 0
        self._heard = 0
        most = round(KEPT_SECONDS / EVERY)
        self._history: list[collections.deque[tuple[float, float]]] = [
            collections.deque(maxlen=most) for _ in range(channels)
        ]

    def feed(self, block: Samples) -> LevelSnapshot | None:
        self._recent = np.concatenate([self._recent, block])[-self._span :]
        self._since += block.shape[0]
        self._heard += block.shape[0]
        if self._since < EVERY * self._rate or self._recent.shape[0] < self._span:
            return None
        self._since = 0
        now = self._heard / self._rate
        snapshots = tuple(self._look(c, now) for c in range(self._recent.shape[1]))
        past = self._history[self.watched - 1]
        times = np.array([t - now for t, _ in past])
        return LevelSnapshot(snapshots, times, np.array([v for _, v in past]), self.watched)

    def _look(self, column: int, now: float) -> LevelNow:
        x = np.ascontiguousarray(self._recent[:, column])
        if self._weighting:
            tone = None
        else:
            tone = tone_level(x, self._rate)
        if self._weighting:
            level = weighted_level(x, self._rate, self._weighting)
        elif tone:
            level = tone.level
        else:
            level = None
        past = self._history[column]
        if level is None or not math.isfinite(level):
            past.clear()  # steadiness begins anew with the tone
            level = None
        else:
            past.append((now, level))
        steady = steadiness([t for t, _ in past], [v for _, v in past])
        if self._weighting and len(past) > 10:
            # noise scatters by itself: what counts is that the mean stands still
            steady = Steadiness(steady.spread, steady.drift, now - past[0][0] >= 3 and abs(steady.drift) < 0.3)
        rms = to_db(float(np.sqrt(2 * np.square(x).mean())))
        return LevelNow(level, tone, rms, to_db(float(np.abs(x).max())), steady)
