"""The studies that were open last, newest first."""

from __future__ import annotations

from pathlib import Path

from epidote.desktop.preferences import preferences

MOST_RECENT = 12
_KEY = "recent studies"


def recent_studies() -> list[Path]:
    """Return the folders, those that are gone too."""
    stored = preferences().value(_KEY, [])
    if isinstance(stored, str):
        stored = [stored]
    if not isinstance(stored, list):
        return []
    return [Path(str(name)) for name in stored]


def remember_study(path: Path) -> None:
    """Put a study first."""
    others = [p for p in recent_studies() if p != path]
    _store([path, *others][:MOST_RECENT])


def forget_study(path: Path) -> None:
    """Take a study off the list; the study itself is unchanged."""
    _store([p for p in recent_studies() if p != path])


def _store(paths: list[Path]) -> None:
    preferences().setValue(_KEY, [str(p) for p in paths])
