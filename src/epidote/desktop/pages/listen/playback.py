"""What sounds of the clips, without widgets: which label, which loop, how loud, on which device."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from epidote.core.live.clip_player import PlayOrder
from epidote.desktop.state.session import Session

if TYPE_CHECKING:
    from epidote.audio.device import Device
    from epidote.core.signals.signal import Samples

_HEARD = 0.25  # s that a label must have sounded to count as heard
_LONGEST_STEP = 0.5  # s between two reports of the place, above which it has jumped
USUAL_LEVEL = -40.0  # dBFS: quiet, as nobody knows what is connected


class _NoInput:
    """Nothing comes in while one listens."""

    def feed(self, block: Any) -> None:
        return None


class ClipPlayback(QObject):
    """changed: label, state or level. moved: time in s. heard: a label that sounded long enough. lost: why
    the device went away while something sounded.
    """

    changed = Signal()
    moved = Signal(float)
    heard = Signal(str)
    lost = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.device = ""
        self.outputs: tuple[int, ...] = (1, 2)
        self.ceiling = 0.0
        self.level = USUAL_LEVEL
        self.loop = (0.0, 0.0)
        self.label = ""
        self.playing = False
        self.place = 0.0
        self._sounds: list[Samples] = []
        self._rate = 1.0
        self._numbers: dict[str, int] = {}
        self._open = False  # the device is open, or being opened, for these clips
        self._sounded: dict[str, float] = {}
        self._why = ""  # the device ended, as it says itself
        session.live.moved.connect(self._moved)
        session.live.failed.connect(self._failed)
        session.live.ended.connect(self._ended)

    @property
    def seconds(self) -> float:
        """Length of the clips."""
        return self._sounds[0].shape[0] / self._rate if self._sounds else 0.0

    def load(self, sounds: Mapping[str, Samples], rate: float) -> None:
        """Take other clips (frames, channels), by code; what sounded before stops."""
        self.stop()
        self._codes = list(sounds)
        self._sounds, self._rate = list(sounds.values()), rate
        self.place = 0.0

    def show_labels(self, targets: Sequence[tuple[str, str]]) -> None:
        """Lay labels over the codes of the clips, as a trial wants it; the first one is taken."""
        self._numbers = {label: self._codes.index(code) for label, code in targets}
        self._sounded = {}
        self.label = targets[0][0] if targets else ""
        self._send()
        self.changed.emit()

    def select(self, label: str) -> None:
        """Switch to a label, and play if nothing sounds yet."""
        if label not in self._numbers:
            return
        self.label = label
        self.play()

    def play(self) -> None:
        """Go on, opening the device where it is not."""
        if not self._sounds:
            return
        if not self._open and not self._start():
            return
        self.playing = True
        self._send()
        self.changed.emit()

    def pause(self) -> None:
        self.playing = False
        self._send()
        self.changed.emit()

    def toggle(self) -> None:
        if self.playing:
            self.pause()
        else:
            self.play()

    def stop(self) -> None:
        """Give the device back."""
        self.playing = False
        if self._open:
            self._open = False
            self.session.live.stop()
        self.changed.emit()

    def set_level(self, level: float) -> None:
        """Set the level of the highest peak in dBFS, at most the ceiling."""
        self.level = min(level, self.ceiling)
        self._send()
        self.changed.emit()

    def set_loop(self, first: float, last: float) -> None:
        """Play from ``first`` to ``last`` s over and over; (0, 0) is the whole."""
        self.loop = (first, last)
        self._send()

    def jump(self, seconds: float) -> None:
        """Go on at another time."""
        self.place = min(max(seconds, 0.0), self.seconds)
        self._send(jump=self.place)
        self.moved.emit(self.place)

    def _start(self) -> bool:
        """Open the device; False where that cannot be."""
        if not self.device:
            self.session.failed.emit("No output device. Select one under “Output”.")
            return False
        name, rate, outputs, ceiling = self.device, self._rate, self.outputs, self.ceiling
        sounds = self._sounds

        def opener() -> Device:
            from epidote.measurement.listening.output import open_output

            return open_output(name, rate, outputs, ceiling)

        def at_rate(device_rate: float) -> list[Samples]:
            from epidote.audio.resampling import for_playing

            return [np.asarray(for_playing(sound, rate, device_rate)) for sound in sounds]

        if not self.session.listen(opener, ceiling, lambda _: _NoInput(), at_rate):
            return False
        self._open = True
        self._why = ""
        return True

    def _send(self, jump: float = -1.0) -> None:
        if not self._open or self.label not in self._numbers:
            return
        number = self._numbers[self.label]
        self.session.live.order(PlayOrder(number, self.playing, *self.loop, self.level, jump))

    def _moved(self, seconds: float) -> None:
        if not self._open:
            return
        step = seconds - self.place
        self.place = seconds
        self.moved.emit(seconds)
        if not self.playing or not 0 < step < _LONGEST_STEP:
            return
        before = self._sounded.get(self.label, 0.0)
        self._sounded[self.label] = before + step
        if before < _HEARD <= before + step:
            self.heard.emit(self.label)

    def _failed(self, words: str) -> None:
        self._why = words

    def _ended(self) -> None:
        """Note that the device was closed by something that nobody here asked for."""
        if not self._open:
            return
        self._open = False
        was_playing, self.playing = self.playing, False
        self._sounded = {}
        self.changed.emit()
        why, self._why = self._why, ""
        if was_playing:
            self.lost.emit(why or "The output device is in use by another measurement or program.")
