"""A routine from what was measured: the columns of a row as steps, limits from good units or about the row itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from epidote.core.comparison.limits import Corners
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.result import Result
from epidote.core.routine.limit_making import (
    USUAL_MARGIN,
    limits_from_run,
    limits_from_units,
    response_curves,
    sides_of,
)
from epidote.core.routine.model import MeasureStep, Routine
from epidote.core.routine.step_limit import StepLimit
from epidote.core.settings import make_settings, unusual_settings
from epidote.core.statistics.tolerance import LEAST_UNITS
from epidote.measurement.processing import result_of_run
from epidote.study.models import Column, RunSummary, Subject
from epidote.study.store import Study


@dataclass(frozen=True)
class LimitWish:
    """good: rows of good units; without any, limits lie ``margin`` dB about the row itself, those of curves by band
    where there are ``bands``.
    """

    good: tuple[Subject, ...] = ()
    margin: float = USUAL_MARGIN
    bands: Corners = ()


def routine_from_row(study: Study, row: Subject, name: str, wish: LimitWish | None) -> Routine:
    """Return a routine whose steps are the measured columns of a row, in their order; wish: None for no limits.

    Raises UnusableInputError where nothing of the row was measured, or too few good units were named.
    """
    if wish is not None and 0 < len(wish.good) < LEAST_UNITS:
        raise UnusableInputError(
            f"Limits from good units need {LEAST_UNITS} rows at least; {len(wish.good)} selected. Select more, or use a"
            " margin about one row."
        )
    steps = []
    for column in study.queries.columns():
        run = study.queries.latest_run(row.id, column.id)
        if run is None:
            continue
        limits: tuple[StepLimit, ...] = ()
        if wish is not None:
            limits = limits_of_column(study, column, run, wish, row.full_name)
        settings = unusual_settings(procedure(run.procedure).Settings, run.settings)
        steps.append(MeasureStep(procedure=run.procedure, settings=settings, limit=limits))
    if not steps:
        raise UnusableInputError(
            f"Nothing of “{row.full_name}” was measured. Measure its columns first, or select another row."
        )
    unit = row.unit
    return Routine(
        name=name,
        maker=unit.maker if unit is not None else "",
        model=unit.model if unit is not None else "",
        conditions=dict(row.conditions),
        step=tuple(steps),
    )


def limits_of_column(
    study: Study, column: Column, run: RunSummary, wish: LimitWish, source: str
) -> tuple[StepLimit, ...]:
    """Return the limits of a step: of the reading that stands for the procedure, and of its response."""
    procedure(run.procedure)  # which declares what its readings and curves are
    result = result_of_run(study, run)
    curves = response_curves(result)
    key = run.headline.reading.key if run.headline is not None else ""
    if not wish.good:
        readings = [r for r in result.readings if r.key == key]
        return limits_from_run(readings, curves, wish.margin, source, bands=wish.bands)
    results = results_of_rows(study, column, wish.good)
    return limits_from_units(results, key, tuple(dict.fromkeys(c.key for c in curves)))


class LimitSource(StrEnum):
    """Where limits come from."""

    GOOD_UNITS = "good units"
    ROW = "row"
    GOLDEN = "golden"


@dataclass(frozen=True)
class LimitsFrom:
    """rows: good units, or the one row. margin: distance, in dB or the reading's unit. key: of one reading or curve,
    "" for what stands for the procedure. floating: of curves only the shape counts. uncertainty: expanded (k = 2).
    bands: margins of curves by band, instead of the one margin.
    """

    source: LimitSource
    rows: tuple[Subject, ...]
    margin: float = USUAL_MARGIN
    key: str = ""
    floating: bool = False
    uncertainty: float = 0.0
    bands: Corners = ()


def made_limits(study: Study, step: MeasureStep, wish: LimitsFrom) -> tuple[StepLimit, ...]:
    """Return limits of a step from what rows measured with its settings. Raises UnusableInputError where they have no
    such run, or are too few.
    """
    proc = procedure(step.procedure)
    settings = make_settings(proc.Settings, step.settings).model_dump(mode="json")
    column = study.queries.column_with(step.procedure, settings)
    if column is None or not wish.rows:
        raise UnusableInputError(
            f"No row was measured with the settings of “{proc.title}”. Measure good units with this routine first, or"
            " select rows."
        )
    results = results_of_rows(study, column, wish.rows)
    run = study.queries.latest_run(wish.rows[0].id, column.id)
    main = run.headline.reading.key if run is not None and run.headline is not None else ""
    curves = [c.key for c in response_curves(results[0])]
    readings, wanted = main, curves
    if wish.key:
        is_curve = any(view.key == wish.key for view in proc.views) and wish.key not in {k.key for k in proc.readings}
        readings, wanted = ("", [wish.key]) if is_curve else (wish.key, [])
    made: tuple[StepLimit, ...]
    if wish.source is LimitSource.GOOD_UNITS:
        made = limits_from_units(results, readings, list(dict.fromkeys(wanted)))
    else:
        made = _about_one_row(results[0], readings, list(dict.fromkeys(wanted)), wish)
    if not made:
        raise UnusableInputError(
            "The selected rows have no value of this reading. No limit was created; select another reading."
        )
    return tuple(_with_wishes(limit, wish) for limit in made)


def _about_one_row(result: Result, key: str, curves: Sequence[str], wish: LimitsFrom) -> tuple[StepLimit, ...]:
    """Return limits so far from one row's values; relative to whatever it has at the time where it is the golden
    one.
    """
    row = wish.rows[0].full_name
    readings = [r for r in result.readings if r.key == key and r.value is not None]
    lines = [c for c in result.curves if c.key in curves and c.x.size > 1]
    if wish.source is LimitSource.ROW:
        return limits_from_run(readings, lines, wish.margin, row, bands=wish.bands)
    relative = []
    for reading in readings:
        upper, lower = sides_of(reading.key)
        relative.append(
            StepLimit(
                key=reading.key,
                unit=reading.unit,
                upper=((1.0, wish.margin),) if upper else (),
                lower=((1.0, -wish.margin),) if lower else (),
                channel=reading.channel,
                golden=row,
            )
        )
    for curve in lines:
        margins = wish.bands or tuple((float(x), wish.margin) for x in (curve.x[0], curve.x[-1]))
        relative.append(
            StepLimit(
                key=curve.key,
                unit=curve.y_unit,
                x_unit=curve.x_unit,
                upper=margins,
                lower=tuple((x, -margin) for x, margin in margins),
                channel=curve.channel,
                golden=row,
            )
        )
    return tuple(relative)


def _with_wishes(limit: StepLimit, wish: LimitsFrom) -> StepLimit:
    floats = wish.floating and bool(limit.x_unit and limit.upper and limit.lower)
    return limit.model_copy(update={"floating": floats, "uncertainty": wish.uncertainty})


def results_of_rows(study: Study, column: Column, rows: Sequence[Subject]) -> list[Result]:
    """Return the latest results of rows in a column. Raises UnusableInputError where one was not measured."""
    results = []
    for row in rows:
        run = study.queries.latest_run(row.id, column.id)
        if run is None:
            raise UnusableInputError(
                f"“{row.full_name}” was not measured in “{column.title}”. No limit was made; measure it first, or leave"
                " it out."
            )
        results.append(result_of_run(study, run))
    return results
