"""Work that goes on beside other work: NumPy and the transforms let go of the interpreter while they compute."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from functools import lru_cache
from typing import TypeVar

from epidote.core.errors import CancelledError

T = TypeVar("T")
THREAD_NAMES = "aside"  # how the names of the shared threads begin; they end with the process
_MAKING = threading.Lock()
_NICER = 10  # of 19
_CANCELLED: ContextVar[Callable[[], bool]] = ContextVar("cancelled", default=lambda: False)


@lru_cache(maxsize=1)
def _make_pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(os.cpu_count() or 2, THREAD_NAMES, initializer=yield_to_others)


def start_in_thread(work: Callable[[], T]) -> Callable[[], T]:
    """Begin ``work`` on a thread that the whole process shares; what is given back waits for its result, and raises
    what it raised.

    ``work`` must not itself wait for other work begun so: all threads might be waiting then.
    """
    with _MAKING:  # the cache alone would let two threads make two pools
        pool = _make_pool()
    return pool.submit(work).result


def yield_to_others() -> None:
    """Lower the priority of the present thread, so that an interface is answered while it computes.

    On Linux the priority is a thread's own. It cannot be raised again, so this is for threads that only compute.
    """
    with suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICER)


@contextmanager
def cancellable(cancelled: Callable[[], bool]) -> Iterator[None]:
    """Let ``stop_if_cancelled`` end what is computed inside as soon as ``cancelled`` says so, on this thread."""
    token = _CANCELLED.set(cancelled)
    try:
        yield
    finally:
        _CANCELLED.reset(token)


def stop_if_cancelled() -> None:
    """Raise CancelledError where nobody waits for the result any more; long computations call it between passes."""
    if _CANCELLED.get()():
        raise CancelledError("Stopped before it was finished. Nothing was saved; start it again.")
