"""``study import-recording``, ``await``, ``attach`` and ``keep-source``: units that play or record by themselves, and
sources measured at a point.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.cli.analyse import Json, Set
from epidote.cli.common import parsed_settings, print_json, say
from epidote.cli.study import PathArgument, find_subject
from epidote.core.quantities.formatting import format_quantity
from epidote.study.store import Study

if TYPE_CHECKING:
    from epidote.measurement.request import RunPlan
    from epidote.study.models import RunSummary

SubjectOption = Annotated[str, typer.Option(help="subject (row), as printed by “epidote study show”")]
ProcedureOption = Annotated[str, typer.Option(help="procedure, e.g. response; “epidote procedures” lists all")]


def _order(study: Study, subject: str, procedure: str, values: dict[str, Any]) -> RunPlan:
    """Return the plan of a run in the cell of a row and a procedure's column, which is added where there is none."""
    from epidote.core.procedures.registry import procedure as find
    from epidote.core.settings import make_settings
    from epidote.measurement.chain_for_row import chain_for_subject
    from epidote.measurement.request import RunPlan, add_column

    row = find_subject(study, subject)
    settings = make_settings(find(procedure).Settings, values)
    column = add_column(study, procedure, settings)
    return RunPlan(row.id, column.id, procedure, settings, chain_for_subject(study, row))


def _say_run(run: RunSummary, *, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "run": run.id,
                "settings": dict(run.settings),
                "cautions": list(run.cautions),
                "readings": [reading.to_json() for reading in run.readings],
            }
        )
        return
    head = ""
    if run.headline:
        head = f": {format_quantity(run.headline.reading.value, run.headline.reading.unit)}"
    say(f"run {run.id}{head}")


def import_recording(
    path: PathArgument,
    file: Annotated[Path, typer.Argument(help="audio file")],
    subject: SubjectOption,
    procedure: ProcedureOption,
    stimulus: Annotated[Path | None, typer.Option(help="description (.json) written by “epidote stimulus”")] = None,
    *,
    background: Annotated[Path | None, typer.Option(help="recording of the background alone")] = None,
    set_: Set = [],
    as_json: Json = False,
) -> int:
    """Import a recording made elsewhere as a run of a row."""
    from epidote.core.procedures.registry import procedure as find
    from epidote.measurement.offline import import_recording as carry_out

    proc = find(procedure)
    from epidote.measurement.stimulus_description import read_description

    told = read_description(stimulus)
    values, played, marks = told.settings, told.stimulus, told.marks
    if stimulus is None:
        values = dict(proc.for_existing_sound(values))
    values |= parsed_settings(proc.Settings, set_)
    with Study(path) as study:
        order = _order(study, subject, procedure, values)
        run = carry_out(study, order, file, marks or played, background)
    _say_run(run, as_json=as_json)
    return 0


def await_recording(
    path: PathArgument,
    file: Annotated[Path, typer.Argument(help="stimulus file to write (.wav or .flac)")],
    subject: SubjectOption,
    procedure: ProcedureOption,
    how: Annotated[str, typer.Option(help="note on how it is played")] = "",
    *,
    set_: Set = [],
    as_json: Json = False,
) -> int:
    """Export a stimulus file and create a run that waits for its recording; “study attach” completes it."""
    from epidote.core.procedures.registry import procedure as find
    from epidote.measurement.waiting import await_recording as carry_out

    with Study(path) as study:
        order = _order(study, subject, procedure, parsed_settings(find(procedure).Settings, set_))
        run = carry_out(study, order, file, how)
    _say_run(run, as_json=as_json)
    return 0


def attach(
    path: PathArgument,
    run: Annotated[int, typer.Argument(help="number of the waiting run")],
    file: Annotated[Path, typer.Argument(help="recording of the stimulus file")],
    as_json: Json = False,
) -> int:
    """Complete a run that waits for its recording."""
    from epidote.measurement.waiting import attach_recording

    with Study(path) as study:
        made = attach_recording(study, run, file)
    _say_run(made, as_json=as_json)
    return 0


def keep_source(
    path: PathArgument,
    run: Annotated[int, typer.Argument(help="number of the run that measured the source")],
    place: Annotated[str, typer.Option(help="where the measuring point is")] = "",
    as_json: Json = False,
) -> int:
    """Save a source measured with the reference microphone in the chain of the row."""
    from epidote.core.chain.chain_toml import chain_from_toml
    from epidote.measurement.kept_source import keep_source as carry_out

    with Study(path) as study:
        change = carry_out(study, run, place)
    source = chain_from_toml(change.after).source
    if as_json:
        print_json({"setting": change.setting, "source": source.model_dump(mode="json") if source else None})
        return 0
    say(change.words)
    return 0


def sound(
    path: PathArgument,
    run: Annotated[int, typer.Argument(help="number of the run")],
    key: Annotated[str, typer.Argument(help="sound, e.g. residual")],
    out: Annotated[Path, typer.Option("--out", help="file to write (.wav or .flac)")],
    *,
    channel: Annotated[int, typer.Option(help="channel, from 1")] = 1,
    as_json: Json = False,
) -> int:
    """Export a sound derived from the recordings of a run, such as the residual of a sweep without harmonics."""
    from epidote.measurement.run_sounds import write_run_sound

    with Study(path) as study:
        made = write_run_sound(study, run, key, channel, out)
    seconds = made.samples.size / made.rate
    if as_json:
        print_json({"file": str(out), "seconds": seconds, "raised_db": made.raised_db})
        return 0
    say(f"{out}: {seconds:.1f} s, raised by {made.raised_db:.1f} dB")
    return 0


def inverse(
    path: PathArgument,
    subject: SubjectOption,
    target: Annotated[Path, typer.Argument(help="text file to write")],
    *,
    low: Annotated[float, typer.Option(help="lowest frequency in Hz")] = 40.0,
    high: Annotated[float, typer.Option(help="highest frequency in Hz")] = 16000.0,
    limit: Annotated[float, typer.Option(help="maximum boost or cut in dB")] = 12.0,
    channel: Annotated[int, typer.Option(help="channel")] = 1,
) -> int:
    """Write the inverse of a row's measured response, for “Equalise with” of the procedure “Programme material”."""
    from epidote.core.errors import SettingError
    from epidote.measurement.inverse_response import has_response, write_inverse

    with Study(path) as study:
        row = find_subject(study, subject)
        runs = [run for run in study.overview().runs_of_row(row.id) if has_response(run)]
        if not runs:
            raise SettingError(f"{row.full_name} has no run of “Response”. Measure it first.")
        run = max(runs, key=lambda r: r.made)
        say(write_inverse(study, run, channel, target, band=(low, high), limit=limit))
    return 0
