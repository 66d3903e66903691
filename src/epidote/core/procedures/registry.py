"""The procedures there are, those of other packages included."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache, lru_cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any

from epidote.core.errors import SettingError

SHARED_TITLES = {
    "clock_offset": "Sample clock offset",
    "start": "Start in recording",
}  # readings that every procedure may bring


def reading_titles(carried: Any) -> dict[str, str]:
    """The words for a procedure's readings, by key."""
    return {**carried.reading_titles, **SHARED_TITLES}


@lru_cache(maxsize=1)
def _registered() -> Mapping[str, EntryPoint]:
    """The entry points by key. What is installed is read from the disk, so it is asked for once in a process."""
    return {entry.name: entry for entry in sorted(entry_points(group="epidote.procedures"), key=lambda e: e.name)}


@cache
def _loaded(key: str) -> type[Any]:
    kind: type[Any] = _registered()[key].load()
    return kind


def procedures() -> dict[str, type[Any]]:
    """Every procedure there is by key, from the entry-point group ``epidote.procedures``, those of other packages
    included.
    """
    return {key: _loaded(key) for key in _registered()}


def procedure(key: str) -> Any:
    """A procedure by its key. Raises SettingError naming those there are."""
    if key not in _registered():
        raise SettingError(f"Unknown procedure “{key}”. Available: {', '.join(_registered())}.")
    return _loaded(key)()
