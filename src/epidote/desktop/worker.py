"""Work off the interface thread: one thread in order, answers come back as Qt signals on the interface's thread."""

from __future__ import annotations

import traceback
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Signal

from epidote.core.errors import EpidoteError, in_window

Done = Callable[[Any], None]
Failed = Callable[[str], None]


class Worker(QObject):
    """Runs what it is given one after the other. ``close`` waits for the piece under way and drops the rest."""

    _answered = Signal(object, object)

    def __init__(self, name: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._open = True
        self._answered.connect(self._deliver)

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
            words = f"Internal error ({type(error).__name__}: {error}). Everything finished before is saved. Try again; if it recurs, report it."
        self._answered.emit(failed, words)

    def _deliver(self, receiver: Done | None, value: Any) -> None:
        if receiver is not None and self._open:
            receiver(value)

    def close(self) -> None:
        self._open = False
        self._pool.shutdown(wait=True, cancel_futures=True)
