"""Cycles with widgets in them are destroyed by the event loop in the interface's thread, never in the middle of
something.
"""

import gc
import threading
from typing import ClassVar

import shiboken6
from PySide6.QtCore import QObject

from epidote.desktop.app import application
from epidote.desktop.state.garbage import GarbageCollector


class Ring(QObject):
    """An object that holds itself, so that only the collector frees it."""

    gone: ClassVar[list[int]] = []

    def __init__(self) -> None:
        super().__init__()
        self.itself = self

    def __del__(self) -> None:
        self.gone.append(threading.get_ident())


def allocate(count=300_000):
    """So many containers that Python's own collector would have run many times."""
    return [[n] for n in range(count)]


def test_nothing_is_collected_but_between_events(qtbot):
    app = application()
    assert not gc.isenabled()
    assert len(app.findChildren(GarbageCollector)) == 1
    Ring.gone.clear()
    ring = Ring()
    assert shiboken6.isValid(ring)
    del ring
    held = allocate()
    worker = threading.Thread(target=allocate)
    worker.start()
    worker.join()
    assert Ring.gone == []
    qtbot.waitUntil(lambda: bool(Ring.gone) or bool(allocate(3000) and False), timeout=60_000)
    assert Ring.gone == [threading.get_ident()]
    assert len(held) == 300_000
