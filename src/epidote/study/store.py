"""A study on disk: open, change, close. Each change is on disk when its method returns."""

from __future__ import annotations

import fcntl
import json
import os
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from epidote import __version__
from epidote.study.database import Database
from epidote.study.entries import Entries, entry_from_row, usual_person
from epidote.study.models import Column, Overview, Pin, ReadOnlyError, RunSummary, StudyError, Subject, Unit

if TYPE_CHECKING:
    from epidote.core.chain import Chain
    from epidote.core.result import Curve, Result
    from epidote.core.signal import Recording

SUFFIX = ".epidote"
DATABASE = "study.sqlite"
_README = """This folder is a study made with Epidote. Keep it together.

study.sqlite   units, subjects, runs with settings, readings and curves (SQLite)
recordings/    one audio file per recording: FLAC (24 bit) or WAV (32-bit float)
attachments/   pictures
bin/           deleted items, by date; may be emptied at any time
The file formats are described in docs/formats.md of Epidote.
"""


def create_study(path: Path, title: str | None = None) -> Study:
    """Make a new study folder. Raises StudyError when there is something already or it cannot be made."""
    path = path.absolute()
    if path.suffix != SUFFIX:
        path = path.with_name(path.name + SUFFIX)
    if path.exists():
        raise StudyError(f"{path} already exists. Nothing was changed; choose another name.")
    try:
        (path / "recordings").mkdir(parents=True)
        (path / "attachments").mkdir()
        (path / "README.txt").write_text(_README)
    except OSError as error:
        raise StudyError(f"{path} could not be created: {error.strerror}. Choose another folder.") from error
    study = Study(path, create=True)
    study.set_setting("title", title or path.stem)
    study.add_subject(None, {})
    return study


class Study:
    """An open study. ``read_only`` says whether another process has it open for changes, or the folder cannot be written."""

    def __init__(self, path: Path | str, *, create: bool = False) -> None:
        self.path = Path(path).absolute()
        self._closed = False
        if not create and not self.path.is_dir():
            raise StudyError(f"{path} does not exist. Select a study folder ending in {SUFFIX}.")
        if not create and not (self.path / DATABASE).is_file():
            raise StudyError(f"{path} is not a study: {DATABASE} is missing. Select a study folder ending in {SUFFIX}.")
        self._lock_file, self.why_read_only = self._locked()
        try:
            self._db = Database(self.path / DATABASE, read_only=self.read_only, create=create)
        except StudyError:
            self._unlock()
            raise
        self.entries = Entries(self._db, self.path / "attachments")
        if not self.read_only:
            self._sweep_leftovers()

    @property
    def read_only(self) -> bool:
        return self.why_read_only != ""

    def _locked(self) -> tuple[IO[str] | None, str]:
        """The lock of the one process that may write; a reason when it cannot be had. The kernel frees it with the process."""
        if not os.access(self.path, os.W_OK):
            return None, "its folder is write-protected"
        file = (self.path / ".lock").open("w")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.close()
            return None, "it is already open in another window or process"
        return file, ""

    def _unlock(self) -> None:
        if self._lock_file is not None:
            self._lock_file.close()
            self._lock_file = None

    def _sweep_leftovers(self) -> None:
        """Half-written recordings, and recordings of runs that were never finished, as a kill leaves them."""
        with self._db.reading() as c:
            known = {row[0] for row in c.execute("SELECT file FROM recording")}
        for file in (self.path / "recordings").glob("*"):
            if file.name not in known and file.is_file():
                file.unlink(missing_ok=True)
        for file in (self.path / "attachments").glob("*.part"):
            file.unlink(missing_ok=True)

    def close(self) -> None:
        """Close; what was deleted goes to the bin now. Closing again does nothing."""
        if self._closed:
            return
        self._closed = True
        if not self.read_only:
            self._empty_into_bin()
        self._db.close()
        self._unlock()

    # -- settings of the study ----------------------------------------------------------------------------------------------

    def setting(self, name: str, default: str = "") -> str:
        with self._db.reading() as c:
            row = c.execute("SELECT value FROM setting WHERE name = ?", (name,)).fetchone()
        return row[0] if row else default

    def set_setting(self, name: str, value: str) -> None:
        with self._db.writing() as c:
            c.execute("INSERT INTO setting VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", (name, value))

    @property
    def person(self) -> str:
        """Who measures: as the study was told, else as the system knows."""
        return self.setting("person") or usual_person()

    @property
    def chain_toml(self) -> str:
        """The chain that new runs use, in its TOML form; empty when none was chosen."""
        return self.setting("chain")

    # -- reading the matrix -------------------------------------------------------------------------------------------------

    def overview(self) -> Overview:
        with self._db.reading() as c:
            units = {r["id"]: _unit(r) for r in c.execute("SELECT * FROM unit")}
            subjects = tuple(
                _subject(r, units) for r in c.execute("SELECT * FROM subject WHERE NOT deleted ORDER BY unit_id IS NOT NULL, position")
            )
            columns = tuple(_column(r) for r in c.execute("SELECT * FROM column_ WHERE NOT deleted ORDER BY position"))
            latest = "SELECT * FROM run WHERE id IN (SELECT max(id) FROM run WHERE NOT deleted GROUP BY subject_id, column_id)"
            runs = {(r["subject_id"], r["column_id"]): _run(r) for r in c.execute(latest)}
            pins = tuple(
                Pin(r["id"], r["column_id"], r["curve"], r["x"]) for r in c.execute("SELECT * FROM pin WHERE NOT deleted ORDER BY x")
            )
            names = dict(c.execute("SELECT name, value FROM setting").fetchall())
            counted = "SELECT subject_id, column_id, count(*) FROM run WHERE NOT deleted AND recomputed_from IS NULL GROUP BY subject_id, column_id"
            repeats = {(r[0], r[1]): r[2] for r in c.execute(counted)}
            entries = tuple(entry_from_row(r) for r in c.execute("SELECT * FROM entry WHERE NOT deleted ORDER BY id"))
        reference = int(names["reference"]) if names.get("reference") else None
        return Overview(names.get("title", self.path.stem), subjects, columns, runs, pins, reference, entries, repeats, names)

    def units(self) -> tuple[Unit, ...]:
        with self._db.reading() as c:
            return tuple(_unit(r) for r in c.execute("SELECT * FROM unit WHERE NOT deleted ORDER BY id"))

    def run(self, run_id: int) -> RunSummary:
        with self._db.reading() as c:
            row = c.execute("SELECT * FROM run WHERE id = ?", (run_id,)).fetchone()
        if row is None:
            raise StudyError(f"Run {run_id} does not exist in {self.path.name}.")
        return _run(row)

    def runs_of(self, subject_id: int, column_id: int) -> tuple[RunSummary, ...]:
        """Every run of a cell, latest first."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT * FROM run WHERE subject_id = ? AND column_id = ? AND NOT deleted ORDER BY id DESC", (subject_id, column_id)
            )
            return tuple(_run(r) for r in rows)

    def curves(self, run_id: int, keys: Iterable[str] | None = None) -> tuple[Curve, ...]:
        from epidote.study.curves import curve_from_row  # NumPy is not needed before the first graph

        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM curve WHERE run_id = ?", (run_id,)).fetchall()
        wanted = None if keys is None else set(keys)
        return tuple(curve_from_row(r) for r in rows if wanted is None or r["key"] in wanted)

    def recordings(self, run_id: int) -> tuple[Recording, ...]:
        """The kept recordings of a run (of the run it was recomputed from). Raises StudyError when one is missing or changed."""
        import hashlib

        from epidote.audio.files import read_sound
        from epidote.core.signal import Recording, Stimulus

        source = self.run(run_id).recomputed_from or run_id
        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM recording WHERE run_id = ? ORDER BY position", (source,)).fetchall()
        result = []
        for row in rows:
            file = self.path / "recordings" / row["file"]
            if not file.is_file() or hashlib.sha256(file.read_bytes()).hexdigest() != row["sha256"]:
                raise StudyError(
                    f"The recording {row['file']} is missing or was changed outside Epidote. The run's results are unchanged; restore the file from a backup."
                )
            stimulus = Stimulus.from_json(json.loads(row["stimulus"])) if row["stimulus"] else None
            result.append(Recording(read_sound(file), stimulus, tuple(json.loads(row["faults"]))))
        return tuple(result)

    # -- changing it --------------------------------------------------------------------------------------------------------

    def add_unit(self, maker: str, model: str, serial: str = "", firmware: str = "", notes: str = "") -> Unit:
        if not (maker.strip() or model.strip()):
            raise StudyError("A unit needs a manufacturer or a model. Nothing was added.")
        values = (maker.strip(), model.strip(), serial.strip(), firmware.strip(), notes)
        with self._db.writing() as c:
            key = c.execute("INSERT INTO unit (maker, model, serial, firmware, notes) VALUES (?, ?, ?, ?, ?)", values).lastrowid
        return Unit(_key(key), *values)

    def update_unit(self, unit: Unit) -> None:
        with self._db.writing() as c:
            c.execute("UPDATE unit SET maker = ?, model = ?, serial = ?, firmware = ?, notes = ? WHERE id = ?",
                      (unit.maker, unit.model, unit.serial, unit.firmware, unit.notes, unit.id))  # fmt: skip

    def add_subject(self, unit: Unit | None, conditions: Mapping[str, str], device: str = "", after: int | None = None) -> Subject:
        """A new row, at the end or after another one. Raises StudyError when the same unit stands there under the same conditions."""
        rows = self.overview().subjects
        for other in rows:
            if (other.unit.id if other.unit else None) == (unit.id if unit else None) and dict(other.conditions) == dict(conditions):
                raise StudyError(f"Row “{other.full_name}” already exists. Change a condition, or measure the existing row again.")
        places = [s.position for s in rows]
        position = max(places, default=0.0) + 1
        if after is not None:
            here = next((s.position for s in rows if s.id == after), position)
            position = (here + min((p for p in places if p > here), default=here + 2)) / 2
        with self._db.writing() as c:
            used = {r[0] for r in c.execute("SELECT colour FROM subject WHERE unit_id IS NOT NULL AND NOT deleted")}
            colour = next(i for i in range(len(used) + 1) if i not in used) if unit else 0
            key = c.execute("INSERT INTO subject (unit_id, conditions, device, colour, position) VALUES (?, ?, ?, ?, ?)",
                            (unit.id if unit else None, json.dumps(dict(conditions)), device, colour, position)).lastrowid  # fmt: skip
        return Subject(_key(key), unit, dict(conditions), device, colour, position)

    def update_subject(self, subject: Subject) -> None:
        with self._db.writing() as c:
            c.execute("UPDATE subject SET conditions = ?, device = ?, colour = ?, position = ?, shown = ? WHERE id = ?",
                      (json.dumps(dict(subject.conditions)), subject.device, subject.colour, subject.position, subject.shown, subject.id))  # fmt: skip

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
        """Delete or bring back a unit, subject, column_, run, pin or entry; what is deleted stays until the study is closed."""
        if table not in ("unit", "subject", "column_", "run", "pin", "entry"):
            raise ValueError(table)
        with self._db.writing() as c:
            c.execute(f"UPDATE {table} SET deleted = ? WHERE id = ?", (deleted, key))

    def add_run(
        self, subject_id: int, column_id: int, procedure: str, settings: Mapping[str, Any], chain: Chain, device: str, result: Result,
        headline: Mapping[str, Any] | None, thumbnail: Sequence[tuple[float, float]], recordings: Sequence[Recording], recomputed_from: int | None = None,
    ) -> RunSummary:  # fmt: skip
        """Keep a finished run: recordings first, each written whole and synced, then everything else in one transaction."""
        from epidote.study.curves import insert_curve

        if self.read_only:
            raise ReadOnlyError(f"{self.path.name} is read-only ({self.why_read_only}). The run was not saved.")
        files = [(self._keep(recording), recording) for recording in recordings]
        made = datetime.now(UTC)
        with self._db.writing() as c:
            key = c.execute(
                "INSERT INTO run (subject_id, column_id, procedure, settings, chain, device, made, program, recomputed_from, cautions, readings, "
                "headline, thumbnail, firmware, person) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "
                "coalesce((SELECT firmware FROM unit JOIN subject ON unit.id = unit_id WHERE subject.id = ?), ''), ?)",
                (subject_id, column_id, procedure, json.dumps(dict(settings)), chain.model_dump_json(), device, made.isoformat(), __version__,
                 recomputed_from, json.dumps([str(x) for x in result.cautions]), json.dumps([r.to_json() for r in result.readings]),
                 json.dumps(headline), json.dumps(list(thumbnail)), subject_id, self.person),
            ).lastrowid  # fmt: skip
            run_id = _key(key)
            for position, ((name, digest), r) in enumerate(files):
                c.execute(
                    "INSERT INTO recording (run_id, position, file, rate, channels, frames, sha256, stimulus, faults) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    (run_id, position, name, r.signal.rate, r.signal.channels, r.signal.frames, digest,
                     json.dumps(r.stimulus.to_json()) if r.stimulus else "", json.dumps(list(r.faults))),
                )  # fmt: skip
            for curve in result.curves:
                insert_curve(c, run_id, curve)
        return self.run(run_id)

    def _keep(self, recording: Recording) -> tuple[str, str]:
        """Write one recording; its file name and checksum."""
        import hashlib

        from epidote.audio.files import encode, is_24_bit, write_whole

        signal = recording.signal
        exact = is_24_bit(signal.samples) and signal.channels <= 8 and float(signal.rate).is_integer() and signal.rate <= 655350
        content = encode(signal.samples, signal.rate, "FLAC" if exact else "WAV", "24" if exact else "32f")
        name = f"{datetime.now(UTC):%Y%m%d-%H%M%S}-{os.urandom(4).hex()}.{'flac' if exact else 'wav'}"
        write_whole(self.path / "recordings" / name, content)
        return name, hashlib.sha256(content).hexdigest()

    def room_left(self) -> int:
        """Bytes free on the study's disk."""
        disk = os.statvfs(self.path)
        return disk.f_bavail * disk.f_frsize

    def _empty_into_bin(self) -> None:
        """Move the recordings of deleted runs into bin/, with what the database knew of them, and forget them."""
        gone = "SELECT id FROM run WHERE deleted OR subject_id IN (SELECT id FROM subject WHERE deleted) OR column_id IN (SELECT id FROM column_ WHERE deleted)"
        with self._db.reading() as c:
            runs = [dict(r) for r in c.execute(f"SELECT * FROM run WHERE id IN ({gone})")]
            # a recording stays while a kept run was recomputed from it
            needed = {r[0] for r in c.execute(f"SELECT recomputed_from FROM run WHERE recomputed_from IS NOT NULL AND id NOT IN ({gone})")}
            runs = [r for r in runs if r["id"] not in needed]
            files = [dict(r) for run in runs for r in c.execute("SELECT * FROM recording WHERE run_id = ?", (run["id"],))]
        gone_entries, pictures = self.entries.forget_deleted([r["id"] for r in runs])
        if not runs and not gone_entries:
            return
        folder = self.path / "bin" / f"{datetime.now(UTC):%Y-%m-%d %H%M%S}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "deleted.json").write_text(json.dumps({"runs": runs, "recordings": files, "entries": gone_entries}, indent=1))
        with self._db.writing() as c:
            for run in sorted(runs, key=lambda r: -r["id"]):
                c.execute("DELETE FROM curve WHERE run_id = ?", (run["id"],))
                c.execute("DELETE FROM recording WHERE run_id = ?", (run["id"],))
                c.execute("UPDATE run SET recomputed_from = NULL WHERE recomputed_from = ? AND deleted", (run["id"],))
                c.execute("DELETE FROM run WHERE id = ?", (run["id"],))
        for source in (*(self.path / "recordings" / f["file"] for f in files), *pictures):
            if source.exists():
                source.rename(folder / source.name)


def _key(value: int | None) -> int:
    assert value is not None
    return value


def _unit(row: Any) -> Unit:
    return Unit(row["id"], row["maker"], row["model"], row["serial"], row["firmware"], row["notes"])


def _subject(row: Any, units: Mapping[int, Unit]) -> Subject:
    unit = units[row["unit_id"]] if row["unit_id"] is not None else None
    return Subject(row["id"], unit, json.loads(row["conditions"]), row["device"], row["colour"], row["position"], bool(row["shown"]))


def _column(row: Any) -> Column:
    return Column(row["id"], row["procedure"], json.loads(row["settings"]), row["title"], row["summary"], row["position"])


def _run(row: Any) -> RunSummary:
    return RunSummary(
        row["id"], row["subject_id"], row["column_id"], row["procedure"], json.loads(row["settings"]), row["chain"], row["device"],
        datetime.fromisoformat(row["made"]), row["program"], row["recomputed_from"], tuple(json.loads(row["cautions"])),
        row["readings"], json.loads(row["headline"]), row["thumbnail"], row["firmware"], row["person"],
    )  # fmt: skip
