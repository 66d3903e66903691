"""Readings and curves over many units: what is selected, and what it says."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any

import numpy as np

from epidote.core.comparison.limits import Limit
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.channels import channel_name
from epidote.core.routine.model import MeasureStep
from epidote.core.settings import make_settings
from epidote.core.signals.signal import Samples
from epidote.core.statistics.overall import ValueStatistics, value_statistics
from epidote.core.statistics.relations import Correlation, correlation
from epidote.measurement.routine.storage import stored_routines
from epidote.study.annotations import valid
from epidote.study.models import Column
from epidote.study.queries import MeasuredCell
from epidote.study.store import Study

_SECONDS_A_DAY = 86400.0


@dataclass(frozen=True)
class UnitSelection:
    """Which units count; an empty field leaves none out. since, until: days, both included. serial: with * and ? as
    wildcards.
    """

    since: date | None = None
    until: date | None = None
    serial: str = ""
    firmware: str = ""
    operator: str = ""

    def holds(self, cell: MeasuredCell) -> bool:
        """Whether a measured cell belongs to the selection."""
        if self.since is not None or self.until is not None:
            day = cell.when.astimezone().date()
            if day < (self.since or day) or day > (self.until or day):
                return False
        if self.serial and not fnmatch.fnmatchcase(cell.serial.casefold(), self.serial.casefold()):
            return False
        if self.firmware and cell.firmware != self.firmware:
            return False
        return not self.operator or cell.person == self.operator


@dataclass(frozen=True)
class UnitValue:
    """A reading of one unit."""

    serial: str
    made: str
    value: float
    run_id: int
    subject_id: int

    @property
    def when(self) -> datetime:
        """When it was measured."""
        return datetime.fromisoformat(self.made)


@dataclass(frozen=True, eq=False)
class UnitValues:
    """A reading over units, in the order in which they were measured; left_out: units without a value."""

    column: Column
    key: str
    title: str
    channel: int
    unit: str
    values: tuple[UnitValue, ...]
    left_out: int

    @property
    def numbers(self) -> Samples:
        return np.array([v.value for v in self.values])

    @property
    def days(self) -> Samples:
        """Times of the measurements in days since the first (values,)."""
        seconds = np.array([v.when.timestamp() for v in self.values])
        return np.asarray((seconds - seconds[0]) / _SECONDS_A_DAY)


@dataclass(frozen=True)
class ReadingLimits:
    """lower, upper: None where there is none; source: whose they are."""

    lower: float | None = None
    upper: float | None = None
    source: str = ""


def find_column(study: Study, name: str) -> Column:
    """Return a column by its number, title, or procedure. Raises SettingError where none or several fit."""
    columns = study.queries.columns()
    wanted = name.casefold()
    fitting = [c for c in columns if name == str(c.id)]
    if not fitting:
        fitting = [c for c in columns if wanted in (c.title.casefold(), f"{c.title}, {c.summary}".casefold())]
    if not fitting:
        fitting = [c for c in columns if wanted in (c.procedure.casefold(), c.title.partition(",")[0].casefold())]
    listed = ", ".join(f"{c.id} ({c.title}, {c.summary})" for c in columns)
    if not fitting:
        raise SettingError(f"Unknown column “{name}”. Available: {listed or 'none'}.")
    if len(fitting) > 1:
        raise SettingError(f"Several columns fit “{name}”. Use the number of one: {listed}.")
    return fitting[0]


def unit_values(
    study: Study,
    column: Column,
    key: str,
    *,
    channel: int = 1,
    selection: UnitSelection = UnitSelection(),
) -> UnitValues:
    """Return a reading of every selected unit's latest run in a column. Raises SettingError for an unknown reading,
    UnusableInputError where no unit has it.
    """
    kinds = {kind.key: kind for kind in procedure(column.procedure).readings}
    if key not in kinds:
        raise SettingError(f"“{column.title}” has no reading “{key}”. Available: {', '.join(kinds)}. Use one of these.")
    cells = [cell for cell in study.queries.measured_cells(column.id) if selection.holds(cell)]
    found = _values_of(study, column, (key, channel), kinds[key].title, cells)
    if found is None:
        raise UnusableInputError(
            f"No selected unit has a value of “{key}”, {channel_name(channel)}. Measure units in this column first, or"
            " select others."
        )
    return found


def every_reading(study: Study, column: Column, selection: UnitSelection = UnitSelection()) -> tuple[UnitValues, ...]:
    """Return every reading of every channel over the selected units: those of one channel together, in the order in
    which the procedure declares them.
    """
    titles = {kind.key: kind.title for kind in procedure(column.procedure).readings}
    places = {key: place for place, key in enumerate(titles)}
    cells = [cell for cell in study.queries.measured_cells(column.id) if selection.holds(cell)]
    known = [of for of in study.queries.value_keys(column.id) if of[0] in titles]
    known.sort(key=lambda of: (of[1], places[of[0]]))
    made = [_values_of(study, column, of, titles[of[0]], cells) for of in known]
    return tuple(values for values in made if values is not None)


def _values_of(
    study: Study, column: Column, of: tuple[str, int], title: str, cells: Sequence[MeasuredCell]
) -> UnitValues | None:
    """Return a reading (key, channel) of cells; None where none has it. Raises UnusableInputError for several units."""
    key, channel = of
    stored = study.queries.values(column.id, key, channel)
    values = tuple(
        UnitValue(cell.serial, cell.made, stored[cell.run_id][0], cell.run_id, cell.subject_id)
        for cell in cells
        if cell.run_id in stored
    )
    if not values:
        return None
    units = {stored[value.run_id][1] for value in values}
    if len(units) > 1:
        raise UnusableInputError(
            f"The values of “{key}” have several units ({', '.join(sorted(units))}). Select runs of one calibration."
        )
    return UnitValues(column, key, title, channel, units.pop(), values, len(cells) - len(values))


def limits_for(study: Study, column: Column, key: str, channel: int) -> ReadingLimits:
    """Return the limits of a reading: of the study, else of the study's routines with a step of these settings."""
    for entry, limit in valid(study.entries.all("limit"), Limit):
        owner = entry.owner.column
        concerned = limit.of_a_reading and limit.key == key and limit.procedure == column.procedure
        if concerned and owner in (None, column.id):
            return _ends(limit.lower, limit.upper, limit.name)
    proc = procedure(column.procedure)
    for stored in stored_routines(study):
        for step in stored.routine.measured:
            if step.procedure != column.procedure or not _same_settings(proc, step, column):
                continue
            for one in step.limit:
                if one.key == key and not one.x_unit and not one.golden and one.channel in (0, channel):
                    return _ends(one.lower, one.upper, stored.routine.name)
    return ReadingLimits()


def _ends(lower: Sequence[tuple[float, float]], upper: Sequence[tuple[float, float]], source: str) -> ReadingLimits:
    return ReadingLimits(lower[0][1] if lower else None, upper[0][1] if upper else None, source)


def _same_settings(proc: Any, step: MeasureStep, column: Column) -> bool:
    made = make_settings(proc.Settings, step.settings).model_dump(mode="json")
    return bool(made == dict(column.settings))


def statistics_of(values: UnitValues, limits: ReadingLimits = ReadingLimits()) -> ValueStatistics:
    """Return the statistics of a reading over units."""
    return value_statistics(values.numbers, values.days, limits.lower, limits.upper)


@dataclass(frozen=True, eq=False)
class PairedValues:
    """Two readings x and y (count,) of the units that have both; places: of these among the units of y."""

    x: Samples
    y: Samples
    places: tuple[int, ...]
    correlation: Correlation | None


def paired_values(first: UnitValues, second: UnitValues) -> PairedValues:
    """Return two readings over the units that have both, and how they go together."""
    known = {v.subject_id: v.value for v in first.values}
    places = tuple(place for place, v in enumerate(second.values) if v.subject_id in known)
    x = np.array([known[second.values[place].subject_id] for place in places])
    y = np.array([second.values[place].value for place in places])
    return PairedValues(x, y, places, correlation(x, y))


@dataclass(frozen=True, eq=False)
class BandStatistics:
    """Of a curve over units, at each x (bands,) of the first; count, mean, s, least, greatest: (bands,)."""

    x: Samples
    x_unit: str
    y_unit: str
    units: int
    mean: Samples
    s: Samples
    least: Samples
    greatest: Samples


def curve_statistics(
    study: Study, column: Column, key: str, *, channel: int = 1, selection: UnitSelection = UnitSelection()
) -> BandStatistics:
    """Return mean and scatter of a curve over the selected units, band by band. Raises UnusableInputError for fewer
    than two units.
    """
    selected = {c.run_id for c in study.queries.measured_cells(column.id) if selection.holds(c)}
    curves = [c for c in study.queries.curves_of_column(column.id, key, channel) if c.run_id in selected]
    if len(curves) < 2:
        raise UnusableInputError(
            f"Statistics of the curve “{key}” need two units at least; {len(curves)} found. Measure more units in this"
            " column, or select others."
        )
    first = curves[0]
    # those that lie on the same x share it as one array
    y = np.stack([c.y if c.x is first.x else np.interp(first.x, c.x, c.y) for c in curves])
    return BandStatistics(
        first.x,
        first.x_unit,
        first.y_unit,
        len(curves),
        mean=y.mean(axis=0),
        s=y.std(axis=0, ddof=1),
        least=y.min(axis=0),
        greatest=y.max(axis=0),
    )


def day_of(text: str) -> date | None:
    """Return a typed day; None for an empty text. Raises SettingError."""
    if not text:
        return None
    try:
        return datetime.fromisoformat(text).replace(tzinfo=UTC).date()
    except ValueError as error:
        raise SettingError(f"“{text}” is not a date. Use YYYY-MM-DD.") from error
