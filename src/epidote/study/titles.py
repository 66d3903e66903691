"""Titles that a study keeps beside its columns and runs, so that the matrix is drawn without loading the procedures."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import BaseModel

from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import LabelledEnum, label_of, make_settings, value_in_words

_MOST_DIFFERENCES = 3  # settings that a title names
_PLAIN = ("level", "frequency", "duration")  # values that need no label: "-20 dBFS", "1 kHz", "2 s"


def refresh_titles(connection: sqlite3.Connection) -> None:
    """Take titles and summaries of columns and of headlines from the procedures as they are now.

    Those of a procedure that is not installed, or whose settings have changed since, stay as they are.
    """
    title_columns(connection)
    for row in connection.execute("SELECT id, procedure, settings FROM column_").fetchall():
        try:
            proc = procedure(row["procedure"])
            summary = proc.summary(make_settings(proc.Settings, json.loads(row["settings"])))
        except SettingError:
            continue
        connection.execute("UPDATE column_ SET summary = ? WHERE id = ?", (summary, row["id"]))
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


def title_columns(connection: sqlite3.Connection, key: str = "") -> None:
    """Give columns the titles of their procedures, those of one procedure the settings in which they differ as well,
    such as “Single tone, -20 dBFS”. key: of the procedure whose columns are titled; "": of every one.
    """
    rows = connection.execute("SELECT id, procedure, settings FROM column_ WHERE NOT deleted").fetchall()
    by_procedure: dict[str, list[sqlite3.Row]] = {}
    for row in rows:
        if key in ("", row["procedure"]):
            by_procedure.setdefault(row["procedure"], []).append(row)
    for name, columns in by_procedure.items():
        try:
            proc = procedure(name)
            settings = [make_settings(proc.Settings, json.loads(row["settings"])) for row in columns]
        except SettingError:
            continue
        for row, words in zip(columns, _differences(proc.Settings, settings), strict=True):
            title = ", ".join([proc.title, *words])
            connection.execute("UPDATE column_ SET title = ? WHERE id = ?", (title, row["id"]))


def _differences(model: type[BaseModel], settings: Sequence[BaseModel]) -> list[list[str]]:
    """Return for each of several settings, in words, the fewest values that tell it from all others."""
    values = [one.model_dump(mode="json") for one in settings]
    return [_telling(model, one, [other for other in values if other is not one]) for one in values]


def _telling(model: type[BaseModel], own: Mapping[str, Any], others: Sequence[Mapping[str, Any]]) -> list[str]:
    """Return the values that tell settings from others, in words: each time the one that most of these do not have."""
    words = {name: _setting_words(model, name, own[name]) for name in model.model_fields}
    names = [name for name, said in words.items() if said]
    named: list[str] = []
    alike = list(others)
    while alike and names and len(named) < _MOST_DIFFERENCES:
        best = max(names, key=lambda name: sum(other[name] != own[name] for other in alike))  # of equal ones the first
        left = [other for other in alike if other[best] == own[best]]
        if len(left) == len(alike):
            break
        named.append(best)
        alike = left
    return [words[name] for name in named]


def _setting_words(model: type[BaseModel], name: str, value: Any) -> str:
    """Return a value, with the label of its setting unless it says by itself what it is."""
    words = value_in_words(model, name, value)
    kind = model.model_fields[name].annotation
    is_choice = isinstance(kind, type) and issubclass(kind, LabelledEnum)
    if not words or name in _PLAIN or is_choice:
        return words
    return f"{label_of(model, name).lower()} {words}"
