"""Questions about a study whose cost does not grow with the units it holds."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

from epidote.study.database import Database
from epidote.study.models import Column, RunSummary, Unit
from epidote.study.rows import Reader, column_from_row, run_from_row, unit_from_row

if TYPE_CHECKING:
    from epidote.study.curve_codec import StoredCurve


@dataclass(frozen=True)
class MeasuredCell:
    """The latest run of a row in a column, with what units are selected by; made: as it is stored."""

    run_id: int
    subject_id: int
    unit_id: int
    serial: str
    firmware: str
    person: str
    made: str

    @property
    def when(self) -> datetime:
        return datetime.fromisoformat(self.made)


class Queries:
    """Of an open study."""

    def __init__(self, database: Database) -> None:
        self._db = database

    def unit_with(self, maker: str, model: str, serial: str) -> Unit | None:
        """Return the unit of a maker, model and serial number; None where there is none."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT * FROM unit WHERE serial = ? AND maker = ? AND model = ? AND NOT deleted ORDER BY id LIMIT 1",
                (serial, maker, model),
            ).fetchall()
        return next(iter(Reader().each("unit", rows, unit_from_row)), None)

    def columns(self) -> tuple[Column, ...]:
        """Return the columns in their order."""
        with self._db.reading() as c:
            rows = c.execute("SELECT * FROM column_ WHERE NOT deleted ORDER BY position").fetchall()
        return tuple(Reader().each("column", rows, column_from_row))

    def column_with(self, procedure: str, settings: Mapping[str, Any]) -> Column | None:
        """Return the column of a procedure with exactly these settings; None where there is none."""
        return next(
            (c for c in self.columns() if c.procedure == procedure and dict(c.settings) == dict(settings)), None
        )

    def latest_run(self, subject_id: int, column_id: int) -> RunSummary | None:
        """Return the latest run of a cell; None where there is none."""
        with self._db.reading() as c:
            row = c.execute(
                "SELECT * FROM run WHERE subject_id = ? AND column_id = ? AND NOT deleted ORDER BY id DESC LIMIT 1",
                (subject_id, column_id),
            ).fetchone()
        return None if row is None else run_from_row(row)

    def baseline_run(self, column_id: int) -> RunSummary | None:
        """Return the latest run of the baseline in a column; None where there is none."""
        with self._db.reading() as c:
            row = c.execute("SELECT id FROM subject WHERE unit_id IS NULL AND NOT deleted ORDER BY position").fetchone()
        return None if row is None else self.latest_run(row[0], column_id)

    def run_with_digest(self, digest: str) -> int | None:
        """Return the number of the run that a batch computed with this digest; None where there is none."""
        with self._db.reading() as c:
            row = c.execute("SELECT id FROM run WHERE digest = ? AND NOT deleted", (digest,)).fetchone()
        return None if row is None else int(row[0])

    def run_ids(self, procedure: str | None = None) -> list[int]:
        """Return the numbers of the latest run of each cell that has recordings of its own, of one procedure or of
        all.
        """
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT max(id) FROM run WHERE NOT deleted AND recomputed_from IS NULL"
                " AND (?1 IS NULL OR procedure = ?1) GROUP BY subject_id, column_id ORDER BY 1",
                (procedure,),
            )
            return [int(r[0]) for r in rows]

    def measured_cells(self, column_id: int) -> list[MeasuredCell]:
        """Return the latest run of every unit's row in a column, in the order in which they were made.

        All of it stands in the index run_of_column and in small tables; no run itself is read.
        """
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT max(run.id), run.subject_id, subject.unit_id, unit.serial, run.firmware, run.person, run.made"
                " FROM run JOIN subject ON subject.id = run.subject_id JOIN unit ON unit.id = subject.unit_id"
                " WHERE run.column_id = ? AND run.deleted = 0 AND NOT subject.deleted"
                " GROUP BY run.subject_id",
                (column_id,),
            ).fetchall()
        cells = [MeasuredCell(*row) for row in rows]
        # those of a study that was merged into this one have later numbers, whenever they were measured
        return sorted(cells, key=lambda cell: (cell.when, cell.run_id))

    def values(self, column_id: int, key: str, channel: int) -> dict[int, tuple[float, str]]:
        """Return value and unit of one reading by run, of every run in a column."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT run_id, value, unit FROM value WHERE column_id = ? AND key = ? AND channel = ?",
                (column_id, key, channel),
            ).fetchall()
        return {row[0]: (row[1], row[2]) for row in rows}

    def value_keys(self, column_id: int) -> list[tuple[str, int]]:
        """Return key and channel of every reading that has a value in a column."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT DISTINCT key, channel FROM value WHERE column_id = ? ORDER BY channel", (column_id,)
            ).fetchall()
        return [(str(row[0]), int(row[1])) for row in rows]

    def curve_keys(self, column_id: int) -> list[tuple[str, int]]:
        """Return key and channel of the curves of a column, as its last run has them."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT key, channel FROM curve WHERE run_id = (SELECT max(id) FROM run WHERE column_id = ? AND deleted"
                " = 0) ORDER BY channel, key",
                (column_id,),
            ).fetchall()
        return [(str(row[0]), int(row[1])) for row in rows]

    def curves_of_column(self, column_id: int, key: str, channel: int) -> Iterator[StoredCurve]:
        """Yield the curve of one key and channel of the latest run of every unit's row; damaged ones are left out."""
        from epidote.study.curve_codec import CurveReader

        with self._db.reading() as c:
            rows: list[sqlite3.Row] = c.execute(
                "SELECT curve.* FROM (SELECT max(run.id) AS latest FROM run JOIN subject ON subject.id = subject_id"
                " WHERE column_id = ? AND NOT run.deleted AND unit_id IS NOT NULL AND NOT subject.deleted"
                " GROUP BY subject_id)"
                " JOIN curve ON curve.run_id = latest AND curve.key = ? AND curve.channel = ? ORDER BY latest",
                (column_id, key, channel),
            ).fetchall()
        reader = CurveReader()
        for row in rows:
            curve = reader.read(row)
            if curve is not None:
                yield curve
