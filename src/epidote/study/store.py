"""A study on disk: open, change, close. Each change is on disk when its method returns."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from epidote import __version__
from epidote.core.results.caution import Caution
from epidote.core.text import visible
from epidote.study.annotations import Entries, default_operator
from epidote.study.database import Database, DiskFullError
from epidote.study.folder import ATTACHMENTS, BIN, RECORDINGS, StudyFolder, UnsafeNameError, day_now, require_plain
from epidote.study.models import (
    Column,
    FinishedRun,
    Overview,
    Pin,
    ReadOnlyError,
    RunSummary,
    StudyError,
    Subject,
    Unit,
)
from epidote.study.rows import (
    Reader,
    acquisition_from_row,
    column_from_row,
    described_recording,
    entry_from_row,
    pin_from_row,
    run_from_row,
    subject_from_row,
    unit_from_row,
)

if TYPE_CHECKING:
    from epidote.core.analysis.delay.clock_offset import ClockOffset
    from epidote.core.results.result import Curve
    from epidote.core.signals.recording import Recording
    from epidote.core.signals.signal import Signal

SUFFIX = ".epidote"
DATABASE = "study.sqlite"
_OF_THE_CHAIN = {"load", "probe", "rate", "buffer"}  # conditions that change the chain
_LONGEST_STEM = 120  # of a temporary name, which gets more behind it
_WHY = (
    "These files were in the study's folder when it was opened, but its database did not know them: recordings of a run"
    " that was not\nfinished, of an older or newer copy of study.sqlite, or files that somebody put there. Nothing of"
    " them was changed. A recording that the\ndatabase names again is found here by itself.\n"
)
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
    beside = path.with_name(f".{path.name[:_LONGEST_STEM]}.{os.urandom(4).hex()}.part")
    try:
        (beside / RECORDINGS).mkdir(parents=True)
        (beside / ATTACHMENTS).mkdir()
        (beside / "README.txt").write_text(README, encoding="utf-8")
        study = Study(beside, create=True)
        study.set_setting("title", title or path.stem)
        study.add_subject(None, {})
        study.close()
        beside.rename(path)
    except OSError as error:
        raise StudyError(
            f"{path} could not be created: {error.strerror}. Nothing was changed; choose another folder."
        ) from error
    finally:
        if beside.is_dir():
            shutil.rmtree(beside, ignore_errors=True)
    return Study(path)


@dataclass(frozen=True)
class Acquired:
    """What was recorded; clocks: of the recorders that played or recorded by themselves, at ``rate`` Hz; none for
    recordings of this computer.
    """

    recordings: tuple[Recording, ...]
    clocks: tuple[ClockOffset, ...]
    rate: float


class Study:
    """An open study.

    ``read_only`` says whether another process has it open for changes, or the folder cannot be written.
    """

    def __init__(self, path: Path | str, *, create: bool = False) -> None:
        self.path = Path(path).absolute()
        self._closed = False
        if not create and not self.path.is_dir():
            raise StudyError(f"{path} does not exist. Select a study folder ending in {SUFFIX}.")
        if not create and not (self.path / DATABASE).is_file():
            raise StudyError(f"{path} is not a study: {DATABASE} is missing. Select a study folder ending in {SUFFIX}.")
        self.folder = StudyFolder(self.path)
        self.moved_aside: tuple[
            str, ...
        ] = ()  # files that the database did not know and that went to the bin on opening
        self._lock: int | None = None
        self.why_read_only = self.folder.fault() or self._locked()
        self._require_own_database()
        try:
            self._db = self._opened(create=create)
        except StudyError:
            self._unlock()
            raise
        self.entries = Entries(self._db, self.folder)
        if not self.read_only and not create:
            self._tidy()

    @property
    def read_only(self) -> bool:
        return self.why_read_only != ""

    def _opened(self, *, create: bool) -> Database:
        """The database; on a disk that is full to the last block for reading only."""
        try:
            return Database(self.path / DATABASE, read_only=self.read_only, create=create)
        except DiskFullError:
            if create or self.read_only:
                raise
        self._unlock()
        self.why_read_only = "the disk is full"
        return Database(self.path / DATABASE, read_only=True)

    def _require_own_database(self) -> None:
        """Raises StudyError when the database is a link: opening it would change a file somewhere else."""
        if (self.path / DATABASE).is_symlink():
            raise StudyError(
                f"{DATABASE} in {self.path.name} is a link, not the study's own file. Nothing was changed; put the file"
                " itself there."
            )

    def _locked(self) -> str:
        """Take the lock of the one process that may write; a reason when it cannot be had.

        The kernel frees it with the process.

        The lock belongs to whoever made it; anybody who may write the study may hold it, so reading it is enough to ask
        for it.
        """
        if not os.access(self.path, os.W_OK):
            return "its folder is write-protected"
        if (self.path / DATABASE).exists() and not os.access(self.path / DATABASE, os.W_OK):
            return f"its {DATABASE} is write-protected"
        flags = os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        try:
            lock = os.open(self.path / ".lock", os.O_RDWR | os.O_CREAT | flags, 0o666)
        except PermissionError:
            try:
                lock = os.open(self.path / ".lock", os.O_RDONLY | flags)
            except OSError as error:
                return f"its lock cannot be opened ({error.strerror})"
        except OSError as error:
            return f"its lock cannot be opened ({error.strerror})"
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(lock)
            return "it is already open in another window or process"
        self._lock = lock
        return ""

    def _unlock(self) -> None:
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def _tidy(self) -> None:
        """What a kill left: files that the database does not know go to the bin, and a study without a baseline row
        gets one.
        """
        with self._db.reading() as c:
            recordings = {row[0] for row in c.execute("SELECT file FROM recording")}
            baseline = c.execute("SELECT 1 FROM subject WHERE unit_id IS NULL AND NOT deleted").fetchone()
        unknown = [(RECORDINGS, n) for n in self.folder.names(RECORDINGS) if n not in recordings]
        unknown += [(ATTACHMENTS, n) for n in self.folder.names(ATTACHMENTS) if n.endswith(".part")]
        if unknown:
            day = day_now("unknown to the study")
            self.moved_aside = tuple(n for room, n in unknown if self.folder.move_to_bin(room, n, day))
            self.folder.write(f"{BIN}/{day}", "why.txt", _WHY.encode())
        if baseline is None:
            self.add_subject(None, {})

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
            self._empty_into_bin()
        self._db.close()
        self._unlock()

    # -- settings of the study ---------------------------------------------------------------------

    def setting(self, name: str, default: str = "") -> str:
        with self._db.reading() as c:
            row = c.execute("SELECT value FROM setting WHERE name = ?", (name,)).fetchone()
        return str(row[0]) if row else default

    def set_setting(self, name: str, value: str) -> None:
        with self._db.writing() as c:
            c.execute(
                "INSERT INTO setting VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                (name, value),
            )

    @property
    def person(self) -> str:
        """Who measures: as the study was told, else as the system knows."""
        return self.setting("person") or default_operator()

    @property
    def chain_toml(self) -> str:
        """The chain that new runs use, in its TOML form; empty when none was chosen."""
        return self.setting("chain")

    # -- reading the matrix ------------------------------------------------------------------------

    def overview(self) -> Overview:
        with self._db.reading() as c:
            read = Reader()
            units = {u.id: u for u in read.each("unit", c.execute("SELECT * FROM unit"), unit_from_row)}
            rows = c.execute("SELECT * FROM subject WHERE NOT deleted ORDER BY unit_id IS NOT NULL, position")
            subjects = tuple(read.each("row", rows, lambda r: subject_from_row(r, units)))
            columns = tuple(
                read.each(
                    "column", c.execute("SELECT * FROM column_ WHERE NOT deleted ORDER BY position"), column_from_row
                )
            )
            latest = (
                "SELECT * FROM run WHERE id IN (SELECT max(id) FROM run WHERE NOT deleted GROUP BY subject_id,"
                " column_id)"
            )
            runs = {(r["subject_id"], r["column_id"]): run_from_row(r) for r in c.execute(latest)}
            pins = tuple(read.each("pin", c.execute("SELECT * FROM pin WHERE NOT deleted ORDER BY x"), pin_from_row))
            names = dict(c.execute("SELECT name, value FROM setting").fetchall())
            counted = (
                "SELECT subject_id, column_id, count(*) FROM run WHERE NOT deleted AND recomputed_from IS NULL GROUP BY"
                " subject_id, column_id"
            )
            repeats = {(r[0], r[1]): r[2] for r in c.execute(counted)}
            entries = tuple(
                read.each("entry", c.execute("SELECT * FROM entry WHERE NOT deleted ORDER BY id"), entry_from_row)
            )
        read.damaged += [f"run {r.id}" for r in runs.values() if Caution.DAMAGED in r.cautions]
        told = names.get("reference", "")
        if told.isdecimal():
            reference = int(told)
        else:
            reference = None
        return Overview(
            visible(names.get("title", self.path.stem)),
            subjects,
            columns,
            runs,
            pins,
            reference,
            entries,
            repeats,
            names,
            tuple(read.damaged),
        )

    def units(self) -> tuple[Unit, ...]:
        with self._db.reading() as c:
            return tuple(
                Reader().each("unit", c.execute("SELECT * FROM unit WHERE NOT deleted ORDER BY id"), unit_from_row)
            )

    def run(self, run_id: int) -> RunSummary:
        with self._db.reading() as c:
            row = c.execute("SELECT * FROM run WHERE id = ?", (run_id,)).fetchone()
        if row is None:
            raise StudyError(f"Run {run_id} does not exist in {self.path.name}.")
        return run_from_row(row)

    def runs_of(self, subject_id: int, column_id: int) -> tuple[RunSummary, ...]:
        """Every run of a cell, latest first."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT * FROM run WHERE subject_id = ? AND column_id = ? AND NOT deleted ORDER BY id DESC",
                (subject_id, column_id),
            )
            return tuple(run_from_row(r) for r in rows)

    def curves(self, run_id: int, keys: Iterable[str] | None = None) -> tuple[Curve, ...]:
        """A run's curves, all or those of some keys; what is damaged is left out, see ``checked_curves``."""
        return self.checked_curves(run_id, keys)[0]

    def checked_curves(
        self, run_id: int, keys: Iterable[str] | None = None
    ) -> tuple[tuple[Curve, ...], tuple[str, ...]]:
        """The curves, and the keys of those that cannot be shown, since what is stored of them is no curve."""
        from epidote.study.curve_codec import curve_from_row  # NumPy is not needed before the first graph

        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM curve WHERE run_id = ?", (run_id,)).fetchall()
        if keys is None:
            wanted = None
        else:
            wanted = set(keys)
        found = [(str(r["key"]), curve_from_row(r)) for r in rows if wanted is None or r["key"] in wanted]
        damaged = dict.fromkeys(key for key, curve in found if curve is None)
        return tuple(curve for _, curve in found if curve is not None), tuple(damaged)

    def recordings(self, run_id: int) -> tuple[Recording, ...]:
        """The kept recordings of a run (of the run it was recomputed from).

        Raises StudyError when one is missing or changed.
        """
        return self.acquired(run_id).recordings

    def acquired(self, run_id: int) -> Acquired:
        """The same with what is known of how they were made: of recordings of a marked file the recorder's clock,
        found again.
        """
        from epidote.audio.files.sound_file import decode_kept
        from epidote.core.analysis.delay.clock_offset import to_player_clock
        from epidote.core.signals.recording import Recording, Section
        from epidote.core.stimuli.marked_sequence import MarkedSequence

        source = self.run(run_id).recomputed_from or run_id
        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM recording WHERE run_id = ? ORDER BY position", (source,)).fetchall()
        result: list[Recording] = []
        clocks: list[ClockOffset] = []
        rate = 0.0
        for row in rows:
            signal = decode_kept(self._stored(row["file"], row["sha256"]))
            stimulus, faults = acquisition_from_row(row)
            if isinstance(stimulus, MarkedSequence):
                parts, clock = to_player_clock(signal, stimulus)
                result += parts
                clocks.append(clock)
                rate = signal.rate
            elif isinstance(stimulus, tuple):
                result.append(Section(signal, *stimulus).cut())
            else:
                result.append(Recording(signal, stimulus, faults))
        return Acquired(tuple(result), tuple(clocks), rate)

    def _stored(self, name: str, digest: str) -> bytes:
        """A recording's bytes, taken out of the bin again where it lies there.

        Raises StudyError when it is missing or changed.
        """
        import hashlib

        if not self.folder.has(RECORDINGS, require_plain(name)) and not self.read_only:
            self.folder.move_back(RECORDINGS, name)
        if self.folder.has(RECORDINGS, name):
            content = self.folder.read(RECORDINGS, name)
        else:
            content = b""
        if hashlib.sha256(content).hexdigest() != digest:
            raise StudyError(
                f"The recording {name} is missing or was changed outside Epidote. The run's results are unchanged;"
                " restore the file from a backup."
            )
        return content

    # -- changing it -------------------------------------------------------------------------------

    def add_unit(self, maker: str, model: str, serial: str = "", firmware: str = "", notes: str = "") -> Unit:
        if not (maker.strip() or model.strip()):
            raise StudyError("A unit needs a manufacturer or a model. Nothing was added; enter one of them.")
        values = (*(visible(t.strip()) for t in (maker, model, serial, firmware)), visible(notes, lines=True))
        with self._db.writing() as c:
            key = c.execute(
                "INSERT INTO unit (maker, model, serial, firmware, notes) VALUES (?, ?, ?, ?, ?)", values
            ).lastrowid
        return Unit(_key(key), *values)

    def update_unit(self, unit: Unit) -> None:
        with self._db.writing() as c:
            c.execute(
                "UPDATE unit SET maker = ?, model = ?, serial = ?, firmware = ?, notes = ? WHERE id = ?",
                (unit.maker, unit.model, unit.serial, unit.firmware, unit.notes, unit.id),
            )

    def add_subject(
        self, unit: Unit | None, conditions: Mapping[str, str], device: str = "", after: int | None = None
    ) -> Subject:
        """A new row, at the end or after another one.

        Raises StudyError when the same unit stands there under the same conditions.
        """
        self._require_fitting(conditions)
        rows = self.overview().subjects
        for other in rows:
            if (other.unit.id if other.unit else None) == (unit.id if unit else None) and dict(
                other.conditions
            ) == dict(conditions):
                raise StudyError(
                    f"Row “{other.full_name}” already exists. Change a condition, or measure the existing row again."
                )
        places = [s.position for s in rows]
        position = max(places, default=0.0) + 1
        if after is not None:
            here = next((s.position for s in rows if s.id == after), position)
            position = (here + min((p for p in places if p > here), default=here + 2)) / 2
        with self._db.writing() as c:
            used = {r[0] for r in c.execute("SELECT colour FROM subject WHERE unit_id IS NOT NULL AND NOT deleted")}
            if unit:
                colour = next(i for i in range(len(used) + 1) if i not in used)
            else:
                colour = 0
            key = c.execute(
                "INSERT INTO subject (unit_id, conditions, device, colour, position) VALUES (?, ?, ?, ?, ?)",
                (unit.id if unit else None, json.dumps(dict(conditions)), device, colour, position),
            ).lastrowid
        return Subject(_key(key), unit, dict(conditions), device, colour, position)

    def _require_fitting(self, conditions: Mapping[str, str]) -> None:
        """Raises SettingError for conditions that make a chain that cannot be, such as a probe of 0.5:1."""
        if _OF_THE_CHAIN & conditions.keys():
            from epidote.core.chain.chain import Chain

            Chain().with_conditions(conditions)

    def update_subject(self, subject: Subject) -> None:
        self._require_fitting(subject.conditions)
        with self._db.writing() as c:
            c.execute(
                "UPDATE subject SET conditions = ?, device = ?, colour = ?, position = ?, shown = ? WHERE id = ?",
                (
                    json.dumps(dict(subject.conditions)),
                    subject.device,
                    subject.colour,
                    subject.position,
                    subject.shown,
                    subject.id,
                ),
            )

    def add_column(self, procedure: str, settings: Mapping[str, Any], title: str, summary: str) -> Column:
        with self._db.writing() as c:
            position = c.execute("SELECT coalesce(max(position), 0) + 1 FROM column_").fetchone()[0]
            key = c.execute(
                "INSERT INTO column_ (procedure, settings, title, summary, position) VALUES (?, ?, ?, ?, ?)",
                (procedure, json.dumps(dict(settings)), title, summary, position),
            ).lastrowid
        return Column(_key(key), procedure, dict(settings), title, summary, position)

    def add_pin(self, column_id: int, curve: str, x: float) -> Pin:
        with self._db.writing() as c:
            key = c.execute("INSERT INTO pin (column_id, curve, x) VALUES (?, ?, ?)", (column_id, curve, x)).lastrowid
        return Pin(_key(key), column_id, curve, x)

    def set_deleted(self, table: str, key: int, deleted: bool) -> None:
        """Delete or bring back a unit, subject, column_, run, pin or entry; what is deleted stays until the study is
        closed.
        """
        if table not in ("unit", "subject", "column_", "run", "pin", "entry"):
            raise ValueError(table)
        with self._db.writing() as c:
            c.execute(f"UPDATE {table} SET deleted = ? WHERE id = ?", (deleted, key))

    def add_run(self, run: FinishedRun) -> RunSummary:
        """Keep a finished run: recordings first, each written whole and synced, then everything else in one
        transaction.
        """
        from epidote.study.curve_codec import insert_curve

        if self.read_only:
            raise ReadOnlyError(f"{self.path.name} is read-only ({self.why_read_only}). The run was not saved.")
        files = [(self._keep(recording.signal), recording) for recording in run.recordings]
        with self._db.writing() as c:
            run_id = self._insert_run(c, run)
            for position, ((name, digest), recording) in enumerate(files):
                signal = recording.signal
                stimulus, faults = described_recording(recording)
                c.execute(
                    "INSERT INTO recording (run_id, position, file, rate, channels, frames, sha256, stimulus, faults)"
                    " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    (run_id, position, name, signal.rate, signal.channels, signal.frames, digest, stimulus, faults),
                )
            for curve in run.result.curves:
                insert_curve(c, run_id, curve)
        return self.run(run_id)

    def _insert_run(self, c: sqlite3.Connection, run: FinishedRun) -> int:
        headline = None
        if run.headline is not None:
            headline = run.headline.to_json()
        values = {
            "subject_id": run.subject_id,
            "column_id": run.column_id,
            "procedure": run.procedure,
            "settings": json.dumps(dict(run.settings)),
            "chain": run.chain.model_dump_json(),
            "device": run.device,
            "made": datetime.now(UTC).isoformat(),
            "program": __version__,
            "recomputed_from": run.recomputed_from,
            "cautions": json.dumps([str(caution) for caution in run.result.cautions]),
            "readings": json.dumps([reading.to_json() for reading in run.result.readings]),
            "headline": json.dumps(headline),
            "thumbnail": json.dumps(list(run.thumbnail)),
            "person": self.person,
            "firmware": self._firmware_of(c, run.subject_id),
        }
        names = ", ".join(values)
        places = ", ".join(f":{name}" for name in values)
        return _key(c.execute(f"INSERT INTO run ({names}) VALUES ({places})", values).lastrowid)

    def _firmware_of(self, c: sqlite3.Connection, subject_id: int) -> str:
        """The firmware that a row's unit has now."""
        row = c.execute(
            "SELECT firmware FROM unit JOIN subject ON unit.id = unit_id WHERE subject.id = ?", (subject_id,)
        ).fetchone()
        if row is None:
            return ""
        return str(row[0])

    def _keep(self, signal: Signal) -> tuple[str, str]:
        """Write one recording; its file name and checksum."""
        import hashlib

        from epidote.audio.files.sound_file import encode, is_24_bit

        exact = (
            is_24_bit(signal.samples)
            and signal.channels <= 8
            and float(signal.rate).is_integer()
            and signal.rate <= 655350
        )
        content = encode(signal.samples, signal.rate, "FLAC" if exact else "WAV", "24" if exact else "32f")
        name = f"{datetime.now(UTC):%Y%m%d-%H%M%S}-{os.urandom(4).hex()}.{'flac' if exact else 'wav'}"
        self.folder.write(RECORDINGS, name, content)
        return name, hashlib.sha256(content).hexdigest()

    def room_left(self) -> int:
        """Bytes free on the study's disk."""
        disk = os.statvfs(self.path)
        return disk.f_bavail * disk.f_frsize

    def _empty_into_bin(self) -> None:
        """Move the files of what was deleted into bin/, with what the database knew of it, and only then forget it:
        a kill in between leaves rows that are marked as deleted, which the next closing takes up again.
        """
        gone = (
            "SELECT id FROM run WHERE deleted OR subject_id IN (SELECT id FROM subject WHERE deleted) OR column_id IN"
            " (SELECT id FROM column_ WHERE deleted)"
        )
        with self._db.reading() as c:
            runs = [dict(r) for r in c.execute(f"SELECT * FROM run WHERE id IN ({gone})")]
            # a recording stays while a kept run was recomputed from it
            needed = {
                r[0]
                for r in c.execute(
                    f"SELECT recomputed_from FROM run WHERE recomputed_from IS NOT NULL AND id NOT IN ({gone})"
                )
            }
            runs = [r for r in runs if r["id"] not in needed]
            files = [
                dict(r) for run in runs for r in c.execute("SELECT * FROM recording WHERE run_id = ?", (run["id"],))
            ]
        entries, pictures = self.entries.deleted([r["id"] for r in runs])
        if not runs and not entries:
            return
        day = day_now()
        said = json.dumps({"runs": runs, "recordings": files, "entries": entries}, indent=1)
        self.folder.write(f"{BIN}/{day}", "deleted.json", said.encode())
        for room, name in [*((RECORDINGS, f["file"]) for f in files), *((ATTACHMENTS, name) for name in pictures)]:
            try:
                self.folder.move_to_bin(room, name, day)
            except UnsafeNameError:
                continue  # a foreign study's name that leads elsewhere: its row goes, the file is not this study's
        with self._db.writing() as c:
            c.executemany("DELETE FROM entry WHERE id = ?", [(e["id"],) for e in entries])
            for run in sorted(runs, key=lambda r: -r["id"]):
                c.execute("DELETE FROM curve WHERE run_id = ?", (run["id"],))
                c.execute("DELETE FROM recording WHERE run_id = ?", (run["id"],))
                c.execute("UPDATE run SET recomputed_from = NULL WHERE recomputed_from = ? AND deleted", (run["id"],))
                c.execute("DELETE FROM run WHERE id = ?", (run["id"],))


def _key(value: int | None) -> int:
    assert value is not None
    return value
