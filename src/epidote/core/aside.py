"""Work that goes on beside other work: NumPy and the transforms let go of the interpreter while they compute."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")


def aside(work: Callable[[], T]) -> Callable[[], T]:
    """Begin ``work`` on a thread of its own; what is given back waits for its result, and raises what it raised."""
    pool = ThreadPoolExecutor(1, "aside")
    result = pool.submit(work).result
    pool.shutdown(wait=False)  # the thread goes when its work is done
    return result
