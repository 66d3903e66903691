"""Keep large blocks of memory instead of handing each back to the system.

glibc maps every block above 128 KiB afresh and unmaps it when freed, so that each transform pays for its pages again (1.3 to 1.9 times
its time). A switch for the whole process belongs to the program's entry, not to the core.
"""

from __future__ import annotations

import contextlib
import ctypes

_M_TRIM_THRESHOLD, _M_MMAP_THRESHOLD = -1, -3
_KEPT = 512 * 1024 * 1024


def keep_large_blocks() -> None:
    """Ask the C library, where it knows the question."""
    with contextlib.suppress(OSError, AttributeError):
        library = ctypes.CDLL(None)
        library.mallopt(_M_MMAP_THRESHOLD, _KEPT)
        library.mallopt(_M_TRIM_THRESHOLD, _KEPT)
