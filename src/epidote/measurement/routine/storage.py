"""Routines that are kept in a study."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from epidote.core.errors import EpidoteError, SettingError
from epidote.core.routine.model import Routine
from epidote.core.routine.text import routine_from_toml, routine_to_toml
from epidote.study.models import Entry
from epidote.study.store import Study

KIND = "routine"


@dataclass(frozen=True)
class StoredRoutine:
    """entry: its number in the study."""

    entry: int
    routine: Routine


def routines_of(entries: Iterable[Entry]) -> tuple[StoredRoutine, ...]:
    """Return the routines among a study's entries; what is damaged is left out."""
    found = []
    for entry in entries:
        if entry.kind != KIND:
            continue
        try:
            found.append(StoredRoutine(entry.id, routine_from_toml(str(entry.data.get("text", "")))))
        except EpidoteError:
            continue
    return tuple(found)


def stored_routines(study: Study) -> tuple[StoredRoutine, ...]:
    """Return the routines of a study in the order in which they came."""
    return routines_of(study.entries.all(KIND))


def find_routine(study: Study, name: str) -> Routine:
    """Return a routine of a study by its name. Raises SettingError naming those there are."""
    there = stored_routines(study)
    for stored in reversed(there):
        if stored.routine.name == name:
            return stored.routine
    names = ", ".join(dict.fromkeys(f"“{s.routine.name}”" for s in there)) or "none"
    raise SettingError(f"{study.path.name} contains no routine “{name}”. Available: {names}.")


def routine_data(routine: Routine) -> dict[str, str]:
    """Return what a study keeps of a routine; its text keeps lines, as a note's does."""
    return {"name": routine.name, "text": routine_to_toml(routine)}


def keep_routine(study: Study, routine: Routine) -> None:
    """Keep a routine in a study, in place of one of the same name."""
    for stored in stored_routines(study):
        if stored.routine.name == routine.name:
            if stored.routine != routine:
                study.entries.update(stored.entry, routine_data(routine))
            return
    study.entries.add(KIND, routine_data(routine), person=study.person)
