"""``compare uniformity``: how much the levels of rows differ that were measured at several places."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say
from epidote.cli.study import PathArgument
from epidote.core.errors import SettingError
from epidote.core.results.channels import AVERAGE, channel_key, channel_name, parse_channel
from epidote.study.models import Column, Overview, RunSummary, Subject
from epidote.study.store import Study

if TYPE_CHECKING:
    from epidote.core.results.result import Curve


OptionalChannel = Annotated[
    int | None,
    typer.Option(
        help="channel, from 1, or “average” [default: the average where there is one]",
        parser=parse_channel,
        metavar="CHANNEL",
    ),
]


@dataclass(frozen=True)
class RowCurves:
    """The curves of a column that have a condition: their key; rows, each with its own; names of rows without one."""

    column: Column
    key: str
    rows: tuple[tuple[Subject, Curve], ...]
    missing: tuple[str, ...]


def curves_over(path: Path, column: str, over: str, *, unit: str, curve: str, channel: int | None) -> RowCurves:
    """Return the curves of the rows of a column that differ in a condition. unit: only rows whose name starts so;
    curve: its key, "" for that of the matrix. Raises SettingError where no row has one.
    """
    from epidote.core.procedures.registry import current_curve_key
    from epidote.core.procedures.registry import procedure as find

    rows, missing = [], []
    with Study(path) as study:
        seen = study.overview()
        chosen = _column_named(seen, column)
        key = current_curve_key(chosen.procedure, curve) if curve else find(chosen.procedure).views[0].key
        places = [s for s in seen.subjects if not s.is_baseline and s.conditions.get(over)]
        for subject in (s for s in places if s.full_name.casefold().startswith(unit.casefold())):
            run = seen.runs.get((subject.id, chosen.id))
            found = _curve_of(study, run, key, channel) if run is not None else None
            if found is None:
                missing.append(subject.full_name)
            else:
                rows.append((subject, found))
    if not rows:
        what = "" if channel is None else f" in {channel_name(channel)}"
        raise SettingError(
            f"No row with the condition “{over}” has the curve “{key}”{what}. Measure rows that differ in it, or use"
            " another condition with --over."
        )
    return RowCurves(chosen, key, tuple(rows), tuple(missing))


def _column_named(seen: Overview, name: str) -> Column:
    """Return the measured column of that title or procedure. Raises SettingError."""
    wanted = name.casefold()
    measured = {column for _, column in seen.runs}
    fitting = [c for c in seen.columns if wanted in (c.title.casefold(), c.procedure)]
    found = next((c for c in fitting if c.id in measured), None)
    if found is None:
        titles = ", ".join(c.title for c in seen.columns if c.id in measured) or "none"
        raise SettingError(f"The study has no measured column “{name}”. Measured columns: {titles}.")
    return found


def _curve_of(study: Study, run: RunSummary, key: str, channel: int | None) -> Curve | None:
    """Return a run's curve of a channel; where none is named, of the average or the first channel that has it."""
    curves = {c.channel: c for c in study.curves(run.id, [key] if key else None)}
    if channel is not None:
        return curves.get(channel)
    return curves.get(AVERAGE) or next(iter(curves.values()), None)


def compare_uniformity(
    path: PathArgument,
    column: Annotated[str, typer.Argument(help="column, by its title or procedure")],
    over: Annotated[str, typer.Option(help="condition in which the rows differ, such as seat")] = "seat",
    unit: Annotated[str, typer.Option(help="only rows whose name starts with this")] = "",
    curve: Annotated[str, typer.Option(help="curve to compare [default: that of the matrix]")] = "",
    *,
    channel: OptionalChannel = None,
    low: Annotated[float | None, typer.Option(help="lowest band in Hz", min=0)] = None,
    high: Annotated[float | None, typer.Option(help="highest band in Hz", min=0)] = None,
    as_json: Json = False,
) -> int:
    """Compare the levels of rows that differ in one condition: deviation by band, and the row that is worst."""
    from epidote.core.comparison.conditions.uniformity import uniformity, varying_conditions

    found = curves_over(path, column, over, unit=unit, curve=curve, channel=channel)
    measured = [subject for subject, _ in found.rows]
    levels = {subject.full_name: own for subject, own in found.rows}
    others = varying_conditions({s.full_name: {"unit": s.name, **s.conditions} for s in measured}, over)
    if others:
        raise SettingError(
            f"The rows differ not only in {over}, but also in {', '.join(others)}. Select rows of one kind with --unit."
        )
    result = uniformity(levels, low, high)
    place_of = {s.full_name: s.conditions[over] for s in measured}
    bands = [
        {
            "frequency_hz": band.frequency,
            "maximum_db": band.greatest,
            "maximum_at": place_of[band.greatest_at],
            "minimum_db": band.least,
            "minimum_at": place_of[band.least_at],
            "deviation_db": band.deviation,
            "near_background": band.near_background,
        }
        for band in result.bands
    ]
    if as_json:
        first = next(iter(levels.values()))
        data: dict[str, Any] = {
            "column": found.column.title,
            "curve": found.key,
            "channel": channel_key(first.channel),
            "over": over,
            "rows": list(place_of.values()),
            "missing": list(found.missing),
            "worst": place_of[result.worst],
            "worst_row": result.worst,
            "worst_frequency_hz": result.worst_frequency,
            "largest_db": result.largest,
            "uniformity_db": result.mean_deviation,
            "spread_db": result.spread,
            "bands": bands,
        }
        print_json(data)
        return 0
    for band in result.bands:
        places_in_words = f"{place_of[band.greatest_at]} to {place_of[band.least_at]}"
        mark = "  not included: less than 3 dB above background" if band.near_background else ""
        say(f"{band.frequency:10.1f} Hz {band.deviation:8.2f} dB   {places_in_words}{mark}")
    say(f"Largest deviation: {result.largest:.2f} dB at {result.worst_frequency:.0f} Hz, {result.worst}")
    say(f"Mean over the bands: {result.mean_deviation:.2f} dB (lower is more uniform)")
    if found.missing:
        say(f"Not measured: {', '.join(found.missing)}")
    return 0
