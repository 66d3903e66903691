"""Ctrl+C and SIGTERM while something plays: the run ends within a block of sound and says what was kept."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

_SIGNALS = (signal.SIGINT, signal.SIGTERM)


@contextmanager
def stoppable() -> Iterator[threading.Event]:
    """Yield an event that the first of these signals sets; a second one interrupts at once, as it does outside."""
    stop = threading.Event()
    if threading.current_thread() is not threading.main_thread():
        yield stop
        return

    def asked(number: int, frame: FrameType | None) -> None:
        if stop.is_set():
            raise KeyboardInterrupt
        stop.set()

    before = {number: signal.signal(number, asked) for number in _SIGNALS}
    try:
        yield stop
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
