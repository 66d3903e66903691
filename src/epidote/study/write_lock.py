"""The lock of the one process that may write a study. The kernel frees it with the process."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path

IN_USE = "it is already open in another window or process"


class WriteLock:
    """A lock on a study's folder; ``database``: its file, which must be writable, too."""

    def __init__(self, folder: Path, database: Path) -> None:
        self._folder, self._database = folder, database
        self._descriptor: int | None = None

    def acquire(self) -> str:
        """Take the lock of the one process that may write; a reason when it cannot be had.

        The kernel frees it with the process.

        The lock belongs to whoever made it; anybody who may write the study may hold it, so reading it is enough to ask
        for it.
        """
        if not os.access(self._folder, os.W_OK):
            return "its folder is write-protected"
        if self._database.exists() and not os.access(self._database, os.W_OK):
            return f"its {self._database.name} is write-protected"
        flags = os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        try:
            lock = os.open(self._folder / ".lock", os.O_RDWR | os.O_CREAT | flags, 0o666)
        except PermissionError:
            try:
                lock = os.open(self._folder / ".lock", os.O_RDONLY | flags)
            except OSError as error:
                return f"its lock cannot be opened ({error.strerror})"
        except OSError as error:
            return f"its lock cannot be opened ({error.strerror})"
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(lock)
            return IN_USE
        self._descriptor = lock
        return ""

    def release(self) -> None:
        """Give the lock up; without one this does nothing."""
        if self._descriptor is not None:
            os.close(self._descriptor)
            self._descriptor = None
