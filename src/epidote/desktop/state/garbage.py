"""Reference cycles are collected between events, in the interface's thread, and nowhere else.

Left to itself Python collects wherever it happens to allocate: while Qt destroys an object and holds the lock of its
connections, which destroying another one then waits for, for ever; or in a worker's thread, where no widget may be
destroyed.
"""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QApplication

_EVERY_MS = 500
_WHOLE_EVERY = 20.0  # s between two looks at all objects: the window holds hundreds of thousands


class GarbageCollector(QObject):
    """Takes the place of Python's own collector as long as the application lives."""

    def __init__(self, app: QApplication) -> None:
        super().__init__(app)
        self._last_whole = time.monotonic()
        timer = QTimer(self)
        timer.timeout.connect(self.collect)
        timer.start(_EVERY_MS)
        gc.disable()

    def collect(self) -> None:
        """Collect the oldest generation that is due by Python's own thresholds."""
        counts, thresholds = gc.get_count(), gc.get_threshold()
        now = time.monotonic()
        if counts[2] > thresholds[2] and now - self._last_whole > _WHOLE_EVERY:
            self._last_whole = now
            gc.collect(2)
        elif counts[1] > thresholds[1]:
            gc.collect(1)
        elif counts[0] > thresholds[0]:
            gc.collect(0)


def collect_between_events(app: QApplication) -> None:
    """Once for the application."""
    if app.findChild(GarbageCollector) is None:
        GarbageCollector(app)


def keep_what_is_loaded() -> None:
    """Modules are never garbage: left out, a look at all objects takes half the time."""
    gc.freeze()
