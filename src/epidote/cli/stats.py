"""``stats``: one reading, or one curve, over many units; or a plain list of numbers."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.channels import parse_channel
from epidote.core.results.reading import finite

if TYPE_CHECKING:
    from epidote.core.statistics.overall import ValueStatistics
    from epidote.measurement.unit_statistics import BandStatistics

VALUES = "values"
_MOST_BYTES, _MOST_VALUES = 64 * 1024 * 1024, 10_000_000


def stats(
    study: Annotated[str, typer.Argument(help="study folder; or the word “values”, followed by a CSV file of numbers")],
    column: Annotated[str, typer.Argument(help="column: its number, procedure or title; or the CSV file")],
    reading: Annotated[str, typer.Argument(help="reading, e.g. thd_n; or curve, with --curve")] = "",
    channel: Annotated[str, typer.Option(help="channel, from 1, or “average”")] = "1",
    lower: Annotated[
        float | None, typer.Option(help="lower limit [default: that of the study or its routines]")
    ] = None,
    *,
    upper: Annotated[float | None, typer.Option(help="upper limit [default: as for --lower]")] = None,
    since: Annotated[str, typer.Option(help="only units measured since this day (YYYY-MM-DD)")] = "",
    until: Annotated[str, typer.Option(help="only units measured until this day (YYYY-MM-DD)")] = "",
    serial: Annotated[str, typer.Option(help="only these serial numbers; * and ? are wildcards")] = "",
    firmware: Annotated[str, typer.Option(help="only units with this firmware")] = "",
    operator: Annotated[str, typer.Option(help="only units that this operator measured")] = "",
    against: Annotated[str, typer.Option(help="another reading of the same column, for the correlation")] = "",
    curve: Annotated[bool, typer.Option("--curve", help="statistics of a curve, at each of its points")] = False,
    as_json: Json = False,
) -> int:
    """Statistics of one reading over units.

    Count, mean, standard deviation, capability, yield, outliers, control chart and drift.
    """
    from epidote.core.statistics.overall import value_statistics
    from epidote.measurement import unit_statistics as service
    from epidote.study.store import Study

    if study == VALUES:
        found = value_statistics(read_values(Path(column)), None, lower, upper)
        _tell(found, "", [str(n) for n in range(1, found.values.size + 1)], {}, as_json=as_json)
        return 0
    if not reading:
        raise SettingError("The reading is missing. Enter one after the column, e.g. thd_n.")
    selection = service.UnitSelection(service.day_of(since), service.day_of(until), serial, firmware, operator)
    number = parse_channel(channel)
    with Study(Path(study)) as opened:
        where = service.find_column(opened, column)
        if curve:
            _tell_bands(
                service.curve_statistics(opened, where, reading, channel=number, selection=selection), as_json=as_json
            )
            return 0
        values = service.unit_values(opened, where, reading, channel=number, selection=selection)
        limits = service.limits_for(opened, where, reading, number)
        if lower is not None or upper is not None:
            limits = service.ReadingLimits(lower, upper, "as entered")
        found = service.statistics_of(values, limits)
        more: dict[str, Any] = {
            "column": where.title,
            "reading": reading,
            "channel": number,
            "unit": values.unit,
            "limits": {"lower": limits.lower, "upper": limits.upper, "source": limits.source},
            "left_out": values.left_out,
        }
        if against:
            other = service.unit_values(opened, where, against, channel=number, selection=selection)
            related = service.paired_values(values, other).correlation
            more["correlation"] = (
                None
                if related is None
                else {"with": against, "r": related.r, "interval": list(related.interval), "n": related.count}
            )
    _tell(found, values.unit, [v.serial for v in values.values], more, as_json=as_json)
    return 0


def read_values(path: Path) -> Any:
    """Return the numbers of a CSV file, the first column that holds any; a heading is passed over.

    Raises UnusableInputError naming the line that is no number.
    """
    import numpy as np

    from epidote.audio.files.sound_file import read_bounded

    text = read_bounded(path, _MOST_BYTES, "a list of numbers").decode(errors="replace")
    rows = [row for row in csv.reader(text.splitlines()) if any(cell.strip() for cell in row)]
    if len(rows) > _MOST_VALUES:
        raise UnusableInputError(f"{path.name} has more than {_MOST_VALUES} lines. Use a shorter list.")
    column = _first_number_column(rows)
    values = []
    for number, row in enumerate(rows, start=1):
        cell = row[column].strip() if column < len(row) else ""
        try:
            value = float(cell)
        except ValueError:
            if number == 1:
                continue  # the heading
            raise UnusableInputError(
                f"{path.name}, line {number}: “{cell}” is not a number. Nothing was computed; correct the line."
            ) from None
        if finite(value) is None:
            raise UnusableInputError(
                f"{path.name}, line {number}: “{cell}” is not a finite number. Nothing was computed; correct the line."
            )
        values.append(value)
    if not values:
        raise UnusableInputError(f"{path.name} holds no numbers. Use a file with one number in each line.")
    return np.array(values)


def _first_number_column(rows: list[list[str]]) -> int:
    """Return the first column with a number in the last line."""
    for place, cell in enumerate(rows[-1] if rows else []):
        try:
            float(cell)
        except ValueError:
            continue
        return place
    return 0


def statistics_json(found: ValueStatistics, names: list[str]) -> dict[str, Any]:
    """Return the statistics as data; outliers and signals of the chart by the names of their units."""
    able, within, drift, chart = found.capability, found.within, found.drift, found.chart
    plot, bins = found.normal_plot, found.histogram
    return {
        "n": int(found.values.size),
        "mean": found.mean,
        "s": found.s,
        "minimum": float(found.values.min()),
        "maximum": float(found.values.max()),
        "cp": able.cp if able is not None else None,
        "cp_interval": list(able.cp_interval) if able is not None and able.cp_interval is not None else None,
        "cpk": able.cpk if able is not None else None,
        "cpk_interval": list(able.cpk_interval) if able is not None else None,
        "yield": within.share if within is not None else None,
        "yield_interval": list(within.interval) if within is not None else None,
        "outliers": [{"name": names[place], "value": float(found.values[place])} for place in found.outliers.places],
        "drift_per_day": drift.per_day if drift is not None else None,
        "drift_interval": drift.interval if drift is not None else None,
        "normal_fit": plot.fit if plot is not None else None,
        "histogram": ({"edges": bins.edges.tolist(), "counts": bins.counts.tolist()} if bins is not None else None),
        "chart": (
            {
                "centre": chart.centre,
                "lower": chart.lower,
                "upper": chart.upper,
                "mean_range": chart.mean_range,
                "upper_range": chart.upper_range,
                "signals": [{"name": names[s.place], "place": s.place + 1, "rule": str(s.rule)} for s in chart.signals],
            }
            if chart is not None
            else None
        ),
    }


def _tell(found: ValueStatistics, unit: str, names: list[str], more: dict[str, Any], *, as_json: bool) -> None:
    data = {**more, **statistics_json(found, names)}
    if as_json:
        print_json(data)
        return
    for name, value in (("mean", found.mean), ("s", found.s)):
        say(f"{name.ljust(16)} {format_quantity(value, unit, digits=4) if value is not None else 'unknown'}")
    say(f"{'n'.ljust(16)} {data['n']}")
    for name in ("cp", "cpk", "yield", "normal_fit"):
        if data[name] is not None:
            say(f"{name.ljust(16)} {data[name]:.4g}")
    if found.long_drift is not None:
        drift = format_quantity(found.long_drift.per_day, unit, digits=3)
        say(f"{'drift per day'.ljust(16)} {drift} ±{format_quantity(found.long_drift.interval, unit, digits=2)}")
    listed = ", ".join(f"{o['name']} ({format_quantity(o['value'], unit, digits=4)})" for o in data["outliers"])
    say(f"{'outliers'.ljust(16)} {listed or 'none'}")
    if found.chart is not None:
        for signal in found.chart.signals:
            say(f"{'chart'.ljust(16)} {names[signal.place]}: {signal.rule}")


def _tell_bands(bands: BandStatistics, *, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "n": bands.units,
                "x_unit": bands.x_unit,
                "unit": bands.y_unit,
                "x": bands.x.tolist(),
                "mean": bands.mean.tolist(),
                "s": bands.s.tolist(),
                "minimum": bands.least.tolist(),
                "maximum": bands.greatest.tolist(),
            }
        )
        return
    say(f"{bands.units} units; {bands.x_unit}, mean, s, minimum, maximum ({bands.y_unit})")
    for row in zip(bands.x, bands.mean, bands.s, bands.least, bands.greatest, strict=True):
        say("  ".join(f"{value:.6g}" for value in row))
