"""Units, rows, columns, runs and pins of a study: read from its database and written to it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from epidote import __version__
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading, finite
from epidote.core.text import visible
from epidote.study.annotations import default_operator
from epidote.study.database import Database
from epidote.study.models import Column, FinishedRun, Overview, Pin, RunSummary, StudyError, Subject, Unit
from epidote.study.rows import (
    Reader,
    column_from_row,
    described_recording,
    entry_from_row,
    pin_from_row,
    run_from_row,
    subject_from_row,
    told_apart,
    unit_from_row,
)
from epidote.study.run_table import READ_AT_ONCE, Cell, RunTable

if TYPE_CHECKING:
    from epidote.core.results.result import Curve

_MOST_PARAMETERS = 500  # of one query
_MANY_ROWS = 500
_OF_THE_CHAIN = {"load", "probe", "rate", "buffer"}  # conditions that change the chain


class Repository:
    """The contents of a study's database. Each change is on disk when its method returns."""

    def __init__(self, path: Path, database: Database) -> None:
        self.path = path
        self._db = database

    @property
    def database(self) -> Database:
        """The database itself, for what reads or writes whole rows."""
        return self._db

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

    def overview(self) -> Overview:
        with self._db.reading() as c:
            read = Reader()
            known = read.each("unit", c.execute("SELECT * FROM unit"), unit_from_row)
            units = {unit.id: unit for unit in told_apart(known)}
            rows = c.execute("SELECT * FROM subject WHERE NOT deleted ORDER BY unit_id IS NOT NULL, position")
            subjects = tuple(read.each("row", rows, lambda r: subject_from_row(r, units)))
            columns = tuple(
                read.each(
                    "column", c.execute("SELECT * FROM column_ WHERE NOT deleted ORDER BY position"), column_from_row
                )
            )
            runs = self._latest_runs(c)
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
        if not isinstance(runs, RunTable):
            read.damaged += [f"run {r.id}" for r in runs.values() if Caution.DAMAGED in r.cautions]
        reference_text = names.get("reference", "")
        if reference_text.isdecimal():
            reference = int(reference_text)
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

    def _latest_runs(self, c: sqlite3.Connection) -> Mapping[Cell, RunSummary]:
        """Return the latest run of each cell, read at once where they are not too many."""
        latest = "SELECT subject_id, column_id, max(id) FROM run WHERE NOT deleted GROUP BY subject_id, column_id"
        ids = {(row[0], row[1]): row[2] for row in c.execute(latest)}
        if len(ids) > READ_AT_ONCE:
            return RunTable(ids, self.runs_by_id)
        runs = {run.id: run for run in self.runs_by_id(list(ids.values()))}
        return {cell: runs[run] for cell, run in ids.items()}

    def runs_by_id(self, ids: Sequence[int]) -> list[RunSummary]:
        """Return runs by their numbers, in the order of these."""
        with self._db.reading() as c:
            found = [
                run_from_row(row)
                for begin in range(0, len(ids), _MOST_PARAMETERS)
                for row in c.execute(
                    f"SELECT * FROM run WHERE id IN ({','.join('?' * len(ids[begin : begin + _MOST_PARAMETERS]))})",
                    ids[begin : begin + _MOST_PARAMETERS],
                )
            ]
        by_id = {run.id: run for run in found}
        return [by_id[number] for number in ids if number in by_id]

    def units(self) -> tuple[Unit, ...]:
        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM unit WHERE NOT deleted ORDER BY id").fetchall()
        return tuple(told_apart(Reader().each("unit", rows, unit_from_row)))

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
        """Return a run's curves, all or those of some keys; what is damaged is left out, see ``checked_curves``."""
        return self.checked_curves(run_id, keys)[0]

    def checked_curves(
        self, run_id: int, keys: Iterable[str] | None = None
    ) -> tuple[tuple[Curve, ...], tuple[str, ...]]:
        """Return the curves, and the keys of those that cannot be shown, since what is stored of them is no curve."""
        from epidote.study.curve_codec import curve_from_row  # NumPy is not needed before the first graph

        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM curve WHERE run_id = ?", (run_id,)).fetchall()
        if keys is None:
            selected_keys = None
        else:
            selected_keys = set(keys)
        decoded = [
            (str(r["key"]), curve_from_row(r)) for r in rows if selected_keys is None or r["key"] in selected_keys
        ]
        damaged = dict.fromkeys(key for key, curve in decoded if curve is None)
        return tuple(curve for _, curve in decoded if curve is not None), tuple(damaged)

    def add_unit(self, maker: str, model: str, serial: str = "", firmware: str = "", notes: str = "") -> Unit:
        if not (maker.strip() or model.strip()):
            raise StudyError("A unit needs a manufacturer or a model. Nothing was added; enter one of them.")
        values = (*(visible(t.strip()) for t in (maker, model, serial, firmware)), visible(notes, lines=True))
        with self._db.writing() as c:
            key = c.execute(
                "INSERT INTO unit (maker, model, serial, firmware, notes) VALUES (?, ?, ?, ?, ?)", values
            ).lastrowid
        maker, model, serial, firmware, notes = values
        return Unit(_key(key), maker, model, serial, firmware, notes)

    def update_unit(self, unit: Unit) -> None:
        with self._db.writing() as c:
            c.execute(
                "UPDATE unit SET maker = ?, model = ?, serial = ?, firmware = ?, notes = ? WHERE id = ?",
                (unit.maker, unit.model, unit.serial, unit.firmware, unit.notes, unit.id),
            )

    def add_subject(
        self, unit: Unit | None, conditions: Mapping[str, str], device: str = "", after: int | None = None
    ) -> Subject:
        """Return a new row, at the end or after another one.

        Raises StudyError when the same unit stands there under the same conditions.
        """
        self._require_fitting(conditions)
        existing = self.row_of(unit, conditions)
        if existing is not None:
            raise StudyError(
                f"Row “{existing.full_name}” already exists. Change a condition, or measure the existing row again."
            )
        with self._db.writing() as c:
            position = self._position_after(c, after)
            colour = 0
            if unit:
                colour = _free_colour(c)
            key = c.execute(
                "INSERT INTO subject (unit_id, conditions, device, colour, position) VALUES (?, ?, ?, ?, ?)",
                (unit.id if unit else None, json.dumps(dict(conditions)), device, colour, position),
            ).lastrowid
        return Subject(_key(key), unit, dict(conditions), device, colour, position)

    def row_of(self, unit: Unit | None, conditions: Mapping[str, str]) -> Subject | None:
        """Return the row of a unit (None: of the baseline) under exactly these conditions; None where there is
        none.
        """
        key = None
        units = {}
        if unit is not None:
            key, units = unit.id, {unit.id: unit}
        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM subject WHERE unit_id IS ? AND NOT deleted ORDER BY position", (key,))
            subjects = Reader().each("row", rows.fetchall(), lambda r: subject_from_row(r, units))
        return next((s for s in subjects if dict(s.conditions) == dict(conditions)), None)

    @staticmethod
    def _position_after(c: sqlite3.Connection, after: int | None) -> float:
        """Return the position of a new row: at the end, or behind another one."""
        last = c.execute("SELECT coalesce(max(position), 0) FROM subject").fetchone()[0]
        if after is None:
            return float(last) + 1
        here = c.execute("SELECT position FROM subject WHERE id = ? AND NOT deleted", (after,)).fetchone()
        if here is None:
            return float(last) + 1
        following = c.execute(
            "SELECT min(position) FROM subject WHERE position > ? AND NOT deleted", (here[0],)
        ).fetchone()[0]
        if following is None:
            following = here[0] + 2
        return (float(here[0]) + float(following)) / 2

    def _require_fitting(self, conditions: Mapping[str, str]) -> None:
        """Raise SettingError for conditions that make a chain that cannot be, such as a probe of 0.5:1."""
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

    def title_columns(self, procedure: str) -> None:
        """Let the titles of a procedure's columns name the settings in which they differ."""
        from epidote.study.titles import title_columns  # loads the procedures, which a study is opened without

        with self._db.writing() as c:
            title_columns(c, procedure)

    def move_column(self, column_id: int, position: float) -> None:
        """Put a column at another position; columns stand in the order of their positions."""
        with self._db.writing() as c:
            c.execute("UPDATE column_ SET position = ? WHERE id = ?", (position, column_id))

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

    def _insert_run(self, c: sqlite3.Connection, run: FinishedRun) -> int:
        values = self._run_values(c, run)
        names = ", ".join(values)
        places = ", ".join(f":{name}" for name in values)
        return _key(c.execute(f"INSERT INTO run ({names}) VALUES ({places})", values).lastrowid)

    def _run_values(self, c: sqlite3.Connection, run: FinishedRun) -> dict[str, Any]:
        """Return a run's values by the names of the table's columns."""
        headline = None
        if run.headline is not None:
            headline = run.headline.to_json()
        return {
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
            "digest": run.digest,
        }

    def _firmware_of(self, c: sqlite3.Connection, subject_id: int) -> str:
        """Return the firmware that a row's unit has now."""
        row = c.execute(
            "SELECT firmware FROM unit JOIN subject ON unit.id = unit_id WHERE subject.id = ?", (subject_id,)
        ).fetchone()
        if row is None:
            return ""
        return str(row[0])

    def insert_run(self, run: FinishedRun, files: list[tuple[str, str]]) -> RunSummary:
        """Keep a run in one transaction; ``files``: name and digest of each of its recordings."""
        with self._db.writing() as c:
            run_id = self._insert_run(c, run)
            self._insert_content(c, run_id, run, files)
        return self.run(run_id)

    def fill_run(self, run_id: int, run: FinishedRun, files: list[tuple[str, str]]) -> RunSummary:
        """Give a run that was kept without recordings its content, in one transaction; its number stays."""
        with self._db.writing() as c:
            values = self._run_values(c, run)
            places = ", ".join(f"{name} = :{name}" for name in values)
            c.execute(f"UPDATE run SET {places} WHERE id = :id", {**values, "id": run_id})
            self._insert_content(c, run_id, run, files)
        return self.run(run_id)

    def _insert_content(
        self, c: sqlite3.Connection, run_id: int, run: FinishedRun, files: list[tuple[str, str]]
    ) -> None:
        """Keep a run's recordings, as far as the database knows of them, and its curves."""
        from epidote.study.curve_codec import insert_curve

        for position, ((name, digest), recording) in enumerate(zip(files, run.recordings, strict=True)):
            signal = recording.signal
            stimulus, faults = described_recording(recording)
            c.execute(
                "INSERT INTO recording (run_id, position, file, rate, channels, frames, sha256, stimulus, faults)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (run_id, position, name, signal.rate, signal.channels, signal.frames, digest, stimulus, faults),
            )
        for curve in run.result.curves:
            insert_curve(c, run_id, curve)
        insert_values(c, run_id, run.column_id, run.result.readings)

    def recording_rows(self, run_id: int) -> list[sqlite3.Row]:
        """Return the rows of a run's recordings, in order; of a recomputed run those of the run it came from."""
        source = self.run(run_id).source
        with self._db.reading() as c:
            return c.execute("SELECT * FROM recording WHERE run_id = ? ORDER BY position", (source,)).fetchall()

    def has_baseline_row(self) -> bool:
        with self._db.reading() as c:
            return c.execute("SELECT 1 FROM subject WHERE unit_id IS NULL AND NOT deleted").fetchone() is not None


def _free_colour(c: sqlite3.Connection) -> int:
    """Return the number of a colour for a new row: the first that is free, in a long list simply the next."""
    highest = c.execute("SELECT max(id) FROM subject").fetchone()[0] or 0
    if highest > _MANY_ROWS:
        return int(highest)
    used = {r[0] for r in c.execute("SELECT colour FROM subject WHERE unit_id IS NOT NULL AND NOT deleted")}
    return next(i for i in range(len(used) + 1) if i not in used)


def insert_values(c: sqlite3.Connection, run_id: int, column_id: int, readings: Iterable[Reading]) -> None:
    """Keep the values of a run's readings where one of them can be read over many units at once."""
    rows = [
        (column_id, reading.key, reading.channel, run_id, value, reading.unit)
        for reading in readings
        if (value := finite(reading.value)) is not None
    ]
    c.executemany("INSERT OR REPLACE INTO value VALUES (?, ?, ?, ?, ?, ?)", rows)


def _key(value: int | None) -> int:
    assert value is not None
    return value
