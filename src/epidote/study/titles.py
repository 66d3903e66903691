"""Titles that a study keeps beside its columns and runs, so that the matrix is drawn without loading the procedures."""

from __future__ import annotations

import json
import sqlite3

from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings


def refresh_titles(connection: sqlite3.Connection) -> None:
    """Take titles and summaries of columns and of headlines from the procedures as they are now.

    Those of a procedure that is not installed, or whose settings have changed since, stay as they are.
    """
    for row in connection.execute("SELECT id, procedure, settings FROM column_").fetchall():
        try:
            proc = procedure(row["procedure"])
            summary = proc.summary(make_settings(proc.Settings, json.loads(row["settings"])))
        except SettingError:
            continue
        connection.execute("UPDATE column_ SET title = ?, summary = ? WHERE id = ?", (proc.title, summary, row["id"]))
    for row in connection.execute("SELECT id, procedure, headline FROM run").fetchall():
        headline = json.loads(row["headline"])
        if headline is None:
            continue
        try:
            kinds = {kind.key: kind for kind in procedure(row["procedure"]).readings}
        except SettingError:
            continue
        kind = kinds.get(headline["key"])
        if kind is not None:
            headline |= {"title": kind.title, "shown": str(kind.shown)}
        connection.execute("UPDATE run SET headline = ? WHERE id = ?", (json.dumps(headline), row["id"]))
