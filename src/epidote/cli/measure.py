"""``measure`` carries out one run into a study.

``devices`` and ``procedures`` list what there is; ``demo`` opens the demo study.
"""

from __future__ import annotations

import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.audio.soundcard.patience import patience
from epidote.cli.analyse import Json, Set
from epidote.cli.common import parsed_settings, print_json, print_result, read_chain, say, warn
from epidote.cli.stopping import stoppable
from epidote.core.errors import SettingError

if TYPE_CHECKING:
    from epidote.core.settings import Settings
    from epidote.study.models import Subject
    from epidote.study.store import Study

USUAL_DEVICE = "standin:wire"


def measure(
    procedure: Annotated[str, typer.Argument(help="procedure, e.g. response or tone; “epidote procedures” lists all")],
    study: Annotated[Path, typer.Option(help="study folder")],
    subject: Annotated[str, typer.Option(help="subject (row), as printed by “epidote study show”")],
    device: Annotated[
        str | None, typer.Option(help="sound device, see “epidote devices” [default: that of the row]")
    ] = None,
    set_: Set = [],
    *,
    over: Annotated[
        list[str],
        typer.Option(
            help=(
                "measure under several conditions, e.g. buffer=32,64,128 or “rate=44.1 kHz,96 kHz”; one row and run per"
                " combination"
            )
        ),
    ] = [],
    times: Annotated[
        int, typer.Option(help="number of runs; their scatter shows which differences are significant", min=1, max=200)
    ] = 1,
    chain: Annotated[Path | None, typer.Option(help="chain file (.toml) [default: the study's chain]")] = None,
    check: Annotated[
        bool, typer.Option(help="check level and connections before the run and refuse a run that would fail")
    ] = True,
    full_level: Annotated[
        bool, typer.Option("--full-level", help="after a change of the chain, measure at full level without asking")
    ] = False,
    command: Annotated[
        Path | None,
        typer.Option(help="play this command first and record the unit's own player, which holds the stimulus file"),
    ] = None,
    time_out: Annotated[
        float, typer.Option(help="with --command: seconds within which the unit must begin to play", min=1, max=600)
    ] = 10.0,
    seed: Annotated[
        int | None,
        typer.Option(help="simulated devices only: the same seed gives the same recording", min=0, max=2**63),
    ] = None,
    as_json: Json = False,
) -> int:
    """Measure a subject and save the run in its study."""
    from epidote.cli.study import find_subject
    from epidote.core.errors import CancelledError, EpidoteError
    from epidote.core.procedures.registry import procedure as find
    from epidote.core.settings import make_settings
    from epidote.study.store import Study

    proc = find(procedure)
    typed, sound_level = _sound_level(set_)
    settings = make_settings(proc.Settings, parsed_settings(proc.Settings, typed))
    combinations = _combinations(over)
    opened = Study(study)
    runs: list[dict[str, Any]] = []
    worst = 0
    try:
        if opened.read_only:
            raise SettingError(f"{study.name} is read-only ({opened.why_read_only}). Nothing was measured.")
        row = find_subject(opened, subject)
        for conditions in combinations:
            one = _row_with(opened, row, conditions)
            try:
                for n in range(times):
                    with stoppable() as stop:
                        made = _carried_out(
                            opened,
                            one,
                            proc,
                            settings,
                            device,
                            chain=chain,
                            check=check,
                            full_level=full_level,
                            seed=None if seed is None else seed + n,
                            as_json=as_json,
                            stop=stop,
                            command=(command, time_out) if command is not None else None,
                            sound_level=sound_level,
                        )
                        runs.append(made)
                        if stop.is_set():
                            raise CancelledError("Stopped. The last run was saved as far as it went.")
            except CancelledError as error:
                whole = len(runs)
                raise CancelledError(
                    f"{error} {whole} run{'s' if whole != 1 else ''} of this command {'are' if whole != 1 else 'is'} in"
                    " the study."
                ) from error
            except EpidoteError as error:
                if len(combinations) == 1:
                    raise
                warn(f"{one.full_name}: {error}")  # the device may not allow this one; the others are worth having
                worst = max(worst, error.exit_code)
    finally:
        opened.close()
    if as_json and runs:
        print_json(runs[0] if not over and times == 1 else {"runs": runs})
    return worst


def _sound_level(pairs: list[str]) -> tuple[list[str], str]:
    """Return typed settings without a level in dB SPL, and that level; "" where there is none."""
    from epidote.measurement.sound_level import parse_sound_level

    rest, found = [], ""
    for pair in pairs:
        name, _, text = pair.partition("=")
        if name.strip() == "level" and parse_sound_level(text) is not None:
            found = text.strip()
        else:
            rest.append(pair)
    return rest, found


def _combinations(over: list[str]) -> list[dict[str, str]]:
    """Every combination of the conditions' values, the last changing first. Raises SettingError."""
    from itertools import product

    named = []
    for words in over:
        name, _, values = words.partition("=")
        choices = [v.strip() for v in values.split(",") if v.strip()]
        if not name.strip() or not choices:
            raise SettingError(f"--over “{words}” is not valid. Use name=value,value, e.g. buffer=32,64,128.")
        named.append([(name.strip(), value) for value in choices])
    return [dict(pairs) for pairs in product(*named)]


def _row_with(study: Study, row: Subject, conditions: dict[str, str]) -> Subject:
    """Return the row of the same unit under these conditions as well; a new one after it where there is none."""
    if not conditions:
        return row
    target = {**row.conditions, **conditions}
    same = next((s for s in study.overview().subjects if s.unit == row.unit and dict(s.conditions) == target), None)
    return same or study.add_subject(row.unit, target, row.device, after=study.overview().subjects[-1].id)


def _carried_out(
    study: Study,
    row: Subject,
    proc: Any,
    settings: Settings,
    device: str | None,
    *,
    chain: Path | None,
    check: bool,
    full_level: bool,
    seed: int | None,
    as_json: bool,
    stop: threading.Event,
    command: tuple[Path, float] | None = None,
    sound_level: str = "",
) -> dict[str, Any]:
    """One run, told as it ends unless it goes out as JSON. Raises EpidoteError; then nothing of it was kept."""
    from epidote.core.procedures.registry import reading_titles
    from epidote.core.results.caution import Caution
    from epidote.core.results.result import Result
    from epidote.measurement.chain_for_row import chain_for_subject
    from epidote.measurement.request import RunPlan, add_column
    from epidote.measurement.service import SafeStart, carry_out

    if chain:
        path = read_chain(chain)
    else:
        path = chain_for_subject(study, row)
    name = device or row.device or path.device or USUAL_DEVICE
    path = path.changed(device=name)

    def with_column() -> RunPlan:
        next(proc.conduct(settings, path))  # settings that do not fit the chain are refused before anything is added
        return RunPlan(row.id, add_column(study, proc.key, settings).id, proc.key, settings, path, sound_level)

    def confirm(start: SafeStart) -> bool:
        warn(start.words)
        if not full_level:
            _require_yes()
        return True

    def progress(share: float) -> None:
        if sys.stderr.isatty():
            sys.stderr.write(f"\r{share:4.0%} ")

    (run,) = carry_out(
        study,
        RunPlan(row.id, 0, proc.key, settings, path),
        row.conditions,
        confirm=confirm,
        progress=progress,
        cancelled=stop.is_set,
        opening=patience(name, warn),
        prepare=with_column,
        check=check and command is None,
        seed=seed,
        command=command,
    )
    if not as_json:
        say(f"run {run.id}: {row.full_name}, {proc.title.lower()} ({proc.summary(settings)})")
        print_result(Result((), run.readings, tuple(Caution(c) for c in run.cautions)), reading_titles(proc))
    return {
        "run": run.id,
        "subject": row.full_name,
        "procedure": proc.key,
        "settings": dict(run.settings),
        "device": run.device,
        "made": run.made.isoformat(),
        "cautions": list(run.cautions),
        "readings": [reading.to_json() for reading in run.readings],
    }


def _require_yes() -> None:
    """Ask whether to go on. Raises MeasurementError when the answer is no, or nobody is there to answer."""
    from epidote.core.errors import MeasurementError

    if sys.stdin.isatty() and input("Measure at full level? (y/n) ").strip().lower() in ("y", "yes"):
        return
    raise MeasurementError("Nothing was measured. To measure at full level without this question, add --full-level.")


def devices(as_json: Json = False) -> int:
    """List the sound devices."""
    from epidote.audio.registry import devices as found

    if as_json:
        print_json(
            [
                {
                    "name": d.name,
                    "title": d.title,
                    "kind": d.kind,
                    "outputs": d.outputs,
                    "inputs": d.inputs,
                    "rates": list(d.rates),
                    "bits": d.bits,
                }
                for d in found()
            ]
        )
        return 0
    for d in found():
        say(
            f"{d.name.ljust(24)} {d.title}; {d.outputs} out, {d.inputs} in, {d.bits} bit, {min(d.rates) / 1000:g} to"
            f" {max(d.rates) / 1000:g} kHz"
        )
    return 0


def list_procedures(as_json: Json = False) -> int:
    """List the procedures with their settings."""
    from epidote.core.procedures.registry import procedures

    available = procedures()
    if as_json:
        print_json({key: p.Settings.model_json_schema() for key, p in available.items()})
        return 0
    for key, p in available.items():
        say(f"{key}: {p.title}")
        for name, field in p.Settings.model_fields.items():
            unit = field.json_schema_extra.get("unit", "")
            say(f"    {name} = {field.default}{' ' + unit if unit else ''}  {field.description}")
    return 0


def demo(
    build: Annotated[
        bool, typer.Option("--build", help="create or complete the demo study without opening a window")
    ] = False,
    path: Annotated[
        Path | None, typer.Option(help="with --build: folder of the demo study [default: user data folder]")
    ] = None,
) -> int:
    """Open the application with the demo study."""
    if not build:
        raise SettingError("--path works only together with --build. Use both or none.")
    from epidote.demo.scenario import fill_demo, missing_orders, open_demo

    with open_demo(path) as study:
        if not study.read_only and missing_orders(study):
            fill_demo(study, say)
        say(f"Demo study ready: {study.path}")
    return 0
