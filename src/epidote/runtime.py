"""Switches for the whole process.

They belong to the program's entry, not to the core; nothing is imported here that they must precede.
"""

from __future__ import annotations

import contextlib
import ctypes
import os

_M_TRIM_THRESHOLD, _M_MMAP_THRESHOLD = -1, -3
_KEPT = 512 * 1024 * 1024


def prepare() -> None:
    """Before NumPy is loaded."""
    _keep_large_blocks()
    # its linear algebra is small here; threads that wait for each other make a step of a staircase take three times as
    # long
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")


def _keep_large_blocks() -> None:
    """Glibc maps every block above 128 KiB afresh and unmaps it when freed, so that each transform pays for its
    pages again (1.3 to 1.9 times its time): ask it not to, where the C library knows the question.
    """
    with contextlib.suppress(OSError, AttributeError):
        library = ctypes.CDLL(None)
        library.mallopt(_M_MMAP_THRESHOLD, _KEPT)
        library.mallopt(_M_TRIM_THRESHOLD, _KEPT)
