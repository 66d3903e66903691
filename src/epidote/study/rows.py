"""Rows of the database as values.

A row that cannot be read spoils only itself: it comes back as damaged, with what is still known of it.
"""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, TypeVar

from epidote.core.quantities.outside import load_json
from epidote.core.results.caution import Caution
from epidote.core.text import visible
from epidote.study.headline import headline_from_json
from epidote.study.models import Column, Entry, Owner, Pin, RunSummary, StudyError, Subject, Unit
from epidote.study.stored_json import CAUTIONS, FAULTS

if TYPE_CHECKING:
    from epidote.core.analysis.delay.clock_offset import MarkedRecording
    from epidote.core.signals.recording import Recording, Section
    from epidote.core.signals.stimulus import Stimulus
    from epidote.core.stimuli.marked_sequence import MarkedSequence

T = TypeVar("T")
Place = tuple[int, int]
_NO_DATE = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass
class Reader:
    """Reads rows and collects the names of those that are damaged ("run 12")."""

    damaged: list[str] = field(default_factory=list)

    def each(self, kind: str, rows: Iterable[sqlite3.Row], read: Callable[[sqlite3.Row], T]) -> list[T]:
        """Return the rows that can be read."""
        values = []
        for row in rows:
            try:
                values.append(read(row))
            except FAULTS:
                self.damaged.append(f"{kind} {row['id']}")
        return values


def _object(text: str) -> dict[str, Any]:
    data = load_json(text, "row")
    if not isinstance(data, dict):
        raise TypeError("no JSON object")
    return data


def _seen(data: dict[str, Any]) -> dict[str, Any]:
    """Return an entry's data with every text visible; only notes keep their lines."""
    return {k: visible(v, lines=k == "text") if isinstance(v, str) else v for k, v in data.items()}


def _texts(*values: object) -> None:
    if not all(isinstance(v, str) for v in values):
        raise TypeError("no text")


def unit_from_row(row: sqlite3.Row) -> Unit:
    """Return a unit from its row. Raises what a damaged row raises."""
    _texts(row["maker"], row["model"], row["serial"], row["firmware"], row["notes"])
    maker, model, serial, firmware = (visible(row[name]) for name in ("maker", "model", "serial", "firmware"))
    return Unit(row["id"], maker, model, serial, firmware, visible(row["notes"], lines=True))


def told_apart(units: Iterable[Unit]) -> list[Unit]:
    """Return the units, those that share maker and model with others marked as such."""
    units = list(units)
    counts = Counter((unit.maker, unit.model) for unit in units)
    return [replace(unit, has_twins=True) if counts[unit.maker, unit.model] > 1 else unit for unit in units]


def subject_from_row(row: sqlite3.Row, units: Mapping[int, Unit]) -> Subject:
    """Return a subject from its row. Raises what a damaged row raises."""
    if row["unit_id"] is not None:
        unit = units[row["unit_id"]]
    else:
        unit = None
    conditions = {visible(str(k)): visible(str(v)) for k, v in _object(row["conditions"]).items()}
    _texts(row["device"])
    colour, position = int(row["colour"]), float(row["position"])
    return Subject(row["id"], unit, conditions, visible(row["device"]), max(0, colour), position, bool(row["shown"]))


def column_from_row(row: sqlite3.Row) -> Column:
    """Return a column from its row. Raises what a damaged row raises."""
    _texts(row["procedure"], row["title"], row["summary"])
    return Column(
        row["id"],
        row["procedure"],
        _object(row["settings"]),
        visible(row["title"]),
        visible(row["summary"]),
        float(row["position"]),
    )


def pin_from_row(row: sqlite3.Row) -> Pin:
    """Return a pin from its row. Raises what a damaged row raises."""
    _texts(row["curve"])
    return Pin(row["id"], row["column_id"], row["curve"], float(row["x"]))


def entry_from_row(row: sqlite3.Row) -> Entry:
    """Return an entry from its row. Raises what a damaged row raises."""
    owner = Owner(row["unit_id"], row["subject_id"], row["run_id"], row["column_id"])
    _texts(row["kind"], row["person"])
    return Entry(
        row["id"],
        row["kind"],
        owner,
        _seen(_object(row["data"])),
        datetime.fromisoformat(row["made"]),
        visible(row["person"]),
    )


def run_from_row(row: sqlite3.Row) -> RunSummary:
    """Return a run; of a damaged one what is still known, with the caution that says so."""
    try:
        cautions = load_json(row["cautions"], "run")
        headline = headline_from_json(row["headline"])
        _texts(
            row["procedure"],
            row["device"],
            row["program"],
            row["firmware"],
            row["person"],
            row["chain"],
            row["readings"],
            row["thumbnail"],
        )
        known = tuple(c for c in cautions if c in CAUTIONS)
        return RunSummary(
            row["id"],
            row["subject_id"],
            row["column_id"],
            row["procedure"],
            _object(row["settings"]),
            row["chain"],
            visible(row["device"]),
            datetime.fromisoformat(row["made"]),
            visible(row["program"]),
            row["recomputed_from"],
            known,
            row["readings"],
            headline,
            row["thumbnail"],
            visible(row["firmware"]),
            visible(row["person"]),
        )
    except FAULTS:
        return RunSummary(
            row["id"],
            row["subject_id"],
            row["column_id"],
            str(row["procedure"]),
            {},
            "{}",
            "",
            _NO_DATE,
            "",
            row["recomputed_from"],
            (str(Caution.DAMAGED),),
            "[]",
            None,
            "[]",
        )


def described_recording(recording: Recording | MarkedRecording | Section) -> tuple[str, str]:
    """Return what a recording's row keeps of how it was made: what was played, the marked file, or the section that
    counts, and what the device complained about.
    """
    from epidote.core.signals.recording import Recording, Section

    if isinstance(recording, Section):
        return json.dumps({"section": [recording.first, recording.frames]}), "[]"
    if not isinstance(recording, Recording):
        return json.dumps({"marked": recording.file.to_json()}), "[]"
    played = ""
    if recording.stimulus is not None:
        played = json.dumps(recording.stimulus.to_json())
    return played, json.dumps(list(recording.faults))


def acquisition_from_row(
    row: sqlite3.Row | Mapping[str, Any],
) -> tuple[Stimulus | MarkedSequence | Place | None, tuple[str, ...]]:
    """Return the same read again; a Place: the section's first frame and its frames. Raises StudyError."""
    from epidote.core.stimuli.every import stimulus_from_json
    from epidote.core.stimuli.marked_sequence import MarkedSequence

    try:
        if row["stimulus"]:
            data = load_json(row["stimulus"], "stimulus")
        else:
            data = None
        stimulus: Stimulus | MarkedSequence | Place | None = None
        if data is not None and "section" in data:
            first, frames = data["section"]
            stimulus = int(first), int(frames)
        elif data is not None:
            if "marked" in data:
                stimulus = MarkedSequence.from_json(data["marked"])
            else:
                stimulus = stimulus_from_json(data)
        faults = tuple(str(f) for f in load_json(row["faults"], "faults"))
    except FAULTS as error:
        raise StudyError(
            f"What the study stores about the recording {row['file']} is damaged. The run's results are unchanged;"
            " restore study.sqlite from a backup."
        ) from error
    return stimulus, faults
