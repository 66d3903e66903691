"""The procedures there are, those of other packages included."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache, lru_cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any

from epidote.core.errors import SettingError
from epidote.core.results.kinds import ReadingKind, declare_readings

# readings that every procedure may bring
SHARED_READINGS = (
    ReadingKind(
        "clock_offset", "Sample clock offset", meaning="Sample clock of the recorder re that of the stimulus file."
    ),
    ReadingKind("start", "Start in recording", meaning="Where in the recording the stimulus begins."),
)
declare_readings(SHARED_READINGS)


def reading_titles(proc: Any) -> dict[str, str]:
    """Return the titles of a procedure's readings, by key."""
    return {kind.key: kind.title for kind in (*proc.readings, *SHARED_READINGS)}


def current_reading_key(procedure_key: str, key: str) -> str:
    """Return the key of a procedure's reading, which may be given as an earlier version called it."""
    kinds = procedure(procedure_key).readings
    return next((kind.key for kind in kinds if key in kind.former), key)


def current_curve_key(procedure_key: str, key: str) -> str:
    """Return the same of a curve."""
    views = procedure(procedure_key).views
    return next((view.key for view in views if key in view.former), key)


@lru_cache(maxsize=1)
def registered() -> Mapping[str, EntryPoint]:
    """Return the entry points by key. What is installed is read from the disk, so it is asked for once in a process."""
    return {entry.name: entry for entry in sorted(entry_points(group="epidote.procedures"), key=lambda e: e.name)}


@cache
def loaded(key: str) -> type[Any]:
    """Load a procedure's class, once in a process."""
    kind: type[Any] = registered()[key].load()
    return kind


def procedures() -> dict[str, type[Any]]:
    """Every procedure there is by key, from the entry-point group ``epidote.procedures``, those of other packages
    included.
    """
    return {key: loaded(key) for key in registered()}


def procedure(key: str) -> Any:
    """Return a procedure by its key. Raises SettingError naming those there are."""
    if key not in registered():
        raise SettingError(f"Unknown procedure “{key}”. Available: {', '.join(registered())}.")
    return loaded(key)()


def first_look() -> Any:
    """Return the procedure with which a recording is looked at of which nobody knows what was played.

    Raises SettingError where no package brings one.
    """
    key = next((key for key, kind in procedures().items() if kind.first_look), None)
    if key is None:
        raise SettingError(
            "No procedure for recordings of unknown origin is installed. Reinstall Epidote, or select a column."
        )
    return procedure(key)
