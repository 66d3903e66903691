"""The files of a study: plain names in three known rooms, never through a link, never outside the folder.

A study may come from anybody, so a name in its database is only believed when it is a plain name, and a room only used
when it is a folder of the study itself. Rooms are opened once as directory descriptors without following links, and
everything in them is opened relative to those (docs/security.md).
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from epidote.study.models import StudyError

RECORDINGS, ATTACHMENTS, BIN = "recordings", "attachments", "bin"
_ROOMS = (RECORDINGS, ATTACHMENTS, BIN)
_LONGEST_NAME = 200  # bytes
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC  # a FIFO must not make the opening wait
_CREATE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


class UnsafeNameError(StudyError):
    """A stored name that is no plain file name, such as one with a slash in it."""


def require_plain(name: str) -> str:
    """Return the name itself. Raises UnsafeNameError for what could lead anywhere else than into its room."""
    fits = 0 < len(os.fsencode(name)) <= _LONGEST_NAME and name not in (".", "..")
    if not fits or "/" in name or not name.isprintable():
        raise UnsafeNameError(
            f"The study names a file {name!r}, which is not a plain file name. Nothing was read or moved."
        )
    return name


class StudyFolder:
    """A study's folder. Every method names a room (recordings, attachments or bin) and a plain name in it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def fault(self) -> str:
        """Why nothing may be written here, or "": a room or a file of the database that is a link or something else
        than it should be.
        """
        for name in _ROOMS:
            if self._kind(name) not in ("", "folder"):
                return f"“{name}” is not a folder of the study but a {self._kind(name)}"
        for name in ("study.sqlite", "study.sqlite-wal", "study.sqlite-shm", "study.sqlite-journal", ".lock"):
            if self._kind(name) not in ("", "file"):
                return f"“{name}” is not a file of the study but a {self._kind(name)}"
        return ""

    def _kind(self, name: str) -> str:
        """Return what stands under a name in the study's folder itself; "" for nothing."""
        try:
            mode = os.lstat(self.path / name).st_mode
        except OSError:
            return ""
        kinds = {
            stat.S_IFDIR: "folder",
            stat.S_IFREG: "file",
            stat.S_IFLNK: "link",
            stat.S_IFIFO: "pipe",
            stat.S_IFSOCK: "socket",
        }
        return kinds.get(stat.S_IFMT(mode), "device")

    @contextmanager
    def _room(self, room: str, *, make: bool = False) -> Iterator[int]:
        """Yield the room's directory descriptor. Raises StudyError when it is a link or is missing."""
        assert room in _ROOMS or room.startswith(f"{BIN}/")
        try:
            if make:
                (self.path / room).mkdir(parents=True, exist_ok=True)
            descriptor = self._open_folder(room)
        except OSError as error:
            if error.errno in (errno.ELOOP, errno.ENOTDIR):
                raise StudyError(
                    f"“{room}” in {self.path.name} is not a folder of the study but a link or a file. Nothing was read"
                    " or moved; put the folder itself there."
                ) from error
            raise StudyError(
                f"“{room}” in {self.path.name} cannot be opened: {error.strerror}. Nothing was changed."
            ) from error
        try:
            yield descriptor
        finally:
            os.close(descriptor)

    def _open_folder(self, room: str) -> int:
        """Each part of the way opened by itself, so that none of them can be a link."""
        descriptor = os.open(self.path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        for part in room.split("/"):
            try:
                inner = os.open(part, _FOLDER, dir_fd=descriptor)
            finally:
                os.close(descriptor)
            descriptor = inner
        return descriptor

    def names(self, room: str, besides: Collection[str] = ()) -> list[str]:
        """Regular files of a room besides some, sorted; links and anything else are not its files."""
        try:
            with self._room(room) as folder:
                names = [n for n in _names_in(folder) if n not in besides]
                return sorted(n for n in names if n.isprintable() and stat.S_ISREG(os.lstat(n, dir_fd=folder).st_mode))
        except StudyError:
            return []

    def open(self, room: str, name: str) -> int:
        """Return a descriptor for reading.

        Raises StudyError for a name that is not plain, a file that is missing, or no regular file.
        """
        require_plain(name)
        with self._room(room) as folder:
            try:
                descriptor = os.open(name, _READ, dir_fd=folder)
            except OSError as error:
                if error.errno == errno.ENOENT:
                    why = "is missing"
                else:
                    why = f"cannot be read ({error.strerror})"
                raise StudyError(
                    f"{name} {why} in “{room}” of {self.path.name}. Restore the file from a backup."
                ) from error
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise StudyError(f"{name} in “{room}” of {self.path.name} is not a regular file. Nothing was read.")
        return descriptor

    def read(self, room: str, name: str, most: int | None = None) -> bytes:
        """Return a file whole. Raises StudyError, also for one larger than ``most`` bytes."""
        with os.fdopen(self.open(room, name), "rb") as file:
            size = os.fstat(file.fileno()).st_size
            if most is not None and size > most:
                raise StudyError(
                    f"{name} has {size / 1e6:.0f} MB; at most {most / 1e6:.0f} MB are read. Nothing was read."
                )
            return file.read()

    def has(self, room: str, name: str) -> bool:
        """Whether a room holds a regular file of that name."""
        try:
            with self._room(room) as folder:
                return stat.S_ISREG(os.lstat(require_plain(name), dir_fd=folder).st_mode)
        except (OSError, StudyError):
            return False

    def write(self, room: str, name: str, content: bytes) -> None:
        """Write under a temporary name, sync, rename: the file is there whole or not at all.

        Raises DiskError, StudyError.
        """
        from epidote.audio.files.sound_file import disk_error

        require_plain(name)
        part = f"{name}.part"
        with self._room(room, make=True) as folder:
            try:
                if part in _names_in(folder):
                    os.unlink(part, dir_fd=folder)  # of a process that was killed; of a link only the link
                with os.fdopen(os.open(part, _CREATE, 0o666, dir_fd=folder), "wb") as file:
                    file.write(content)
                    file.flush()
                    os.fsync(file.fileno())
                os.rename(part, name, src_dir_fd=folder, dst_dir_fd=folder)
                os.fsync(folder)
            except OSError as error:
                if part in _names_in(folder):
                    os.unlink(part, dir_fd=folder)
                raise disk_error(name, self.path / room, error) from error

    def move_to_bin(self, room: str, name: str, day: str) -> bool:
        """Move a file of a room into ``bin/day/``; False when there is none.

        A file there of that name is not written over.
        """
        require_plain(name)
        require_plain(day)
        with self._room(room) as folder, self._room(f"{BIN}/{day}", make=True) as target:
            if name not in _names_in(folder):
                return False
            existing = set(_names_in(target))
            free = next(n for i in range(10000) if (n := name if i == 0 else f"{i} {name}") not in existing)
            os.rename(name, free, src_dir_fd=folder, dst_dir_fd=target)
            os.fsync(folder)
            os.fsync(target)
            return True

    def move_back(self, room: str, name: str) -> bool:
        """Take a file of that name out of the bin into its room, the latest first; False when the bin has none."""
        for day in self.days():
            if self.has(f"{BIN}/{day}", name):
                with self._room(f"{BIN}/{day}") as source, self._room(room, make=True) as target:
                    os.rename(name, name, src_dir_fd=source, dst_dir_fd=target)
                    os.fsync(target)
                return True
        return False

    def days(self) -> list[str]:
        """Return the folders of the bin, latest first."""
        try:
            with self._room(BIN) as folder:
                days = [
                    n for n in _names_in(folder) if n.isprintable() and stat.S_ISDIR(os.lstat(n, dir_fd=folder).st_mode)
                ]
        except StudyError:
            return []
        return sorted(days, reverse=True)


def day_now(remark: str = "") -> str:
    """Return the name of a new folder in the bin."""
    return f"{datetime.now(UTC):%Y-%m-%d %H%M%S}{f' {remark}' if remark else ''}"


def _names_in(descriptor: int) -> list[str]:
    """Return the names in an open folder; a path would have to be followed again."""
    return os.listdir(descriptor)
