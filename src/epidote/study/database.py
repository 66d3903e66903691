"""The study's SQLite file: opening it safely, bringing its schema up to date, one transaction at a time.

The standard library's sqlite3 and numbered SQL files do this in a tenth of the start-up time that a mapper and its
migration tool take, for a schema of nine tables.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from epidote.study.models import ReadOnlyError, StudyError

APPLICATION_ID = 0x45504944  # "EPID"
_CHECKED_UP_TO = 64 * 1024 * 1024
_TITLES_SINCE = 6  # the format whose migration brings the kept titles up to date; after its keys


def migrations() -> list[tuple[int, str]]:
    """Return the steps from format to format: (number, SQL), in order."""
    return sorted(
        (int(file.name[:4]), file.read_text()) for file in (Path(__file__).parent / "migrations").glob("*.sql")
    )


class Database:
    """One connection, used by one thread at a time. Every sqlite3 error leaves as a StudyError."""

    def __init__(self, path: Path, *, read_only: bool, create: bool = False) -> None:
        self.path, self.read_only = path, read_only
        self._lock = threading.RLock()
        new = create and not path.exists()
        # a log that was not folded back tells of a process that was killed: then the whole file is looked over
        log = path.with_name(path.name + "-wal")
        self._left_open = log.exists() and log.stat().st_size > 0
        if read_only:
            mode = "ro"
        elif create:
            mode = "rwc"
        else:
            mode = "rw"
        try:
            if read_only and not os.access(path.parent, os.W_OK):
                self._connection = _read_where_nothing_can_be_written(path, log=self._left_open)
            else:
                self._connection = _connect(f"file:{quoted(path)}?mode={mode}")
            self._connection.execute("PRAGMA foreign_keys = ON")
            self._check(new)
            if read_only:
                self._upgrade_a_copy()
            else:
                self._connection.execute("PRAGMA journal_mode = WAL")
                self._connection.execute("PRAGMA synchronous = FULL")
                self._migrate()
                status = path.stat()
                self._file = (status.st_dev, status.st_ino)
        except sqlite3.Error as error:
            self._close_quietly()
            raise _translated(error, path) from error
        except StudyError:
            self._close_quietly()
            raise

    def _close_quietly(self) -> None:
        connection = getattr(self, "_connection", None)
        if connection is not None:
            connection.close()

    def _check(self, new: bool) -> None:
        if new:
            self._connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            return
        if self._connection.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
            raise StudyError(
                f"{self.path} is a database, but not of a study. Nothing was changed; select another folder."
            )
        known = migrations()[-1][0]
        version = self._connection.execute("PRAGMA user_version").fetchone()[0]
        if version > known:
            raise StudyError(
                f"{self.path.parent.name} was made by a newer version of Epidote (format {version}, this one knows"
                f" {known}). Nothing was changed; update Epidote to open it."
            )
        if self._left_open and self.path.stat().st_size < _CHECKED_UP_TO:
            result = self._connection.execute("PRAGMA quick_check(1)").fetchone()[0]
            if result != "ok":
                raise StudyError(_damaged(self.path, result))

    def _upgrade_a_copy(self) -> None:
        """Upgrade a copy in memory for a reader of an older format: the file is not its to change."""
        if self._connection.execute("PRAGMA user_version").fetchone()[0] >= migrations()[-1][0]:
            return
        copy = _connect(":memory:")
        self._connection.backup(copy)
        self._connection.close()
        self._connection = copy
        self._migrate(keep_the_old=False)

    def _migrate(self, *, keep_the_old: bool = True) -> None:
        version = self._connection.execute("PRAGMA user_version").fetchone()[0]
        pending = [(n, sql) for n, sql in migrations() if n > version]
        if pending and version > 0 and keep_the_old:
            from epidote.audio.files.sound_file import write_whole

            write_whole(self.path.with_name(f"study before format {pending[-1][0]}.sqlite"), self.path.read_bytes())
        for number, sql in pending:
            self._connection.executescript(f"BEGIN IMMEDIATE;\n{sql}")
            if number == _TITLES_SINCE and version > 0:
                from epidote.study.titles import refresh_titles  # loads the procedures, which only an old study needs

                refresh_titles(self._connection)
            self._connection.execute(f"PRAGMA user_version = {number}")
            self._connection.execute("COMMIT")

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            try:
                yield self._connection
            except sqlite3.Error as error:
                raise _translated(error, self.path) from error
            except OverflowError as error:
                raise StudyError(
                    "This number is too large for a run, row or column. Nothing was changed; use one that the study"
                    " shows."
                ) from error

    @contextmanager
    def writing(self) -> Iterator[sqlite3.Connection]:
        """Yield a transaction: all of it happens or nothing."""
        if self.read_only:
            raise ReadOnlyError(
                f"{self.path.parent.name} is read-only. Nothing was changed; close it elsewhere, or copy the study and"
                " open the copy."
            )
        with self._lock:
            self._require_there()
            try:
                self._connection.execute("BEGIN IMMEDIATE")
                try:
                    yield self._connection
                except BaseException:
                    self._connection.execute("ROLLBACK")
                    raise
                self._connection.execute("COMMIT")
            except sqlite3.Error as error:
                raise _translated(error, self.path) from error

    def _require_there(self) -> None:
        """Raise StudyError when the file that is open is no longer the one in the folder: what is written to it
        would be lost.
        """
        try:
            there = self.path.stat()
        except OSError:
            there = None
        if there is None or (there.st_dev, there.st_ino) != self._file:
            raise StudyError(
                f"The folder of {self.path.parent.name} was moved, deleted or disconnected. Nothing was changed; put it"
                " back, or open the study where it is now."
            )

    def close(self) -> None:
        with self._lock:
            self._connection.close()


def _connect(address: str) -> sqlite3.Connection:
    made = sqlite3.connect(address, uri=True, check_same_thread=False, isolation_level=None, timeout=5)
    made.row_factory = sqlite3.Row
    # a text that is no UTF-8 spoils its own cell, not every query that meets it
    made.text_factory = lambda content: content.decode("utf-8", errors="replace")
    return made


def _read_where_nothing_can_be_written(path: Path, *, log: bool) -> sqlite3.Connection:
    """Return a reader on a medium that cannot be written.

    SQLite cannot use the write-ahead log there, so one that a killed process left is read from a copy; without a log
    the file itself is the whole truth.
    """
    if not log:
        return _connect(f"file:{quoted(path)}?mode=ro&immutable=1")
    memory = _connect(":memory:")
    with tempfile.TemporaryDirectory(prefix="epidote-") as scratch:
        for name in (path.name, f"{path.name}-wal"):
            shutil.copyfile(path.with_name(name), Path(scratch) / name)
        with closing(_connect(f"file:{quoted(Path(scratch) / path.name)}?mode=rw")) as copy:
            copy.backup(memory)
    return memory


def quoted(path: Path) -> str:
    """Return a path for SQLite's file: address."""
    return str(path.absolute()).replace("%", "%25").replace("?", "%3f").replace("#", "%23")


class DiskFullError(StudyError):
    """There is no room for a change; reading goes on."""


def _damaged(path: Path, detail: object) -> str:
    return (
        f"The database of {path.parent.name} is damaged ({detail}). Nothing was changed; the recordings are intact "
        f"in {path.parent / 'recordings'}. Restore {path.name} from a backup, or start a new study."
    )


def _translated(error: sqlite3.Error, path: Path) -> StudyError:
    text = str(error)
    if "malformed" in text or "not a database" in text or "corrupt" in text:
        return StudyError(_damaged(path, text))
    if "full" in text:
        return DiskFullError(
            f"The disk is full. {path.parent.name} was not changed and all finished runs are saved; free some space and"
            " try again."
        )
    if "readonly" in text or "read-only" in text:
        return ReadOnlyError(
            f"{path.parent.name} is write-protected. Nothing was changed; check the permissions of the folder."
        )
    if "unable to open" in text:
        return StudyError(
            f"{path.parent} is not a study: {path.name} cannot be read. Nothing was changed; select a folder ending in"
            " .epidote."
        )
    return StudyError(f"Error in the study's database ({text}). Everything finished before is saved.")
