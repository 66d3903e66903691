"""A device whose unit is a formula: what a procedure says of it can be held against the formula's own truth."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from epidote.audio.device import DeviceInfo, playable
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.signals.stimulus import on_outputs

Unit = Callable[[np.ndarray], np.ndarray]


class IdealDevice:
    """unit: (frames, channels) in FS to the same; late: frames of latency; noise: standard deviation per sample;
    block: frames handed out at once.
    """

    info = DeviceInfo("ideal", "ideal device", "test", 2, 2, (48000, 96000), 24)

    def __init__(
        self,
        unit: Unit,
        *,
        rate: float = 96000.0,
        channels: int = 2,
        late: int = 700,
        noise: float = 1e-7,
        seed: int = 0,
        block: int | None = None,
    ) -> None:
        self.unit, self.rate, self.channels, self.late, self.noise = unit, rate, channels, late, noise
        self.block = block or round(0.02 * rate)
        self.rng = np.random.default_rng(seed)
        self.played: list[float] = []  # seconds of each exchange

    def exchange(self, stimulus, *, ceiling_dbfs, progress, cancelled, enough=None):
        samples = playable(stimulus, self.rate, ceiling_dbfs)
        played = on_outputs(samples, stimulus.channels, self.channels)
        late = np.zeros_like(played)
        late[self.late :] = played[: played.shape[0] - self.late]
        back = self.unit(late) + self.noise * self.rng.standard_normal(played.shape)
        end = played.shape[0]
        if enough is not None:
            block = self.block
            end = next((e for e in range(block, end, block) if enough(Signal(back[:e], self.rate))), end)
        self.played.append(end / self.rate)
        return Recording(Signal(back[:end], self.rate), stimulus)

    def record(self, seconds, *, progress, cancelled):
        return Recording(Signal(self.unit(np.zeros((round(seconds * self.rate), self.channels))), self.rate))

    def close(self):
        """Nothing to give back."""
