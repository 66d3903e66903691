"""``study``: make one, look into it, add rows, recompute, export."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from epidote.cli.analyse import Json, Set
from epidote.cli.common import parsed_settings, print_json, read_chain, say
from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.caution import Caution
from epidote.study.models import RunSummary, Subject
from epidote.study.store import Study, create_study

if TYPE_CHECKING:
    from epidote.study.interchange.exporters import Exporter, RunExport


app = typer.Typer(
    help="Create, show, recompute, import and export studies.", no_args_is_help=True, rich_markup_mode=None
)

PathArgument = Annotated[Path, typer.Argument(help="study folder")]
Condition = Annotated[list[str], typer.Option("--condition", help="condition, name=value; may be repeated")]


def find_subject(study: Study, name: str) -> Subject:
    """Return a row by its full name, its number, or a beginning that only one row has.

    Raises SettingError listing the rows.
    """
    rows = study.overview().subjects
    exact = [s for s in rows if s.full_name.casefold() == name.casefold() or str(s.id) == name]
    matches = exact or [s for s in rows if s.full_name.casefold().startswith(name.casefold())]
    if len(matches) == 1:
        return matches[0]
    listed = "; ".join(s.full_name for s in rows)
    raise SettingError(
        f"“{name}” matches {'no row' if not matches else 'more than one row'} in {study.path.name}. Rows: {listed}."
    )


@app.command("new")
def new(
    path: PathArgument,
    title: Annotated[str | None, typer.Option(help="title of the study")] = None,
    chain: Annotated[Path | None, typer.Option(help="chain file (.toml) for the study")] = None,
) -> int:
    """Create an empty study."""
    from epidote.cli.common import read_chain
    from epidote.core.chain.chain_toml import chain_to_toml

    if chain:
        path_chain = read_chain(chain)
    else:
        path_chain = None
    study = create_study(path, title)
    if path_chain:
        study.set_setting("chain", chain_to_toml(path_chain))
    say(f"{study.path}")
    study.close()
    return 0


@app.command("add")
def add(
    path: PathArgument,
    maker: Annotated[str, typer.Option()] = "",
    model: Annotated[str, typer.Option()] = "",
    serial: Annotated[str, typer.Option()] = "",
    device: Annotated[str, typer.Option(help="device the unit is connected to; see “epidote devices”")] = "",
    *,
    chain: Annotated[Path | None, typer.Option(help="chain file (.toml) of this row alone")] = None,
    condition: Condition = [],
) -> int:
    """Add a row: a unit (created if necessary) under conditions."""
    from epidote.measurement.chain_for_row import set_chain_of_subject

    pairs = [c.partition("=") for c in condition]
    if any(not equals for _, equals, _ in pairs):
        raise SettingError("A condition must be name=value. Nothing was added.")
    with Study(path) as study:
        unit = next((u for u in study.units() if (u.maker, u.model, u.serial) == (maker, model, serial)), None)
        row = study.add_subject(
            unit or study.add_unit(maker, model, serial), {k.strip(): v.strip() for k, _, v in pairs}, device
        )
        if chain is not None:
            set_chain_of_subject(study, row, read_chain(chain))
        say(row.full_name)
    return 0


@app.command("show")
def show(path: PathArgument, as_json: Json = False) -> int:
    """Print the matrix: rows, columns and the main reading of each run."""
    with Study(path) as study:
        seen = study.overview()
        if as_json:
            print_json(
                {
                    "title": seen.title,
                    "read_only": study.read_only,
                    "subjects": [
                        {"id": s.id, "name": s.full_name, "conditions": dict(s.conditions), "device": s.device}
                        for s in seen.subjects
                    ],
                    "columns": [
                        {
                            "id": c.id,
                            "procedure": c.procedure,
                            "title": c.title,
                            "summary": c.summary,
                            "settings": dict(c.settings),
                        }
                        for c in seen.columns
                    ],
                    "runs": [
                        {
                            "id": r.id,
                            "subject": r.subject_id,
                            "column": r.column_id,
                            "procedure": r.procedure,
                            "made": r.made.isoformat(),
                            "settings": dict(r.settings),
                            "cautions": list(r.cautions),
                            "readings": [reading.to_json() for reading in r.readings],
                        }
                        for r in seen.runs.values()
                    ],
                }
            )
            return 0
        say(f"{seen.title}{f' (read-only: {study.why_read_only})' if study.read_only else ''}")
        if not seen.columns:
            say("\nRows")
            for subject in seen.subjects:
                say(f"  {subject.full_name}")
            say("No columns yet. Measure a procedure to add one.")
        cautions: dict[str, None] = {}
        for column in seen.columns:
            runs = [run for (_, of), run in seen.runs.items() if of == column.id]
            say(f"\n{column.id}  {column.title}, {column.summary}{_shown_reading(runs)}")
            for subject in seen.subjects:
                run = seen.runs.get((subject.id, column.id))
                say(_row_in_words(subject, run))
                cautions.update(dict.fromkeys(run.cautions if run is not None else ()))
        for key in cautions:
            say(f"! {Caution(key).words}" if key in set(Caution) else f"! {key}")
    return 0


def _shown_reading(runs: list[RunSummary]) -> str:
    """Return the name of the reading that stands beside the rows of a column: "; reading: THD+N"."""
    heads = dict.fromkeys(run.headline.title for run in runs if run.headline is not None)
    return f"; reading: {', '.join(heads)}" if heads else ""


def _row_in_words(subject: Subject, run: RunSummary | None) -> str:
    head, number, cautions = "not measured", "", ""
    if run is not None:
        number = f"run {run.id}"
        cautions = ""
        if run.cautions:
            cautions = "  !"
        if run.headline:
            head = format_quantity(run.headline.reading.value, run.headline.reading.unit)
    return f"  {subject.full_name.ljust(44)} {head.rjust(14)}  {number}{cautions}"


@app.command("recompute")
def recompute(
    path: PathArgument, run: Annotated[int, typer.Argument(help="run number")], set_: Set = [], as_json: Json = False
) -> int:
    """Recompute a run from its recordings with other settings. Nothing is played."""
    from epidote.core.procedures.registry import procedure
    from epidote.measurement.recompute import recompute as carry_out

    with Study(path) as study:
        proc = procedure(study.run(run).procedure)
        made = carry_out(study, run, parsed_settings(proc.Settings, set_))
        if as_json:
            print_json(
                {
                    "run": made.id,
                    "settings": dict(made.settings),
                    "cautions": list(made.cautions),
                    "readings": [reading.to_json() for reading in made.readings],
                }
            )
        else:
            head = ""
            if made.headline:
                head = format_quantity(made.headline.reading.value, made.headline.reading.unit)
            say(f"run {made.id}, from the recordings of run {made.recomputed_from}: {head}")
    return 0


@app.command("export")
def export(
    path: PathArgument,
    out: Annotated[Path, typer.Argument(help="file to write; its ending selects the format")],
    run: Annotated[list[int], typer.Option(help="run number; may be repeated [default: all runs in the matrix]")] = [],
    curve: Annotated[str | None, typer.Option(help="curve of each run to export instead of the readings")] = None,
    format_: Annotated[
        str, typer.Option("--format", help="readings, curves, text or json [default: by the file's ending]")
    ] = "",
) -> int:
    """Export readings or curves of several runs as CSV, text or JSON."""
    from epidote.core.procedures.registry import current_curve_key
    from epidote.study.interchange.exporters import ExportedRun, RunExport

    exporter = _exporter_for(out, curve, format_)
    with Study(path) as study:
        seen = study.overview()
        chosen = [study.run(number) for number in run] or list(seen.runs.values())
        exported = []
        for summary in chosen:
            subject = seen.subject(summary.subject_id)
            if subject is None:
                continue
            curves = study.curves(summary.id)
            key = current_curve_key(summary.procedure, curve or "")
            shown = tuple(c for c in curves if not curve or c.key == key)
            notes = seen.notes_on(subject, summary)
            exported.append(ExportedRun(subject.full_name, summary, shown, curves, notes))
        channels = frozenset(c.channel for one in exported for c in one.shown)
        exporter.write(out, RunExport(tuple(exported), channels))
    say(f"{out}: {len(exported)} runs")
    return 0


def _exporter_for(out: Path, curve: str | None, key: str) -> Exporter[RunExport]:
    """Return the exporter by its key, else by the file's ending. Raises SettingError that names the formats."""
    from epidote.study.interchange.exporters import CURVES, EXPORTERS, READINGS, exporter_of

    by_key = {exporter.key: exporter for exporter in EXPORTERS}
    if key:
        if key not in by_key:
            raise SettingError(f"--format: “{key}” is not valid; use one of: {', '.join(by_key)}.")
        return by_key[key]
    if curve is None and out.suffix.lower() == CURVES.ending:
        return READINGS
    exporter = exporter_of(out, EXPORTERS)
    if exporter is None:
        raise SettingError(
            f"{out.name} has no ending that can be exported to. Nothing was written; use"
            f" {', '.join(e.ending for e in EXPORTERS)}, or --format."
        )
    return exporter


@app.command("latency")
def latency(
    path: PathArgument,
    equal: Annotated[float | None, typer.Option(help="list only latencies equal to this value, in ms")] = None,
    within: Annotated[float, typer.Option(help="tolerance for --equal, in %")] = 5.0,
    as_json: Json = False,
) -> int:
    """List latencies by device, buffer and sample rate, with the equivalent distance in air."""
    from epidote.core.comparison.conditions.latency_table import (
        distance_in_air,
        latency_table,
        similar_latencies,
    )
    from epidote.core.wording.differences import latency_words
    from epidote.measurement.assessment import latencies

    with Study(path) as study:
        rows = latencies(study)
    if not rows:
        raise SettingError(f"{path.name} contains no latency runs. Measure “latency” first.")
    if equal is not None:
        chosen = similar_latencies(rows, equal / 1000, within / 100)
    else:
        chosen = rows
    if as_json:
        print_json(
            {
                "latencies": [
                    {
                        "device": one.device,
                        "rate": one.rate,
                        "buffer": one.buffer,
                        "seconds": one.seconds,
                        "spread": one.spread,
                        "worst": one.longest,
                        "jumps": one.jumps,
                        "metres_in_air": distance_in_air(one.seconds),
                        "verdict": latency_words(one),
                    }
                    for one in chosen
                ]
            }
        )
        return 0
    if equal is not None:
        say(f"Latencies of {equal:g} ms ±{within:g} %:" if chosen else f"No latency of {equal:g} ms ±{within:g} %.")
        for one in chosen:
            jumps = f" (jumps, up to {1000 * one.longest:.3f} ms)" if one.jumps else ""
            say(f"  {1000 * one.seconds:.3f} ms   {one.device}, {_setting_words(one.setting)}{jumps}")
        return 0
    table = latency_table(rows)
    for setting in table.settings:
        say(_setting_words(setting))
        for device in table.devices:
            cell = table.cells.get((device, setting))
            if cell is not None:
                say(
                    f"  {device.ljust(56)} {1000 * cell.seconds:9.3f} ms  {distance_in_air(cell.seconds):7.2f} m "
                    f" {latency_words(cell)}"
                )
    return 0


def _setting_words(setting: tuple[float, int]) -> str:
    rate, buffer = setting
    return f"{rate / 1000:g} kHz, {f'buffer {buffer}' if buffer else 'buffer not specified'}"


@app.command("zip")
def zip_(path: PathArgument, out: Annotated[Path, typer.Argument(help="ZIP file to write")]) -> int:
    """Export a study as one ZIP file, including recordings and pictures."""
    from epidote.study.interchange.archive import zip_study

    with Study(path) as study:
        say(f"{zip_study(study, out)}")
    return 0


@app.command("unzip")
def unzip(
    source: Annotated[Path, typer.Argument(help="ZIP file of a study")],
    folder: Annotated[Path, typer.Argument(help="folder to unpack into")] = Path(),
    most_gb: Annotated[float, typer.Option("--most-gb", min=0, help="largest size to unpack to, in GB")] = 20.0,
) -> int:
    """Import a study from a ZIP file."""
    from epidote.study.interchange.archive import unzip_study

    say(f"{unzip_study(source, folder, round(min(most_gb, 1e9) * 1e9))}")
    return 0


@app.command("json")
def as_json_file(
    path: PathArgument, curves: Annotated[bool, typer.Option("--curves", help="include all curves")] = False
) -> int:
    """Print the study as one JSON document."""
    from epidote.study.interchange.archive import study_json

    with Study(path) as study:
        print_json(study_json(study, study.overview(), curves=curves))
    return 0
