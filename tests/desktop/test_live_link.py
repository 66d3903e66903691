"""Live sound started, stopped and started again faster than a device or a computation can follow."""

import threading

import numpy as np
import pytest

from epidote.desktop.state.live_audio import LiveAudio
from tests.desktop.driver import wait_for


class Source:
    """A device that gives ten samples of one number at every read."""

    def __init__(self, number: float) -> None:
        self.number, self.rate, self.closed = number, 48000.0, 0

    def listen(self, *, ceiling_dbfs: float) -> "Source":
        return self

    def read(self) -> np.ndarray:
        return np.full((10, 1), self.number)

    def place(self) -> int:
        return 0

    def faults(self) -> tuple[str, ...]:
        return ()

    def close(self) -> None:
        self.closed += 1


class Slow:
    """A watcher that is held up in its computation until it is let go."""

    def __init__(self) -> None:
        self.inside, self.go = threading.Event(), threading.Event()

    def feed(self, block: np.ndarray) -> float:
        self.inside.set()
        self.go.wait(10)
        return float(block[0, 0])


class Quick:
    def feed(self, block: np.ndarray) -> float:
        return float(block[0, 0])


@pytest.fixture
def link(qapp):
    made = LiveAudio()
    yield made
    made.stop()
    made.wait()


def test_what_was_under_way_when_it_stopped_does_not_hold_up_the_next(link, qtbot):
    shown, slow = [], Slow()
    link.updated.connect(shown.append)
    link.start(lambda: Source(1), 0.0, lambda rate: slow)
    assert slow.inside.wait(10)
    link.start(lambda: Source(2), 0.0, lambda rate: Quick())
    slow.go.set()
    wait_for(qtbot, lambda: len(shown) > 3)
    assert set(shown) == {2.0}, "nothing of the one before"


def test_one_that_is_stopped_before_its_turn_never_opens_its_device(link, qtbot):
    opened, slow, began = [], Slow(), []
    link.began.connect(began.append)

    def opener(number: float) -> Source:
        opened.append(Source(number))
        return opened[-1]

    link.start(lambda: opener(1), 0.0, lambda rate: slow)
    assert slow.inside.wait(10)
    link.start(lambda: opener(2), 0.0, lambda rate: Quick())
    last = Quick()
    link.start(lambda: opener(3), 0.0, lambda rate: last)
    slow.go.set()
    wait_for(qtbot, lambda: last in began)
    assert [device.number for device in opened] == [1, 3]
    assert opened[0].closed == 2, "the listening and the device"
    assert began[-1] is last
