"""Passes of routines over units, as a study keeps them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from epidote.core.quantities.outside import load_json
from epidote.core.text import visible
from epidote.study.database import Database
from epidote.study.rows import Reader

COLUMNS = (
    *("routine", "digest", "subject_id", "serial", "begun", "ended"),
    *("verdict", "operator", "shift", "firmware", "words", "steps"),
)


@dataclass(frozen=True)
class RoutinePass:
    """One pass over a unit; steps: of each its procedure, verdict, margin, unit, where, and its runs
    (docs/formats.md).
    """

    routine: str
    digest: str
    subject_id: int
    serial: str
    begun: datetime
    ended: datetime
    verdict: str
    operator: str = ""
    shift: str = ""
    firmware: str = ""
    words: str = ""
    steps: Sequence[Mapping[str, Any]] = field(default_factory=tuple)
    id: int = 0

    @property
    def failed_step(self) -> Mapping[str, Any] | None:
        """The first step that has the verdict of the whole pass, where that is not good."""
        if self.verdict == "passed":
            return None
        return next((step for step in self.steps if step.get("verdict") == self.verdict), None)


@dataclass(frozen=True)
class PassCounts:
    """Of a routine: units, how many passed at their first pass and at their last one, and the first verdicts."""

    units: int
    first_passed: int
    last_passed: int
    by_verdict: Mapping[str, int]


class Passes:
    """The passes of an open study."""

    def __init__(self, database: Database) -> None:
        self._db = database

    def add(self, one: RoutinePass) -> RoutinePass:
        """Keep a pass that has ended, whole or not at all."""
        values = (
            one.routine,
            one.digest,
            one.subject_id,
            one.serial,
            one.begun.isoformat(),
            one.ended.isoformat(),
            one.verdict,
            one.operator,
            one.shift,
            one.firmware,
            one.words,
            json.dumps(list(one.steps)),
        )
        with self._db.writing() as c:
            places = ", ".join("?" * len(values))
            key = c.execute(f"INSERT INTO pass ({', '.join(COLUMNS)}) VALUES ({places})", values).lastrowid
        assert key is not None
        return RoutinePass(**{**one.__dict__, "id": key})

    def last(self, routine: str | None = None, most: int = 50) -> tuple[RoutinePass, ...]:
        """Return the last passes, of one routine or of all, latest first."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT * FROM pass WHERE NOT deleted AND (?1 IS NULL OR routine = ?1) ORDER BY id DESC LIMIT ?2",
                (routine, most),
            ).fetchall()
        return tuple(Reader().each("pass", rows, _pass_from_row))

    def all(self, routine: str | None = None) -> tuple[RoutinePass, ...]:
        """Return every pass in the order in which they were made."""
        return tuple(reversed(self.last(routine, -1)))

    def of_serial(self, routine: str, serial: str) -> tuple[RoutinePass, ...]:
        """Return the passes over one unit, in their order."""
        with self._db.reading() as c:
            rows = c.execute(
                "SELECT * FROM pass WHERE NOT deleted AND routine = ? AND serial = ? ORDER BY id", (routine, serial)
            ).fetchall()
        return tuple(Reader().each("pass", rows, _pass_from_row))

    def counts(self, routine: str) -> PassCounts:
        """Return how many units there are and how they did. The first pass that was measured counts as the first."""
        measured = "SELECT serial, min(id) AS first, max(id) AS last FROM pass WHERE NOT deleted AND routine = ?1"
        with self._db.reading() as c:
            grouped = f"{measured} AND verdict != 'not measured' GROUP BY serial"
            rows = c.execute(
                f"SELECT a.verdict, b.verdict, count(*) FROM ({grouped}) JOIN pass a ON a.id = first JOIN pass b ON"
                " b.id = last GROUP BY a.verdict, b.verdict",
                (routine,),
            ).fetchall()
        by_verdict: dict[str, int] = {}
        for first, _, count in rows:
            by_verdict[first] = by_verdict.get(first, 0) + count
        last_passed = sum(count for _, last, count in rows if last == "passed")
        return PassCounts(sum(by_verdict.values()), by_verdict.get("passed", 0), last_passed, by_verdict)

    def routines(self) -> tuple[str, ...]:
        """Return the names of the routines that were carried out."""
        with self._db.reading() as c:
            rows = c.execute("SELECT DISTINCT routine FROM pass WHERE NOT deleted ORDER BY routine").fetchall()
        return tuple(str(r[0]) for r in rows)


def _pass_from_row(row: sqlite3.Row) -> RoutinePass:
    """Return a pass from its row. Raises what a damaged row raises."""
    steps = load_json(row["steps"], "pass")
    if not isinstance(steps, list) or not all(isinstance(step, dict) for step in steps):
        raise TypeError("no list of steps")
    texts = {
        name: visible(str(row[name]))
        for name in ("routine", "digest", "serial", "verdict", "operator", "shift", "firmware", "words")
    }
    return RoutinePass(
        subject_id=int(row["subject_id"]),
        begun=datetime.fromisoformat(row["begun"]),
        ended=datetime.fromisoformat(row["ended"]),
        steps=tuple(steps),
        id=int(row["id"]),
        **texts,
    )
