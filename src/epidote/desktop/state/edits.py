"""The edits of a study, each with its way back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from epidote.desktop.state.session import EditStep, Session
from epidote.study.models import Column, Owner, Pin, StudyError, Subject, Unit
from epidote.study.store import Study

Memory = dict[str, Any]


def _again(memory: Memory, study: Study, table: str) -> bool:
    """On redo, bring back what the first time made instead of making it anew, so that its number stays."""
    if "made" in memory:
        study.set_deleted(table, memory["made"], False)
        return True
    return False


def _all_again(memory: Memory, study: Study, table: str) -> bool:
    """Return the same of an edit that made several."""
    for key in memory.get("made", ()):
        study.set_deleted(table, key, False)
    return "made" in memory


def _delete_made(table: str) -> EditStep:
    """Return the way back of an edit that made several."""

    def back(study: Study, memory: Memory) -> None:
        for key in memory["made"]:
            study.set_deleted(table, key, True)

    return back


def add_unit_with_rows(
    session: Session,
    unit: Unit,
    condition_sets: Sequence[Mapping[str, str]],
    device: str,
) -> None:
    """Add a unit (its number is made up) with a row for each set of conditions, as one step of undo."""

    def forward(study: Study, memory: Memory) -> None:
        if _all_again(memory, study, "subject"):
            study.set_deleted("unit", memory["unit"], False)
            return
        made = study.add_unit(unit.maker, unit.model, unit.serial, unit.firmware, unit.notes)
        memory["unit"] = made.id
        memory["made"] = [study.add_subject(made, conditions, device).id for conditions in condition_sets]

    def back(study: Study, memory: Memory) -> None:
        _delete_made("subject")(study, memory)
        study.set_deleted("unit", memory["unit"], True)

    session.edit(f"Add {unit.maker} {unit.model}", forward, back)


def add_rows(
    session: Session, unit: Unit, condition_sets: Sequence[Mapping[str, str]], device: str, after: int | None
) -> None:
    """Add a row for each set of conditions, after another row or at the end, as one step of undo.

    All or none: where one is there already nothing is added.
    """

    def forward(study: Study, memory: Memory) -> None:
        if _all_again(memory, study, "subject"):
            return
        made: list[int] = []
        try:
            for conditions in condition_sets:
                made.append(study.add_subject(unit, conditions, device, made[-1] if made else after).id)
        except StudyError:
            for key in made:
                study.set_deleted("subject", key, True)
            raise
        memory["made"] = made

    count = len(condition_sets)
    words = f"Add row for {unit.name}" if count == 1 else f"Add {count} rows for {unit.name}"
    session.edit(words, forward, _delete_made("subject"))


def add_row(
    session: Session, unit: Unit, conditions: Mapping[str, str], device: str, after: int | None, *, then: Any = None
) -> None:
    """``then(study, new row's number)`` runs once, when the row is first made."""

    def forward(study: Study, memory: Memory) -> None:
        if not _again(memory, study, "subject"):
            memory["made"] = study.add_subject(unit, conditions, device, after).id
            if then is not None:
                then(study, memory["made"])

    session.edit(
        f"Add row for {unit.name}", forward, lambda study, memory: study.set_deleted("subject", memory["made"], True)
    )


def add_recording_row(session: Session, name: str) -> dict[str, int]:
    """Add a row for a recording made elsewhere, and a column for a first look at it where there is none.

    Returns a dict that has the numbers of both, "row" and "column", once the edit is carried out.
    """
    made: dict[str, int] = {}

    def forward(study: Study, memory: Memory) -> None:
        if _again(memory, study, "subject"):
            study.set_deleted("unit", memory["unit"], False)
            return
        from epidote.core.procedures.registry import first_look
        from epidote.measurement.request import add_column as add

        proc = first_look()
        column = next((c for c in study.overview().columns if c.procedure == proc.key), None)
        if column is None:
            column = add(study, proc.key, proc.Settings())
        unit = study.add_unit("", name)
        memory["unit"] = unit.id
        memory["made"] = study.add_subject(unit, {}).id
        made.update(row=memory["made"], column=column.id)

    def back(study: Study, memory: Memory) -> None:
        study.set_deleted("subject", memory["made"], True)
        study.set_deleted("unit", memory["unit"], True)

    session.edit(f"Add recording {name}", forward, back)
    return made


def change_row(session: Session, before: Subject, text: str, **changes: Any) -> None:
    """Change fields of a row; ``text`` names the step of undo."""
    after = replace(before, **changes)
    session.edit(text, lambda study, _: study.update_subject(after), lambda study, _: study.update_subject(before))


def change_unit(session: Session, before: Unit, after: Unit) -> None:
    """Change a unit's fields."""
    session.edit(
        f"Edit {before.name}", lambda study, _: study.update_unit(after), lambda study, _: study.update_unit(before)
    )


def delete_rows(session: Session, subjects: Sequence[Subject]) -> None:
    """Delete rows with their runs, as one step of undo."""

    def mark(study: Study, deleted: bool) -> None:
        for subject in subjects:
            study.set_deleted("subject", subject.id, deleted)

    words = subjects[0].full_name if len(subjects) == 1 else f"{len(subjects)} rows"
    session.edit(
        f"Delete {words}",
        lambda study, _: mark(study, True),
        lambda study, _: mark(study, False),
        deletes=words,
    )


def show_rows(session: Session, subjects: Sequence[Subject], shown: bool) -> None:
    """Show rows in the graph, or leave them out, as one step of undo."""

    def forward(study: Study, _: Memory) -> None:
        for subject in subjects:
            study.update_subject(replace(subject, shown=shown))

    def back(study: Study, _: Memory) -> None:
        for subject in subjects:
            study.update_subject(subject)

    words = subjects[0].full_name if len(subjects) == 1 else f"{len(subjects)} rows"
    session.edit(f"{'Show' if shown else 'Hide'} {words}", forward, back)


def delete_run(session: Session, run_id: int) -> None:
    """Delete a run."""
    session.edit(
        "Delete run",
        lambda study, _: study.set_deleted("run", run_id, True),
        lambda study, _: study.set_deleted("run", run_id, False),
        deletes="Run",
    )


def move_row(session: Session, subject: Subject, before: Subject | None) -> None:
    """Put a row before another one, or at the end."""
    if session.overview is None:
        return
    others = [s for s in session.overview.subjects if s.id != subject.id and not s.is_baseline]
    position = _place_before(before.position if before is not None else None, [s.position for s in others])
    change_row(session, subject, f"Move {subject.full_name}", position=position)


def move_column(session: Session, column: Column, before: Column | None) -> None:
    """Put a column before another one, or at the end."""
    if session.overview is None:
        return
    others = [c.position for c in session.overview.columns if c.id != column.id]
    position = _place_before(before.position if before is not None else None, others)
    session.edit(
        f"Move column {column.title}",
        lambda study, _: study.move_column(column.id, position),
        lambda study, _: study.move_column(column.id, column.position),
    )


def _place_before(target: float | None, places: Sequence[float]) -> float:
    """Return a position before the one at ``target``, after the one that precedes it; None: after all."""
    if target is None:
        return max(places, default=0.0) + 1
    preceding = max((p for p in places if p < target), default=target - 2)
    return (preceding + target) / 2


def rename_unit(session: Session, unit: Unit, name: str) -> None:
    """Give a unit another name: the manufacturer stays where the name still begins with it."""
    rest = name.removeprefix(unit.maker).strip()
    if unit.maker and name.startswith(unit.maker) and rest:
        after = replace(unit, model=rest)
    else:
        first, _, others = name.partition(" ")
        after = replace(unit, maker=first if others else "", model=others.strip() or first)
    change_unit(session, unit, after)


def set_reference(session: Session, subject: Subject | None) -> None:
    """Make a row the reference; None: no row is."""
    before = ""
    if session.overview:
        before = str(session.overview.reference or "")
    after = ""
    if subject:
        after = str(subject.id)
    if subject:
        words = f"Set {subject.full_name} as reference"
    else:
        words = "Clear reference"
    session.edit(
        words,
        lambda study, _: study.set_setting("reference", after),
        lambda study, _: study.set_setting("reference", before),
    )


def add_column(session: Session, key: str, settings: Mapping[str, Any]) -> None:
    """Add a column; one with these settings that exists already is named, and left as it is."""

    def forward(study: Study, memory: Memory) -> None:
        if _again(memory, study, "column_"):
            return
        from epidote.core.procedures.registry import procedure
        from epidote.core.settings import make_settings
        from epidote.measurement.request import add_column as add

        before = {c.id for c in study.overview().columns}
        column = add(study, key, make_settings(procedure(key).Settings, settings))
        if column.id in before:
            raise StudyError(
                f"Column “{column.title}, {column.summary}” already has these settings. Nothing was added; change a"
                " setting."
            )
        memory["made"] = column.id

    session.edit("Add column", forward, lambda study, memory: study.set_deleted("column_", memory["made"], True))


def delete_column(session: Session, column: Column) -> None:
    """Delete a column with its runs."""
    session.edit(
        f"Delete column {column.title}",
        lambda study, _: study.set_deleted("column_", column.id, True),
        lambda study, _: study.set_deleted("column_", column.id, False),
        deletes=f"Column {column.title}",
    )


def add_pins(session: Session, column_id: int, curve: str, places: list[float]) -> None:
    """Add pins to a column's curves at these x."""

    def forward(study: Study, memory: Memory) -> None:
        if not _all_again(memory, study, "pin"):
            memory["made"] = [study.add_pin(column_id, curve, x).id for x in places]

    session.edit("Add pin" if len(places) == 1 else "Add pins", forward, _delete_made("pin"))


def remove_pins(session: Session, pins: list[Pin] | list[int]) -> None:
    """Remove pins."""
    keys = [p.id if isinstance(p, Pin) else p for p in pins]

    def mark(study: Study, deleted: bool) -> None:
        for key in keys:
            study.set_deleted("pin", key, deleted)

    session.edit(
        "Remove pin" if len(keys) == 1 else "Remove pins",
        lambda study, _: mark(study, True),
        lambda study, _: mark(study, False),
    )


def set_chain(session: Session, before: str, after: str) -> None:
    """Replace the study's chain; both as TOML."""
    session.edit(
        "Edit chain",
        lambda study, _: study.set_setting("chain", after),
        lambda study, _: study.set_setting("chain", before),
    )


def set_setting(session: Session, text: str, name: str, before: str, after: str) -> None:
    """Change a setting of the study; ``text`` names the step of undo."""
    session.edit(
        text, lambda study, _: study.set_setting(name, after), lambda study, _: study.set_setting(name, before)
    )


def add_entry(session: Session, kind: str, data: Mapping[str, Any], text: str, owner: Owner = Owner()) -> None:
    """Add one entry of a kind, such as a guide or a note."""
    add_entries(session, kind, [data], text, owner)


def add_entries(session: Session, kind: str, all_data: Sequence[Mapping[str, Any]], text: str, owner: Owner) -> None:
    """Several at once, as one edit: all of them or none."""

    def forward(study: Study, memory: Memory) -> None:
        if not _all_again(memory, study, "entry"):
            memory["made"] = [e.id for e in study.entries.add_all(kind, all_data, owner, study.person)]

    session.edit(text, forward, _delete_made("entry"))


def add_pictures(session: Session, files: list[Path] | list[tuple[str, bytes]], owner: Owner) -> None:
    """Pictures from files, or from (name, bytes) of the clipboard."""

    def forward(study: Study, memory: Memory) -> None:
        if _all_again(memory, study, "entry"):
            return
        made = []
        for one in files:
            name, source = (one.name, one) if isinstance(one, Path) else one
            made.append(study.entries.attach(source, owner, "", name, study.person).id)
        memory["made"] = made

    session.edit("Add picture" if len(files) == 1 else "Add pictures", forward, _delete_made("entry"))


def change_entry(session: Session, key: int, before: Mapping[str, Any], after: Mapping[str, Any], text: str) -> None:
    """Change an entry's data."""
    session.edit(
        text, lambda study, _: study.entries.update(key, after), lambda study, _: study.entries.update(key, before)
    )


def delete_entry(session: Session, key: int, name: str) -> None:
    """Delete an entry; ``name`` is what the step of undo calls it."""
    session.edit(
        f"Delete {name}",
        lambda study, _: study.set_deleted("entry", key, True),
        lambda study, _: study.set_deleted("entry", key, False),
    )
