"""Continuous sound over a stand-in: computed a stretch ahead, handed out at the pace of sound."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence

import numpy as np

from epidote.core.live.clip_player import ClipPlayer, PlayOrder
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.generator import GeneratorSettings, SignalGenerator

# seconds computed at once; of what was before, so that filters and delays go on across the seam; and of what comes
# after, which a filter without phase looks ahead into
_STRETCH, _CONTEXT, _AHEAD = 0.1, 0.22, 0.02


class SimulatedLive:
    """``run``: (numbers (frames, outputs), seconds since listening began) to numbers (frames, inputs)."""

    def __init__(
        self, run: Callable[[Samples, float], Samples], rate: float, outputs: int, inputs: int, ceiling_dbfs: float
    ) -> None:
        self.rate = rate
        self._run, self._inputs = run, inputs
        self._outputs, self._ceiling = outputs, ceiling_dbfs
        self._generator = SignalGenerator(rate, outputs, ceiling_dbfs)
        self._clips: ClipPlayer | None = None
        self._lock = threading.Lock()
        self._waiting = np.zeros((0, inputs))
        self._before = np.zeros((round(_CONTEXT * rate), outputs))
        fade = round(_CONTEXT * rate) // 2
        self._fade = np.ones((self._before.shape[0], 1))
        self._fade[:fade, 0] = 0.5 - 0.5 * np.cos(np.pi * np.arange(fade) / fade)
        self._open = True
        self._begun = time.monotonic()
        self._made = 0
        self._thread = threading.Thread(target=self._go_on, daemon=True, name="simulated live sound")
        self._thread.start()

    def _go_on(self) -> None:
        frames, future = round(_STRETCH * self.rate), round(_AHEAD * self.rate)
        while self._open:
            ahead = self._made / self.rate - (time.monotonic() - self._begun)
            if ahead > _STRETCH:
                time.sleep(min(ahead - _STRETCH, 0.05))
                continue
            if ahead < -1:  # the machine was too busy: go on from now instead of running after
                self._begun = time.monotonic() - self._made / self.rate
            with self._lock:
                played = (self._clips or self._generator).next(frames)
            whole = np.concatenate([self._before * self._fade, played])
            back = self._run(whole, self._made / self.rate)[-frames - future : -future]
            self._before = np.concatenate([self._before, played])[-self._before.shape[0] :]
            with self._lock:
                self._waiting = np.concatenate([self._waiting, back])[-round(10 * self.rate) :]
                self._made += frames

    def read(self) -> Samples:
        with self._lock:
            due = round((time.monotonic() - self._begun) * self.rate)
            keep = max(0, min(self._waiting.shape[0], self._made - due))
            count = self._waiting.shape[0] - keep
            out, self._waiting = self._waiting[:count], self._waiting[count:]
        return out

    def play(self, programme: GeneratorSettings, samples: Samples | None = None) -> None:
        with self._lock:
            self._clips = None
            self._generator.play(programme, samples)

    def play_clips(self, clips: Sequence[Samples]) -> None:
        player = ClipPlayer(self.rate, self._outputs, self._ceiling, clips)
        with self._lock:
            self._clips = player

    def order(self, order: PlayOrder) -> None:
        with self._lock:
            if self._clips is not None:
                self._clips.order(order)

    def place(self) -> int:
        with self._lock:
            return self._clips.place if self._clips is not None else 0

    def mute(self) -> None:
        with self._lock:
            (self._clips or self._generator).mute()

    def faults(self) -> tuple[str, ...]:
        return ()

    def close(self) -> None:
        self._open = False
        self._thread.join(3)
