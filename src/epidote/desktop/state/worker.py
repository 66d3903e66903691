"""Work off the interface thread: one thread in order, answers come back as Qt signals on the interface's thread."""

from __future__ import annotations

import traceback
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal
from shiboken6 import isValid

from epidote.core.errors import EpidoteError, in_window
from epidote.desktop.state.faults import faults

_GONE = "already deleted"  # what Qt's bindings say of a widget that was closed before the answer came
Done = Callable[[Any], None]
Failed = Callable[[str], None]


class Worker(QObject):
    """Runs what it is given one after the other. ``close`` waits for the piece under way and drops the rest."""

    _answered = Signal(object, object)

    def __init__(self, name: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._open = True
        # queued: work that ends before ``submit`` returns would otherwise be answered inside it
        self._answered.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def submit(self, work: Callable[[], Any], done: Done | None = None, failed: Failed | None = None) -> None:
        """Do ``work`` on the thread, then call ``done`` with its result, or ``failed`` with words, here."""
        if self._open:
            self._pool.submit(work).add_done_callback(lambda future: self._answer(future, done, failed))

    def _answer(self, future: Future[Any], done: Done | None, failed: Failed | None) -> None:
        if future.cancelled() or not self._open:
            return
        error = future.exception()
        if error is None:
            self._answered.emit(done, future.result())
            return
        if isinstance(error, EpidoteError):
            words = in_window(error)
        else:
            traceback.print_exception(error)  # for whoever started the program from a terminal
            faults().report(error, "worker")
            words = (
                "An internal error stopped this. Everything finished before is saved; try again, and report it if it"
                " recurs."
            )
        self._answered.emit(failed, words)

    def _deliver(self, receiver: Done | None, value: Any) -> None:
        if receiver is None or not self._open:
            return
        owner = getattr(receiver, "__self__", None)
        if isinstance(owner, QObject) and not isValid(owner):
            return  # the window that asked was closed meanwhile
        try:
            receiver(value)
        except RuntimeError as error:
            if _GONE not in str(error):
                raise

    def close(self) -> None:
        self._open = False
        self._pool.shutdown(wait=True, cancel_futures=True)
