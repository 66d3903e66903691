"""What is in a study, without opening it: a few counts, read without a lock and never written."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from epidote.core.text import visible
from epidote.study.database import APPLICATION_ID, quoted

_DATABASE = "study.sqlite"
_WAIT_S = 0.2
_MOST_UNITS = 4


@dataclass(frozen=True)
class StudyGlance:
    """units: names of the first few; unit_count: of all. measured: when the last run was made; None without runs."""

    title: str
    units: tuple[str, ...]
    unit_count: int
    rows: int
    columns: int
    runs: int
    measured: datetime | None


def glance(path: Path) -> StudyGlance | None:
    """Return what is in a study; None where there is none, or it cannot be read."""
    file = path / _DATABASE
    if file.is_symlink() or not file.is_file():
        return None
    try:
        with closing(sqlite3.connect(f"file:{quoted(file)}?mode=ro", uri=True, timeout=_WAIT_S)) as connection:
            return _read(connection, path)
    except (sqlite3.Error, ValueError, OSError):
        return None


def _read(connection: sqlite3.Connection, path: Path) -> StudyGlance | None:
    if connection.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
        return None

    def count(of: str) -> int:
        return int(connection.execute(f"SELECT count(*) FROM {of} AND deleted = 0").fetchone()[0])

    title = connection.execute("SELECT value FROM setting WHERE name = 'title'").fetchone()
    units = connection.execute("SELECT maker, model FROM unit WHERE deleted = 0 ORDER BY id").fetchall()
    last = connection.execute("SELECT max(made) FROM run WHERE deleted = 0").fetchone()[0]
    return StudyGlance(
        title=visible(str(title[0])) if title else path.stem,
        units=tuple(visible(f"{maker} {model}".strip()) for maker, model in units[:_MOST_UNITS]),
        unit_count=len(units),
        rows=count("subject WHERE unit_id IS NOT NULL"),
        columns=count("column_ WHERE 1"),
        runs=count("run WHERE 1"),
        measured=datetime.fromisoformat(last) if last else None,
    )
