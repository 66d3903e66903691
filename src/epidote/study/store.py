"""A study on disk: open, change, close. Each change is on disk when its method returns."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import TYPE_CHECKING, Self

from epidote.study.annotations import Entries
from epidote.study.bin import empty_into_bin, move_orphans
from epidote.study.database import Database, DiskFullError
from epidote.study.folder import ATTACHMENTS, RECORDINGS, StudyFolder
from epidote.study.models import FinishedRun, ReadOnlyError, RunSummary, StudyError
from epidote.study.passes import Passes
from epidote.study.queries import Queries
from epidote.study.repository import Repository
from epidote.study.write_lock import WriteLock

if TYPE_CHECKING:
    from epidote.core.signals.recording import Recording
    from epidote.study.recording_files import Acquired

SUFFIX = ".epidote"
DATABASE = "study.sqlite"
_LONGEST_STEM = 120  # of a temporary name, which gets more behind it
README = """This folder is a study made with Epidote. Keep it together.

study.sqlite   units, subjects, runs with settings, readings and curves (SQLite)
recordings/    one audio file per recording: FLAC (24 bit) or WAV (32-bit float)
attachments/   pictures
bin/           deleted items, by date; may be emptied at any time
The file formats are described in docs/formats.md of Epidote.
"""


def create_study(path: Path, title: str | None = None) -> Study:
    """Make a new study folder, whole or not at all.

    Raises StudyError when there is something already or it cannot be made.
    """
    path = path.absolute()
    if not path.name:
        raise StudyError(f"“{path}” is not a name for a study. Nothing was changed; choose another name.")
    if path.suffix != SUFFIX:
        path = path.with_name(path.name + SUFFIX)
    if os.path.lexists(path):
        raise StudyError(f"{path} already exists. Nothing was changed; choose another name.")
    partial = path.with_name(f".{path.name[:_LONGEST_STEM]}.{os.urandom(4).hex()}.part")
    try:
        (partial / RECORDINGS).mkdir(parents=True)
        (partial / ATTACHMENTS).mkdir()
        (partial / "README.txt").write_text(README, encoding="utf-8")
        study = Study(partial, create=True)
        study.set_setting("title", title or path.stem)
        study.add_subject(None, {})
        study.close()
        partial.rename(path)
    except OSError as error:
        raise StudyError(
            f"{path} could not be created: {error.strerror}. Nothing was changed; choose another folder."
        ) from error
    finally:
        if partial.is_dir():
            shutil.rmtree(partial, ignore_errors=True)
    return Study(path)


class Study(Repository):
    """An open study: its folder, the lock, the database and the recordings.

    ``read_only`` says whether another process has it open for changes, or the folder cannot be written.
    """

    def __init__(self, path: Path | str, *, create: bool = False) -> None:
        path = Path(path).absolute()
        self._closed = False
        if not create and path.is_file():
            raise StudyError(f"{path} is a file, not a study. Select a study folder ending in {SUFFIX}.")
        if not create and not path.is_dir():
            raise StudyError(f"{path} does not exist. Select a study folder ending in {SUFFIX}.")
        if not create and not (path / DATABASE).is_file():
            raise StudyError(f"{path} is not a study: {DATABASE} is missing. Select a study folder ending in {SUFFIX}.")
        self.folder = StudyFolder(path)
        # files that the database did not know and that went to the bin on opening
        self.moved_aside: tuple[str, ...] = ()
        self._lock = WriteLock(path, path / DATABASE)
        self.why_read_only = self.folder.fault() or self._lock.acquire()
        _require_own_database(path)
        try:
            database = self._opened(path / DATABASE, create=create)
        except StudyError:
            self._lock.release()
            raise
        super().__init__(path, database)
        self.entries = Entries(database, self.folder)
        self.passes = Passes(database)
        self.queries = Queries(database)
        if not self.read_only and not create:
            self.moved_aside = move_orphans(database, self.folder)
            if not self.has_baseline_row():
                self.add_subject(None, {})

    @property
    def read_only(self) -> bool:
        return self.why_read_only != ""

    def _opened(self, file: Path, *, create: bool) -> Database:
        """Return the database; on a disk that is full to the last block for reading only."""
        try:
            return Database(file, read_only=self.read_only, create=create)
        except DiskFullError:
            if create or self.read_only:
                raise
        self._lock.release()
        self.why_read_only = "the disk is full"
        return Database(file, read_only=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close; what was deleted goes to the bin now. Closing again does nothing."""
        if self._closed:
            return
        self._closed = True
        if not self.read_only:
            empty_into_bin(self._db, self.folder, self.entries)
        self._db.close()
        self._lock.release()

    def add_run(self, run: FinishedRun) -> RunSummary:
        """Keep a finished run: recordings first, each written whole and synced, then everything else in one
        transaction.
        """
        return self.insert_run(run, self._written(run))

    def complete_run(self, run_id: int, run: FinishedRun) -> RunSummary:
        """Give a run that was kept without recordings what it waited for; the same order, and its number stays."""
        return self.fill_run(run_id, run, self._written(run))

    def _written(self, run: FinishedRun) -> list[tuple[str, str]]:
        """Write a run's recordings; return the name and digest of each file."""
        from epidote.study.recording_files import RecordingFiles

        if self.read_only:
            raise ReadOnlyError(f"{self.path.name} is read-only ({self.why_read_only}). The run was not saved.")
        files = RecordingFiles(self.folder, read_only=False)
        return [files.write(recording.signal) for recording in run.recordings]

    def recordings(self, run_id: int) -> tuple[Recording, ...]:
        """Return the kept recordings of a run (of the run it was recomputed from).

        Raises StudyError when one is missing or changed.
        """
        return self.acquired(run_id).recordings

    def acquired(self, run_id: int) -> Acquired:
        """Return the same with what is known of how they were made."""
        from epidote.study.recording_files import RecordingFiles

        return RecordingFiles(self.folder, read_only=self.read_only).acquired(self.recording_rows(run_id))

    def free_bytes(self) -> int:
        """Bytes free on the study's disk."""
        disk = os.statvfs(self.path)
        return disk.f_bavail * disk.f_frsize


def _require_own_database(path: Path) -> None:
    """Raise StudyError when the database is a link: opening it would change a file somewhere else."""
    if (path / DATABASE).is_symlink():
        raise StudyError(
            f"{DATABASE} in {path.name} is a link, not the study's own file. Nothing was changed; put the file itself"
            " there."
        )
