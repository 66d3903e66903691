"""``compare``: rows of a study against each other."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say
from epidote.cli.study import PathArgument, find_subject
from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.channels import channel_key, channel_name, parse_channel
from epidote.study.models import Column, Overview, RunSummary, Subject
from epidote.study.store import Study

app = typer.Typer(
    help="Compare rows with each other, with claims and with limits. Exit code 5: a claim or limit is not met.",
    no_args_is_help=True,
    rich_markup_mode=None,
)

Against = Annotated[str, typer.Option("--against", help="row to compare with [default: the study's reference]")]
ColumnName = Annotated[
    str,
    typer.Argument(
        help="column: number, title or procedure, e.g. 2, “Single tone” or tone; “epidote study show” lists them",
        metavar="COLUMN",
    ),
]
Channel = Annotated[int, typer.Option(help="channel, from 1, or “average”", parser=parse_channel, metavar="CHANNEL")]


def runs_of_column(study: Study, name: str) -> tuple[Overview, Column, dict[int, RunSummary]]:
    """Return a column by its number, title or procedure, with its latest runs by row. Raises SettingError."""
    from epidote.measurement.unit_statistics import find_column

    seen, column = study.overview(), find_column(study, name)
    latest = {s.id: seen.runs[s.id, column.id] for s in seen.subjects if (s.id, column.id) in seen.runs}
    if not latest:
        raise SettingError(f"{study.path.name} contains no run of “{column.title}”. Measure it first.")
    return seen, column, latest


def _column_json(column: Column) -> dict[str, Any]:
    """Return which column was compared, as every JSON of a comparison begins."""
    return {"column": column.id, "title": column.title, "procedure": column.procedure}


def _reference(study: Study, seen: Overview, name: str, runs: dict[int, RunSummary]) -> Subject:
    subject: Subject | None = None
    if name:
        subject = find_subject(study, name)
    elif seen.reference:
        subject = seen.subject(seen.reference)
    if subject is None:
        raise SettingError("The study has no reference row. Name a row with --against.")
    if subject.id not in runs:
        raise SettingError(
            f"{subject.full_name} is not measured in this column. Measure it, or use another row with --against."
        )
    return subject


@app.command("readings")
def readings(
    path: PathArgument, column: ColumnName, against: Against = "", channel: Channel = 1, as_json: Json = False
) -> int:
    """Compare the readings of each row with the reference, with significance."""
    from epidote.core.procedures.registry import procedure as find
    from epidote.core.procedures.registry import reading_titles
    from epidote.core.wording.differences import comparison_words, mismatch_to_json
    from epidote.measurement.assessment import difference_report, known_spreads

    with Study(path) as study:
        seen, found, runs = runs_of_column(study, column)
        base = _reference(study, seen, against, runs)
        titles, known = reading_titles(find(found.procedure)), known_spreads(study, seen, runs[base.id].column_id)
        reports: list[dict[str, Any]] = []
        for subject in seen.subjects:
            if subject.id not in runs or subject.id == base.id or subject.is_baseline:
                continue
            report = difference_report(
                study, seen, (subject, runs[subject.id]), (base, runs[base.id]), channel, known=known
            )
            rows = [
                {
                    "key": key,
                    "difference": c.difference,
                    "unit": c.unit,
                    "interval": c.interval,
                    "finding": str(c.finding),
                    "repeats": list(c.repeats),
                    "words": comparison_words(c),
                }
                for key, c in report.comparisons
            ]
            mismatches = [mismatch_to_json(one) for one in report.mismatches]
            reports.append({"subject": subject.full_name, "differences": rows, "unlike": mismatches})
    if as_json:
        print_json(
            {**_column_json(found), "reference": base.full_name, "channel": channel_key(channel), "rows": reports}
        )
        return 0
    say(f"{found.title}, {found.summary}")
    for row in reports:
        say(f"{row['subject']} vs. {base.full_name}")
        for d in row["differences"]:
            say(f"  {titles.get(d['key'], d['key']).ljust(24)} {d['words']}")
        for u in row["unlike"]:
            say(f"  {'! ' if u['blocks'] else ''}{u['words']}")
    return 0


@app.command("curves")
def curves(
    path: PathArgument,
    column: ColumnName,
    curve: Annotated[str, typer.Argument(help="curve, e.g. level or thd_n")],
    against: Against = "",
    channel: Channel = 1,
    *,
    low: Annotated[
        float | None,
        typer.Option("--from", help="lower end of the range for the maximum deviation, in units of the x axis"),
    ] = None,
    high: Annotated[float | None, typer.Option("--to", help="upper end of the range")] = None,
    align: Annotated[
        list[float], typer.Option(help="align gains at this frequency in Hz; give it twice to align over a band")
    ] = [],
    axis: Annotated[str, typer.Option(help="x axis, if there are several: W, V, dBFS or Hz")] = "",
    as_json: Json = False,
) -> int:
    """Compare a curve of each row with the reference: maximum deviation and ranges where it is lower or higher."""
    import math

    import numpy as np

    from epidote.core.comparison.differences.difference import difference_curve, greatest_deviation
    from epidote.core.comparison.differences.gain_alignment import Levelling, levelled
    from epidote.core.procedures.registry import current_curve_key
    from epidote.core.results.curve_features import noise_uncertainty
    from epidote.core.wording.differences import ranges_words

    span = (-math.inf if low is None else low, math.inf if high is None else high)
    study = Study(path)
    rows: list[dict[str, Any]] = []
    with study:
        seen, found, runs = runs_of_column(study, column)
        curve = current_curve_key(found.procedure, curve)
        base = _reference(study, seen, against, runs)

        def of(subject: Subject) -> Any:
            candidates = [
                c for c in study.curves(runs[subject.id].id, [curve]) if c.channel == channel and axis in ("", c.x_unit)
            ]
            return next((c for c in candidates if c.x_unit in ("W", "Hz")), candidates[0] if candidates else None)

        reference = of(base)
        if reference is None:
            raise SettingError(f"{base.full_name} has no curve “{curve}” in {channel_name(channel)}.")
        others = [s for s in seen.subjects if s.id in runs and s.id != base.id and not s.is_baseline]
        for subject in others:
            own, shift = of(subject), None
            if own is None:
                continue
            if align:
                moved = levelled(own, reference, Levelling(align[0], align[1] if len(align) > 1 else None))
                if moved is not None:
                    own, shift = moved
            less = difference_curve(own, reference)
            if less is None:
                continue
            most = greatest_deviation(less, *span)
            uncertainty = np.hypot(noise_uncertainty(own, less.x), noise_uncertainty(reference, less.x))
            rows.append(
                {
                    "subject": subject.full_name,
                    "aligned_by_db": shift,
                    "greatest": most.value if most else None,
                    "at": most.at if most else None,
                    "unit": less.y_unit,
                    "x_unit": less.x_unit,
                    "words": ranges_words(subject.full_name, base.full_name, less, uncertainty),
                    "difference": less.to_json(),
                }
            )
    if as_json:
        print_json(
            {
                **_column_json(found),
                "reference": base.full_name,
                "curve": curve,
                "channel": channel_key(channel),
                "rows": rows,
            }
        )
        return 0
    say(f"{found.title}, {found.summary}")
    for row in rows:
        say(_deviation_in_words(row))
    return 0


def _deviation_in_words(row: dict[str, Any]) -> str:
    where = "none in this range"
    if row["at"]:
        deviation = format_quantity(row["greatest"], row["unit"], signed=True)
        where = f"{deviation} at {format_quantity(row['at'], row['x_unit'])}"
    aligned = ""
    if row["aligned_by_db"] is not None:
        aligned = f", aligned by {row['aligned_by_db']:+.2f} dB"
    return f"{row['subject']}: maximum deviation {where}{aligned}. {row['words']}"


@app.command("points")
def points(
    path: PathArgument,
    column: ColumnName,
    curve: Annotated[str, typer.Argument(help="curve, e.g. level or thd_n")],
    point: Annotated[
        list[str], typer.Option("--at", help="x or y value of the curve, e.g. 1 W, 1 kHz, 1 %, -3 dB; may be repeated")
    ],
    against: Against = "",
    *,
    channel: Channel = 1,
    as_json: Json = False,
) -> int:
    """List every row at operating points, with the difference from the reference."""
    from epidote.core.comparison.differences.operating_points import at_point, parse_point
    from epidote.core.procedures.registry import current_curve_key
    from epidote.core.wording.differences import difference_words

    study = Study(path)
    rows: list[dict[str, Any]] = []
    with study:
        seen, found, runs = runs_of_column(study, column)
        curve = current_curve_key(found.procedure, curve)
        base = _reference(study, seen, against, runs) if against or seen.reference else None
        curves_by_subject = {
            s.id: [c for c in study.curves(runs[s.id].id, [curve]) if c.channel == channel]
            for s in seen.subjects
            if s.id in runs
        }
        sample = next((c for c in curves_by_subject.values() if c), None)
        if sample is None:
            raise SettingError(
                f"No row has the curve “{curve}” in {channel_name(channel)}. Use a curve and channel of this column."
            )
        # a wire's curves know no watts; the other rows' do
        units = sorted(
            {c.x_unit for own in curves_by_subject.values() for c in own},
            key=lambda u: ("W", "Hz", "V", "dBFS").index(u) if u in ("W", "Hz", "V", "dBFS") else 9,
        )
        for text in point:
            operating_point = parse_point(text, curve, units, sample[0].y_unit)

            def told_of(s: Subject, operating_point: Any = operating_point) -> dict[tuple[str, str], Any]:
                return {
                    (r.key, r.unit): r
                    for r in at_point(curves_by_subject[s.id], operating_point)
                    if r.unit in (units[0], sample[0].y_unit)
                }

            bases = told_of(base) if base is not None and base.id in curves_by_subject else {}
            for subject in (s for s in seen.subjects if s.id in curves_by_subject):
                is_reference = base is not None and subject.id == base.id
                for key, reading in told_of(subject).items():
                    other = None if is_reference else bases.get(key)
                    difference = difference_words(reading.value, other.value, reading.unit) if other else ""
                    rows.append(
                        {
                            "point": reading.key,
                            "subject": subject.full_name,
                            "value": reading.value,
                            "unit": reading.unit,
                            "difference": difference,
                        }
                    )
    if as_json:
        print_json(
            {
                **_column_json(found),
                "reference": base.full_name if base else None,
                "curve": curve,
                "channel": channel_key(channel),
                "points": rows,
            }
        )
        return 0
    for name in dict.fromkeys(t["point"] for t in rows):
        say(name)
        for t in (t for t in rows if t["point"] == name):
            say(f"  {t['subject'].ljust(44)} {format_quantity(t['value'], t['unit']).rjust(14)}   {t['difference']}")
    return 0


@app.command("conditions")
def conditions(
    path: PathArgument,
    column: ColumnName,
    reading: Annotated[str, typer.Argument(help="reading, e.g. latency or thd_n")],
    unit: Annotated[str, typer.Option(help="only rows whose name starts with this")] = "",
    channel: Channel = 1,
    *,
    as_json: Json = False,
) -> int:
    """Tabulate a reading against the one or two conditions in which rows differ."""
    from epidote.core.comparison.conditions.condition_table import ConditionReading, equivalent_settings, grid
    from epidote.core.procedures.registry import current_reading_key
    from epidote.core.wording.differences import equivalence_words

    with Study(path) as study:
        seen, found, runs = runs_of_column(study, column)
        reading = current_reading_key(found.procedure, reading)
        rows = []
        for subject in seen.subjects:
            if (
                subject.id in runs
                and not subject.is_baseline
                and subject.full_name.casefold().startswith(unit.casefold())
            ):
                r = runs[subject.id].reading(reading, channel)
                if r is not None and r.value is not None:
                    rows.append(
                        ConditionReading(
                            subject.full_name,
                            {**({} if unit else {"unit": subject.name}), **subject.conditions},
                            r.value,
                            r.unit,
                            r.spread or 0.0,
                        )
                    )
    if not rows:
        raise SettingError(
            f"No row has the reading “{reading}” in {channel_name(channel)}. Use a reading that “epidote study show”"
            " lists."
        )
    g = grid(rows)
    equivalences = equivalent_settings(g)
    sentences = [equivalence_words(one) for one in equivalences]
    if g.second:
        seconds = g.second[1]
    else:
        seconds = ("",)
    if as_json:
        cells = [
            {g.first[0]: a, **({g.second[0]: b} if g.second else {}), "value": t.value, "unit": t.unit}
            for (a, b), t in g.cells.items()
        ]
        print_json(
            {
                **_column_json(found),
                "first": g.first[0],
                "second": g.second[0] if g.second else None,
                "cells": cells,
                "equivalent": [asdict(one) for one in equivalences],
                "alike": sentences,
            }
        )
        return 0
    say(f"{g.first[0]}{f' × {g.second[0]}' if g.second else ''}".ljust(24) + "".join(s.rjust(18) for s in seconds))
    for a in g.first[1]:
        say(
            a.ljust(24)
            + "".join((format_quantity(t.value, t.unit) if (t := g.at(a, s)) else "").rjust(18) for s in seconds)
        )
    for words in sentences:
        say(words)
    return 0
