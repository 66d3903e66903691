"""What a study holds, as frozen values: nothing here is connected to the database it came from."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any

from epidote.core.errors import UnusableInputError
from epidote.core.results.reading import Reading
from epidote.study.headline import Headline

if TYPE_CHECKING:
    from epidote.core.analysis.delay.clock_offset import MarkedRecording
    from epidote.core.chain.chain import Chain
    from epidote.core.results.result import Result
    from epidote.core.signals.recording import Recording, Section


class StudyError(UnusableInputError):
    """The study folder cannot be opened or changed; the message says why and what to do."""


class ReadOnlyError(StudyError):
    """A change was asked of a study that is open for reading only."""


@dataclass(frozen=True)
class Unit:
    """One physical device under test. has_twins: whether the study holds others of that make and model."""

    id: int
    maker: str
    model: str
    serial: str = ""
    firmware: str = ""
    notes: str = ""
    has_twins: bool = field(default=False, compare=False)

    @property
    def name(self) -> str:
        return f"{self.maker} {self.model}".strip()

    @property
    def label(self) -> str:
        """The name; of one of several units of that make and model with the serial number, which tells them apart."""
        if self.has_twins:
            return f"{self.name} {self.serial}".strip()
        return self.name


@dataclass(frozen=True)
class Subject:
    """A row of the matrix; ``unit`` None is the baseline."""

    id: int
    unit: Unit | None
    conditions: Mapping[str, str] = field(default_factory=dict)
    device: str = ""
    colour: int = 0
    position: float = 0.0
    shown: bool = True
    claims: int = 0  # of a row that holds a unit's published figures: how many

    @property
    def is_baseline(self) -> bool:
        return self.unit is None

    @property
    def is_claims(self) -> bool:
        return self.claims > 0

    @property
    def name(self) -> str:
        if self.unit:
            return self.unit.label
        return "Baseline"

    @property
    def chips(self) -> tuple[str, ...]:
        """Each condition in short, as shown: "gain low"."""
        return tuple(f"{k} {v}" for k, v in self.conditions.items())

    @property
    def full_name(self) -> str:
        return ", ".join((self.name, *self.chips))


@dataclass(frozen=True)
class Column:
    """A column of the matrix: a procedure and the settings its empty cells offer."""

    id: int
    procedure: str
    settings: Mapping[str, Any]
    title: str
    summary: str
    position: float = 0.0


@dataclass(frozen=True)
class FinishedRun:
    """All that a run yields, as a study keeps it.

    thumbnail: points of a small drawing, both from 0 to 1. recomputed_from: the run whose recordings were analysed
    again; such a run has no recordings of its own. digest: by which a run that was computed in a batch is known.
    """

    subject_id: int
    column_id: int
    procedure: str
    settings: Mapping[str, Any]
    chain: Chain
    device: str
    result: Result
    headline: Headline | None = None
    thumbnail: Sequence[tuple[float, float]] = ()
    recordings: Sequence[Recording | MarkedRecording | Section] = ()
    recomputed_from: int | None = None
    digest: str = ""


@dataclass(frozen=True)
class RunSummary:
    """A finished run without its curves.

    What is long is kept as the JSON it came as, and read when it is asked for: a study has thousands of runs, a screen
    a dozen.
    """

    id: int
    subject_id: int
    column_id: int
    procedure: str
    settings: Mapping[str, Any]
    chain_json: str
    device: str
    made: datetime
    program: str
    recomputed_from: int | None
    cautions: tuple[str, ...]
    readings_json: str
    headline: Headline | None
    thumbnail_json: str
    firmware: str = ""
    person: str = ""

    @cached_property
    def chain(self) -> Chain:
        """The chain it was measured with; an uncalibrated one where what is stored is none."""
        from epidote.core.chain.chain import stored_chain

        return stored_chain(self.chain_json)

    @cached_property
    def readings(self) -> tuple[Reading, ...]:
        """The readings that are whole."""
        from epidote.study.stored_json import readings_from_json

        return readings_from_json(self.readings_json)

    def reading(self, key: str, channel: int | None = None) -> Reading | None:
        """Return the first reading of a key that has a value, of one channel or of any."""
        for reading in self.readings:
            if reading.key == key and channel in (None, reading.channel) and reading.value is not None:
                return reading
        return None

    @cached_property
    def thumbnail(self) -> tuple[tuple[float, float], ...]:
        """Points of a small drawing, both from 0 to 1."""
        from epidote.study.stored_json import points_from_json

        return points_from_json(self.thumbnail_json)

    @property
    def source(self) -> int:
        """The run whose recordings it was computed from: its own, unless it was recomputed."""
        return self.recomputed_from or self.id


@dataclass(frozen=True)
class Pin:
    """A marker at x on the curves ``curve`` of a column."""

    id: int
    column_id: int
    curve: str
    x: float


@dataclass(frozen=True)
class Owner:
    """What an entry belongs to, by number; nothing: to the whole study."""

    unit: int | None = None
    subject: int | None = None
    run: int | None = None
    column: int | None = None


@dataclass(frozen=True)
class Entry:
    """A claim, limit, guide, point, note or picture as it is kept; data: of the kind's own model."""

    id: int
    kind: str
    owner: Owner
    data: Mapping[str, Any]
    made: datetime
    person: str = ""

    @property
    def file(self) -> str:
        """Of a picture: the name of its file in attachments/; "" for none."""
        return str(self.data.get("file", ""))


@dataclass(frozen=True)
class Overview:
    """The whole matrix at one moment: rows and columns in their order, and the latest run of each cell."""

    title: str
    subjects: tuple[Subject, ...]
    columns: tuple[Column, ...]
    runs: Mapping[tuple[int, int], RunSummary]
    pins: tuple[Pin, ...]
    reference: int | None
    entries: tuple[Entry, ...] = ()
    repeats: Mapping[tuple[int, int], int] = field(
        default_factory=dict
    )  # runs of each cell that were measured, not recomputed
    settings: Mapping[str, str] = field(default_factory=dict)  # what is kept about the study itself
    damaged: tuple[str, ...] = ()  # rows of the database that cannot be read ("entry 12")

    @cached_property
    def rows_by_unit(self) -> Mapping[int, int]:
        """How many rows each unit has, that of its claims included, by the unit's number."""
        return Counter(row.unit.id for row in self.rows if row.unit is not None)

    @cached_property
    def rows(self) -> tuple[Subject, ...]:
        """The matrix's rows: the subjects, and after the last one of each unit its published figures where there are
        any.
        """
        return self.with_claims(self.subjects)

    def runs_of_row(self, subject_id: int | None) -> list[RunSummary]:
        """Return the runs of a row that stand in its cells."""
        return [self.runs[cell] for cell in self.runs if cell[0] == subject_id]

    def with_claims(self, chosen: Iterable[Subject]) -> tuple[Subject, ...]:
        """Return some of the subjects in an order of one's own, with a row of claims after the last of each unit."""
        chosen = tuple(chosen)
        figures: dict[int, int] = {}
        for entry in self.of_kind("claim"):
            if entry.owner.unit is not None:
                figures[entry.owner.unit] = figures.get(entry.owner.unit, 0) + 1
        if not figures:
            return chosen
        last = {s.unit.id: s for s in chosen if s.unit is not None}
        subjects: list[Subject] = []
        for subject in chosen:
            subjects.append(subject)
            if subject.unit is not None and subject.unit.id in figures and last[subject.unit.id] is subject:
                subjects.append(
                    Subject(
                        -subject.unit.id,
                        subject.unit,
                        {},
                        "",
                        subject.colour,
                        subject.position,
                        True,
                        figures[subject.unit.id],
                    )
                )
        return tuple(subjects)

    def notes_on(self, subject: Subject, run: RunSummary) -> tuple[str, ...]:
        """Return what was noted of a row's unit, of the row, and of the run; captions of pictures too."""
        if subject.unit:
            unit = subject.unit.id
        else:
            unit = None
        own = (Owner(unit=unit) if unit is not None else None, Owner(subject=subject.id), Owner(run=run.id))
        notes = [
            (str(e.data.get("text" if e.kind == "note" else "caption", "")), e.kind)
            for e in self.entries
            if e.kind in ("note", "picture") and e.owner in own
        ]
        return tuple(
            f"{'Picture: ' if kind == 'picture' else ''}{' '.join(text.split())}"
            for text, kind in notes
            if text.strip()
        )

    def of_kind(self, kind: str) -> tuple[Entry, ...]:
        return tuple(e for e in self.entries if e.kind == kind)

    @cached_property
    def _subjects_by_id(self) -> Mapping[int, Subject]:
        return {subject.id: subject for subject in self.subjects}

    def subject(self, subject_id: int) -> Subject | None:
        return self._subjects_by_id.get(subject_id)

    def column(self, column_id: int) -> Column | None:
        return next((c for c in self.columns if c.id == column_id), None)

    def pins_of(self, column_id: int, curve: str) -> tuple[Pin, ...]:
        return tuple(p for p in self.pins if p.column_id == column_id and p.curve == curve)
