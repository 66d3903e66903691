"""A sound server that does not answer is told of, while it is still being waited for."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

SECONDS = 4.0


@contextmanager
def patience(name: str, tell: Callable[[str], None], seconds: float = SECONDS) -> Iterator[None]:
    """Within: something that may hang. After ``seconds`` ``tell`` is called once, on a thread of its own."""
    words = (
        f"“{name}” has not answered for {seconds:g} s; still waiting. Check the sound server and the connection, or"
        " stop."
    )
    timer = threading.Timer(seconds, tell, [words])
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
