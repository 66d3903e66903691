"""What the pictures of a reading over units have in common."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from epidote.core.signals.signal import Samples
from epidote.core.statistics.overall import ValueStatistics
from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas
from epidote.measurement.unit_statistics import BandStatistics


@dataclass(frozen=True, eq=False)
class PairedReading:
    """Another reading of the same units: its values x (count,), those of the reading itself y (count,), and the places
    of these units among all of the reading.
    """

    title: str
    unit: str
    x: Samples
    y: Samples
    places: Sequence[int]


@dataclass(frozen=True, eq=False)
class PlottedReading:
    """names: of the units, in the order of the values. other: for the picture of two readings."""

    title: str
    unit: str
    statistics: ValueStatistics
    names: Sequence[str]
    other: PairedReading | None = None

    @property
    def axis(self) -> str:
        """The title of its axis."""
        return f"{self.title}, {self.unit}".rstrip(", ")


@dataclass(frozen=True, eq=False)
class PlottedBands:
    """A curve over units under its title."""

    title: str
    over_units: BandStatistics


Plotted = PlottedReading | PlottedBands


class Picture(Protocol):
    """key: of its button. needs_other, needs_curve: what is to be selected beside it. tells_more: its words say what
    the table does not.
    """

    @property
    def key(self) -> str: ...

    @property
    def title(self) -> str: ...

    @property
    def needs_other(self) -> bool: ...

    @property
    def needs_curve(self) -> bool: ...

    @property
    def tells_more(self) -> bool: ...

    def paint(self, canvas: Canvas, plotted: Plotted | None) -> None:
        """Paint a reading or a curve; None until it is computed."""

    def words(self, plotted: Plotted) -> str:
        """Return in a sentence what the picture shows."""


class ReadingPicture:
    """A picture of one reading."""

    needs_other = needs_curve = tells_more = False

    def paint(self, canvas: Canvas, plotted: Plotted | None) -> None:
        """Paint the reading; nothing until there is one."""
        if isinstance(plotted, PlottedReading):
            self.paint_reading(canvas, plotted)

    def paint_reading(self, canvas: Canvas, reading: PlottedReading) -> None:
        """Paint a reading."""
        raise NotImplementedError

    def words(self, plotted: Plotted) -> str:
        """Return in a sentence what the picture shows."""
        return self.words_of(plotted) if isinstance(plotted, PlottedReading) else ""

    def words_of(self, reading: PlottedReading) -> str:
        """Return in a sentence what the picture shows of a reading."""
        return f"{reading.title}: {reading.statistics.values.size} units"
