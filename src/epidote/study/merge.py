"""Studies of several benches put together: units by maker, model and serial, nothing twice.

A run is known again by what was played, when it was made, and its recordings. Runs keep the chain they were measured
with; the chain that new runs use stays that of the study that is merged into.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from epidote.study.folder import ATTACHMENTS, RECORDINGS
from epidote.study.models import Entry, ReadOnlyError, StudyError
from epidote.study.passes import COLUMNS as PASS_COLUMNS
from epidote.study.repository import insert_values
from epidote.study.store import Study
from epidote.study.stored_json import readings_from_json

_MOST_BYTES = 8 * 1024**3
_RUN_COLUMNS = (
    *("procedure", "settings", "chain", "device", "made", "program", "cautions", "readings", "headline", "thumbnail"),
    *("firmware", "person", "digest"),
)
_RECORDING_COLUMNS = ("position", "file", "rate", "channels", "frames", "sha256", "stimulus", "faults")
_CURVE_COLUMNS = ("key", "channel", "x_unit", "y_unit", "points", "x_first", "x_step", "x", "y", "floor", "meta")


@dataclass
class MergeReport:
    """How many were added; known: runs that were there already; conflicts: sentences about what differs."""

    units: int = 0
    rows: int = 0
    columns: int = 0
    runs: int = 0
    known: int = 0
    passes: int = 0
    entries: int = 0
    conflicts: list[str] = field(default_factory=list)


def merge_study(into: Study, source: Path, cancelled: Callable[[], bool] = lambda: False) -> MergeReport:
    """Add what another study holds. Raises StudyError for a study itself, or one that cannot be read or written.

    Each run is added whole or not at all: repeated after a failure, merging goes on where it ended.
    """
    if into.read_only:
        raise ReadOnlyError(f"{into.path.name} is read-only ({into.why_read_only}). Nothing was added; close it there.")
    if source.exists() and source.resolve() == into.path.resolve():
        raise StudyError(f"{source.name} cannot be merged into itself. Nothing was changed; select another study.")
    with Study(source) as other:
        return _Merge(into, other, cancelled).run()


class _Merge:
    def __init__(self, into: Study, other: Study, cancelled: Callable[[], bool]) -> None:
        self._into, self._from, self._cancelled = into, other, cancelled
        self.report = MergeReport()
        self._units: dict[int, int] = {}
        self._rows: dict[int, int] = {}
        self._columns: dict[int, int] = {}
        self._runs: dict[int, int] = {}

    def run(self) -> MergeReport:
        self._chain()
        self._merge_units()
        self._merge_rows()
        self._merge_columns()
        for run in self._all("SELECT * FROM run WHERE NOT deleted ORDER BY id"):
            if self._cancelled():
                break
            self._merge_run(run)
        self._merge_passes()
        self._merge_entries()
        return self.report

    def _all(self, query: str, *parameters: object) -> list[dict[str, Any]]:
        with self._from.database.reading() as c:
            return [dict(row) for row in c.execute(query, parameters)]

    def _chain(self) -> None:
        ours, theirs = self._into.chain_toml, self._from.chain_toml
        if theirs and not ours:
            self._into.set_setting("chain", theirs)
        elif theirs and ours != theirs:
            self.report.conflicts.append(
                f"{self._from.path.name} has another chain. Its runs keep the chain they were measured with; new runs"
                f" use that of {self._into.path.name}."
            )

    def _merge_units(self) -> None:
        for unit in self._from.units():
            known = self._into.queries.unit_with(unit.maker, unit.model, unit.serial)
            if known is None:
                known = self._into.add_unit(unit.maker, unit.model, unit.serial, unit.firmware, unit.notes)
                self.report.units += 1
            elif unit.firmware != known.firmware:
                self.report.conflicts.append(
                    f"{unit.name} {unit.serial} has firmware “{unit.firmware}” in {self._from.path.name} and"
                    f" “{known.firmware}” here; the present entry was kept. Each run keeps its own."
                )
            self._units[unit.id] = known.id

    def _merge_rows(self) -> None:
        ours = {unit.id: unit for unit in self._into.units()}
        for subject in self._from.overview().subjects:
            if subject.unit is not None and subject.unit.id not in self._units:
                continue
            unit = ours[self._units[subject.unit.id]] if subject.unit is not None else None
            row = self._into.row_of(unit, subject.conditions)
            if row is None and unit is None:
                row = next((s for s in self._into.overview().subjects if s.is_baseline), None)
            if row is None:
                row = self._into.add_subject(unit, subject.conditions, subject.device)
                self.report.rows += 1
            self._rows[subject.id] = row.id

    def _merge_columns(self) -> None:
        for column in self._from.queries.columns():
            known = self._into.queries.column_with(column.procedure, column.settings)
            if known is None:
                known = self._into.add_column(column.procedure, column.settings, column.title, column.summary)
                self._into.title_columns(column.procedure)
                self.report.columns += 1
            self._columns[column.id] = known.id

    def _merge_run(self, run: dict[str, Any]) -> None:
        """Add a run with its recordings and curves, unless it is here."""
        if run["subject_id"] not in self._rows or run["column_id"] not in self._columns:
            return
        row, column = self._rows[run["subject_id"]], self._columns[run["column_id"]]
        with self._into.database.reading() as c:
            known = c.execute(
                "SELECT id, readings FROM run WHERE subject_id = ? AND column_id = ? AND made = ? AND procedure = ?",
                (row, column, run["made"], run["procedure"]),
            ).fetchone()
        if known is not None:
            self._runs[run["id"]] = known["id"]
            self.report.known += 1
            if known["readings"] != run["readings"]:
                self.report.conflicts.append(
                    f"Run {run['id']} of {self._from.path.name} is here as run {known['id']} with other readings; the"
                    " present ones were kept."
                )
            return
        recordings = self._all("SELECT * FROM recording WHERE run_id = ? ORDER BY position", run["id"])
        names = [self._copied(one) for one in recordings]
        source = self._runs.get(run["recomputed_from"]) if run["recomputed_from"] is not None else None
        values = {name: run[name] for name in _RUN_COLUMNS}
        values |= {"subject_id": row, "column_id": column, "recomputed_from": source}
        curves = self._all("SELECT * FROM curve WHERE run_id = ?", run["id"])
        with self._into.database.writing() as c:
            new = _insert(c, "run", values)
            for one, name in zip(recordings, names, strict=True):
                _insert(c, "recording", {**{k: one[k] for k in _RECORDING_COLUMNS}, "file": name, "run_id": new})
            for curve in curves:
                _insert(c, "curve", {**{k: curve[k] for k in _CURVE_COLUMNS}, "run_id": new})
            insert_values(c, new, column, readings_from_json(run["readings"]))
        self._runs[run["id"]] = new
        self.report.runs += 1

    def _copied(self, recording: dict[str, Any]) -> str:
        """Copy a recording's file; return its name here, which is another one where that is taken."""
        name = str(recording["file"])
        content = self._from.folder.read(RECORDINGS, name, _MOST_BYTES)
        target = name
        number = 1
        while self._into.folder.has(RECORDINGS, target):
            number += 1
            target = f"{number}-{name}"
        self._into.folder.write(RECORDINGS, target, content)
        return target

    def _merge_passes(self) -> None:
        for one in self._all("SELECT * FROM pass WHERE NOT deleted ORDER BY id"):
            if one["subject_id"] not in self._rows:
                continue
            row = self._rows[one["subject_id"]]
            with self._into.database.reading() as c:
                known = c.execute(
                    "SELECT 1 FROM pass WHERE routine = ? AND serial = ? AND begun = ?",
                    (one["routine"], one["serial"], one["begun"]),
                ).fetchone()
            if known is None:
                values = {name: one[name] for name in PASS_COLUMNS} | {"subject_id": row}
                with self._into.database.writing() as c:
                    _insert(c, "pass", values)
                self.report.passes += 1

    def _merge_entries(self) -> None:
        """Add claims, limits, notes, routines and pictures that are not here word for word."""
        entries = self._all("SELECT * FROM entry WHERE NOT deleted ORDER BY id")
        kinds = {one["kind"] for one in entries}
        read = {entry.id: entry for kind in kinds for entry in self._from.entries.all(kind)}
        for one in entries:
            owner = {
                "unit_id": self._units.get(one["unit_id"]),
                "subject_id": self._rows.get(one["subject_id"]),
                "run_id": self._runs.get(one["run_id"]),
                "column_id": self._columns.get(one["column_id"]),
            }
            if any(one[name] is not None and owner[name] is None for name in owner):
                continue
            with self._into.database.reading() as c:
                known = c.execute(
                    "SELECT 1 FROM entry WHERE kind = ? AND data = ? AND unit_id IS ? AND subject_id IS ? AND run_id IS"
                    " ? AND column_id IS ?",
                    (one["kind"], one["data"], *owner.values()),
                ).fetchone()
            if known is not None:
                continue
            self._copy_picture(read.get(one["id"]))
            values = {name: one[name] for name in ("kind", "data", "made", "person")} | owner
            with self._into.database.writing() as c:
                _insert(c, "entry", values)
            self.report.entries += 1

    def _copy_picture(self, stored: Entry | None) -> None:
        """Copy the file of a picture; its name is the digest of its content."""
        if stored is None or not stored.file or self._into.folder.has(ATTACHMENTS, stored.file):
            return
        content = self._from.entries.read(stored)
        if content:
            self._into.folder.write(ATTACHMENTS, stored.file, content)


def _insert(c: sqlite3.Connection, table: str, values: dict[str, Any]) -> int:
    names = ", ".join(values)
    places = ", ".join("?" * len(values))
    key = c.execute(f"INSERT INTO {table} ({names}) VALUES ({places})", tuple(values.values())).lastrowid
    return int(key or 0)
