"""What a study holds, as frozen values: nothing here is connected to the database it came from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from epidote.core.errors import UnusableInputError


class StudyError(UnusableInputError):
    """The study folder cannot be opened or changed; the message says why and what to do."""


class ReadOnlyError(StudyError):
    """A change was asked of a study that is open for reading only."""


@dataclass(frozen=True)
class Unit:
    id: int
    maker: str
    model: str
    serial: str = ""
    firmware: str = ""
    notes: str = ""

    @property
    def name(self) -> str:
        return f"{self.maker} {self.model}".strip()


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

    @property
    def is_baseline(self) -> bool:
        return self.unit is None

    @property
    def name(self) -> str:
        return self.unit.name if self.unit else "Baseline"

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
class RunSummary:
    """A finished run without its curves. headline: (reading key, channel) that stands for it; thumbnail: y values scaled 0 to 1."""

    id: int
    subject_id: int
    column_id: int
    procedure: str
    settings: Mapping[str, Any]
    chain: Mapping[str, Any]
    device: str
    made: datetime
    program: str
    recomputed_from: int | None
    cautions: tuple[str, ...]
    readings: tuple[Mapping[str, Any], ...]
    headline: Mapping[str, Any] | None
    thumbnail: tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Pin:
    """A marker at x on the curves ``curve`` of a column."""

    id: int
    column_id: int
    curve: str
    x: float


@dataclass(frozen=True)
class Overview:
    """The whole matrix at one moment: rows and columns in their order, and the latest run of each cell."""

    title: str
    subjects: tuple[Subject, ...]
    columns: tuple[Column, ...]
    runs: Mapping[tuple[int, int], RunSummary]
    pins: tuple[Pin, ...]
    reference: int | None

    def subject(self, subject_id: int) -> Subject | None:
        return next((s for s in self.subjects if s.id == subject_id), None)

    def column(self, column_id: int) -> Column | None:
        return next((c for c in self.columns if c.id == column_id), None)

    def pins_of(self, column_id: int, curve: str) -> tuple[Pin, ...]:
        return tuple(p for p in self.pins if p.column_id == column_id and p.curve == curve)
