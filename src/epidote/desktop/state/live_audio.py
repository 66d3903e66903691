"""Live sound for a page: a thread that listens and computes, and never piles up more than the page can show."""

from __future__ import annotations

import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtCore import QObject, Signal

from epidote.audio.soundcard.patience import patience
from epidote.core.errors import EpidoteError, in_window
from epidote.desktop.state.faults import faults as fault_reports

if TYPE_CHECKING:
    from epidote.audio.device import Device, Live
    from epidote.core.live.clip_player import PlayOrder
    from epidote.core.signals.signal import Samples
    from epidote.core.stimuli.generator import GeneratorSettings

_PAUSE = 0.016


class Watcher(Protocol):
    """What turns sound into something to show."""

    def feed(self, block: Samples) -> Any:
        """Return a block (frames, channels); what there is to show now, or None."""


class _ListeningSession:
    """One listening, from start to end.

    What an earlier one still has under way neither reaches the page nor holds up the next.
    """

    def __init__(self) -> None:
        self.over = threading.Event()
        self.busy = False  # the page has yet to show what it was sent last


class LiveAudio(QObject):
    """One at a time: starting stops what was on.

    ``updated`` carries what the watcher made; while the page is busy with one, others are dropped.
    """

    updated = Signal(object)
    began = Signal(object)  # the watcher
    ended = Signal()
    failed = Signal(str)
    moved = Signal(float)  # the time in s of the clips that is about to sound
    faulted = Signal(int, str)  # how many dropouts the device reported since it began, and its words about the last
    _delivered = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._thread: threading.Thread | None = None
        self._leaving: threading.Thread | None = None
        self._turn = _ListeningSession()
        self._live: Live | None = None
        self._lock = threading.Lock()
        self._wanted: tuple[GeneratorSettings, Samples | None] | None = None
        self._clips: Callable[[float], list[Samples]] | None = None
        self._order: PlayOrder | None = None
        self._delivered.connect(self._deliver)

    @property
    def on(self) -> bool:
        return self._thread is not None

    def start(
        self,
        opener: Callable[[], Device],
        ceiling_dbfs: float,
        watcher: Callable[[float], Watcher],
        clips: Callable[[float], list[Samples]] | None = None,
    ) -> None:
        """Open, listen, and feed the watcher that ``watcher(rate)`` makes. Errors come as ``failed``.

        clips: makes those that ``order`` is to play, (frames, channels) at the device's rate, off the interface's
        thread.
        """
        self.stop()
        self._wanted = self._order = None
        self._clips = clips
        self._thread = threading.Thread(
            target=self._go_on,
            args=(opener, ceiling_dbfs, watcher, self._turn, self._leaving),
            name="live",
            daemon=True,
        )
        self._thread.start()

    def _go_on(
        self,
        opener: Callable[[], Device],
        ceiling: float,
        make: Callable[[float], Watcher],
        turn: _ListeningSession,
        leaving: Any,
    ) -> None:
        device: Device | None = None
        live: Live | None = None
        try:
            if leaving is not None:
                leaving.join(10)
            if turn.over.is_set():
                return
            with patience(
                "The sound device", lambda words: self._delivered.emit(turn, partial(self.failed.emit, words))
            ):
                device = opener()
            live = device.listen(ceiling_dbfs=ceiling)
            self._begin_playing(live)
            watcher = make(live.rate)
            self._delivered.emit(turn, partial(self.began.emit, watcher))
            self._feed(live, watcher, turn)
        except EpidoteError as error:
            self._delivered.emit(turn, partial(self.failed.emit, in_window(error)))
        except Exception as error:  # noqa: BLE001  whatever it is, the page must learn that the sound is gone
            traceback.print_exception(error)
            fault_reports().report(error, "live")
            words = "An internal error stopped the live view. Saved runs are not affected; start it again."
            self._delivered.emit(turn, partial(self.failed.emit, words))
        finally:
            with self._lock:
                if self._live is live:
                    self._live = None
            if live is not None:
                live.close()
            if device is not None:
                device.close()
            self._delivered.emit(turn, self._end)

    def _begin_playing(self, live: Live) -> None:
        """Play what was asked for while the device was being opened."""
        with self._lock:
            self._live, source = live, self._wanted
            clips, order = self._clips, None
        if source is not None:
            live.play(*source)
        if clips is not None:
            live.play_clips(clips(live.rate))
            with self._lock:
                order = self._order
        if order is not None:
            live.order(order)

    def _feed(self, live: Live, watcher: Watcher, turn: _ListeningSession) -> None:
        """Pass blocks on to the watcher until the session is over; what it shows is dropped while the page is busy."""
        reported = 0
        place = 0
        while not turn.over.is_set():
            block = live.read()
            if live.place() != place and not turn.busy:
                place = live.place()
                turn.busy = True
                self._delivered.emit(turn, partial(self._move, turn, place / live.rate))
            faults = live.faults()
            if len(faults) > reported:
                reported = len(faults)
                self._delivered.emit(turn, partial(self.faulted.emit, reported, faults[-1]))
            shown = watcher.feed(block) if block.shape[0] else None
            if shown is not None and not turn.busy:
                turn.busy = True
                self._delivered.emit(turn, partial(self._show, turn, shown))
            time.sleep(_PAUSE)

    def _deliver(self, turn: _ListeningSession, tell: Callable[[], None]) -> None:
        if turn is self._turn:
            tell()

    def _show(self, turn: _ListeningSession, shown: object) -> None:
        turn.busy = False
        self.updated.emit(shown)

    def _move(self, turn: _ListeningSession, seconds: float) -> None:
        turn.busy = False
        self.moved.emit(seconds)

    def _end(self) -> None:
        self._thread = None
        self.ended.emit()

    def play(self, programme: GeneratorSettings, samples: Samples | None = None) -> None:
        with self._lock:
            self._wanted = (programme, samples)
            live = self._live
        if live is not None:
            try:
                live.play(programme, samples)
            except EpidoteError as error:
                self.failed.emit(in_window(error))

    def order(self, order: PlayOrder) -> None:
        """Switch, loop, pause or set the level of the clips."""
        with self._lock:
            self._order = replace(order, jump=-1)
            live = self._live
        if live is not None:
            live.order(order)

    def mute(self) -> None:
        """Silence within one block; listening goes on."""
        with self._lock:
            live, self._wanted = self._live, None
        if live is not None:
            live.mute()

    def stop(self) -> None:
        """Stop listening; the device is given back in a moment, see ``wait``."""
        thread, self._thread = self._thread, None
        self._turn.over.set()
        self._turn = _ListeningSession()
        if thread is not None:
            self._leaving = thread
            self.ended.emit()

    def wait(self) -> None:
        """Until the device is free. From other threads than the interface's, but for the very end."""
        leaving = self._leaving
        if leaving is not None:
            leaving.join(10)
