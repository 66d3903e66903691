"""Live sound for a page: a thread that listens and computes, and never piles up more than the page can show."""

from __future__ import annotations

import threading
import time
import traceback
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtCore import QObject, Signal

from epidote.core.errors import EpidoteError

if TYPE_CHECKING:
    from epidote.audio.device import Device, Live
    from epidote.core.signal import Samples
    from epidote.core.stimulus.programme import Programme

_PAUSE = 0.016


class Watcher(Protocol):
    """What turns sound into something to show."""

    def feed(self, block: Samples) -> Any:
        """A block (frames, channels); what there is to show now, or None."""


class LiveLink(QObject):
    """One at a time: starting stops what was on. ``updated`` carries what the watcher made; while the page is busy with one, others are dropped."""

    updated = Signal(object)
    began = Signal()
    ended = Signal()
    failed = Signal(str)
    faulted = Signal(int, str)  # how many dropouts the device reported since it began, and its words about the last
    _delivered = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._thread: threading.Thread | None = None
        self._leaving: threading.Thread | None = None
        self._stop = threading.Event()
        self._live: Live | None = None
        self._busy = False
        self._lock = threading.Lock()
        self._wanted: tuple[Programme, Samples | None] | None = None
        self._delivered.connect(self._deliver)

    @property
    def on(self) -> bool:
        return self._thread is not None

    def start(self, opener: Callable[[], Device], ceiling_dbfs: float, watcher: Callable[[float], Watcher]) -> None:
        """Open, listen, and feed the watcher that ``watcher(rate)`` makes. Errors come as ``failed``."""
        self.stop()
        self._stop = stop = threading.Event()
        self._busy, self._wanted = False, None
        self._thread = threading.Thread(
            target=self._go_on, args=(opener, ceiling_dbfs, watcher, stop, self._leaving), name="live", daemon=True
        )
        self._thread.start()

    def _go_on(self, opener: Callable[[], Device], ceiling: float, make: Callable[[float], Watcher], stop: Any, leaving: Any) -> None:
        device: Device | None = None
        live: Live | None = None
        try:
            if leaving is not None:
                leaving.join(10)
            device = opener()
            live = device.listen(ceiling_dbfs=ceiling)
            with self._lock:
                self._live, wanted = live, self._wanted
            if wanted is not None:
                live.play(*wanted)
            self._delivered.emit(stop, "began")
            watcher = make(live.rate)
            reported = 0
            while not stop.is_set():
                block = live.read()
                faults = live.faults()
                if len(faults) > reported:
                    reported = len(faults)
                    self._delivered.emit(stop, (reported, faults[-1]))
                shown = watcher.feed(block) if block.shape[0] else None
                if shown is not None and not self._busy:
                    self._busy = True
                    self._delivered.emit(stop, (shown,))
                time.sleep(_PAUSE)
        except EpidoteError as error:
            self._delivered.emit(stop, str(error))
        except Exception as error:  # noqa: BLE001  whatever it is, the page must learn that the sound is gone
            traceback.print_exception(error)
            self._delivered.emit(stop, f"Live sound stopped ({type(error).__name__}: {error}). What was measured is kept.")
        finally:
            with self._lock:
                self._live = None
            if live is not None:
                live.close()
            if device is not None:
                device.close()
            self._delivered.emit(stop, "ended")

    def _deliver(self, stop: object, what: object) -> None:
        if stop is not self._stop:
            return
        if isinstance(what, tuple) and len(what) == 2:
            self.faulted.emit(*what)
        elif isinstance(what, tuple):
            self._busy = False
            self.updated.emit(what[0])
        elif what == "began":
            self.began.emit()
        elif what == "ended":
            self._thread = None
            self.ended.emit()
        else:
            self.failed.emit(str(what))

    def play(self, programme: Programme, samples: Samples | None = None) -> None:
        with self._lock:
            self._wanted = (programme, samples)
            live = self._live
        if live is not None:
            try:
                live.play(programme, samples)
            except EpidoteError as error:
                self.failed.emit(str(error))

    def mute(self) -> None:
        """Silence within one block; listening goes on."""
        with self._lock:
            live, self._wanted = self._live, None
        if live is not None:
            live.mute()

    def stop(self) -> None:
        """Stop listening; the device is given back in a moment, see ``wait``."""
        thread, self._thread = self._thread, None
        self._stop.set()
        self._stop = threading.Event()
        if thread is not None:
            self._leaving = thread
            self.ended.emit()

    def wait(self) -> None:
        """Until the device is free. From other threads than the interface's, but for the very end."""
        leaving = self._leaving
        if leaving is not None:
            leaving.join(10)
