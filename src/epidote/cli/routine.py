"""``routine``: check, make, list and carry out routines.

Exit codes of ``run``: 0 passed, 5 failed, 6 not decided, 4 not measured.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.audio.soundcard.patience import patience
from epidote.cli.analyse import Json
from epidote.cli.common import print_json, read_chain, say, warn
from epidote.cli.measure import USUAL_DEVICE
from epidote.cli.stopping import stoppable
from epidote.cli.study import PathArgument, find_subject
from epidote.core.errors import SettingError, UnusableInputError

if TYPE_CHECKING:
    from epidote.core.routine.model import PromptStep, Routine
    from epidote.measurement.routine.dialogue import PromptAnswer
    from epidote.measurement.routine.outcome import StepOutcome
    from epidote.measurement.routine.runner import PassReport
    from epidote.measurement.service import SafeStart
    from epidote.study.store import Study

app = typer.Typer(no_args_is_help=True, help="Run test routines on units and judge them by limits.")
RoutineFile = Annotated[Path, typer.Argument(help="routine file (.toml)")]
_MOST_BYTES = 4 * 1024 * 1024
_LONGEST_WAIT = 600.0


def read_routine(path: Path) -> Routine:
    """Return the routine of a file. Raises UnusableInputError."""
    from epidote.audio.files.sound_file import read_bounded
    from epidote.core.routine.text import routine_from_toml

    content = read_bounded(path, _MOST_BYTES, "a routine")
    try:
        text = content.decode()
    except UnicodeDecodeError as error:
        raise UnusableInputError(
            f"{path.name} is not a text in UTF-8. Nothing was measured; save it as such."
        ) from error
    return routine_from_toml(text, path.name)


@app.command("check")
def check(
    file: RoutineFile,
    chain: Annotated[Path | None, typer.Option(help="chain file (.toml) [default: an uncalibrated chain]")] = None,
    study: Annotated[Path | None, typer.Option(help="check with the chain of this study")] = None,
    as_json: Json = False,
) -> int:
    """Check a routine without playing anything."""
    from epidote.core.routine.checking import check_routine
    from epidote.study.store import Study

    routine = read_routine(file)
    if study is not None:
        from epidote.core.chain.chain_toml import chain_from_toml

        with Study(study) as opened:
            used = chain_from_toml(opened.chain_toml)
    else:
        used = read_chain(chain)
    found = check_routine(routine, used)
    problems = [{"step": p.number, "words": p.words} for p in found.problems]
    if as_json:
        print_json(
            {
                "name": routine.name,
                "steps": len(routine.step),
                "seconds": found.seconds,
                "prompts": found.prompts,
                "problems": problems,
            }
        )
    else:
        say(f"{routine.name}: {len(routine.step)} steps, about {found.seconds:.0f} s, {found.prompts} prompts")
        for problem in found.problems:
            warn(str(problem))
    return UnusableInputError.exit_code if found.problems else 0


@app.command("list")
def list_routines(path: PathArgument, as_json: Json = False) -> int:
    """List the routines of a study with their counts."""
    from epidote.measurement.routine.storage import stored_routines
    from epidote.study.store import Study

    with Study(path) as study:
        rows = []
        for stored in stored_routines(study):
            counts = study.passes.counts(stored.routine.name)
            rows.append((stored.routine, counts))
    if as_json:
        print_json(
            [
                {
                    "name": routine.name,
                    "steps": len(routine.step),
                    "units": counts.units,
                    "first_passed": counts.first_passed,
                    "last_passed": counts.last_passed,
                }
                for routine, counts in rows
            ]
        )
        return 0
    for routine, counts in rows:
        say(
            f"{routine.name}: {len(routine.step)} steps, {counts.units} units, {counts.first_passed} passed at"
            " the first attempt"
        )
    return 0


@app.command("from-row")
def from_row(
    study: PathArgument,
    subject: Annotated[str, typer.Argument(help="subject (row), as printed by “epidote study show”")],
    out: Annotated[Path, typer.Argument(help="routine file to write (.toml)")],
    *,
    name: Annotated[str, typer.Option(help="name of the routine [default: that of the file]")] = "",
    good: Annotated[
        list[str], typer.Option(help="good unit's row; from three on, limits are tolerance limits; may be repeated")
    ] = [],
    margin: Annotated[
        float, typer.Option(help="without --good: limits this many dB about the row itself", min=0)
    ] = 1.0,
    bands: Annotated[
        str, typer.Option(help="without --good: margins of curves by band, e.g. “20 Hz 2; 100 Hz 1; 10 kHz 3”")
    ] = "",
    limits: Annotated[bool, typer.Option(help="add limits to the steps")] = True,
    as_json: Json = False,
) -> int:
    """Create a routine from the columns of a measured row."""
    from epidote.audio.files.sound_file import write_whole
    from epidote.core.routine.limit_making import parse_bands
    from epidote.core.routine.text import routine_to_toml
    from epidote.measurement.routine.making import LimitWish, routine_from_row
    from epidote.study.store import Study

    if out.exists():
        raise SettingError(f"{out} already exists. Nothing was written; use another name.")
    with Study(study) as opened:
        row = find_subject(opened, subject)
        rows = [find_subject(opened, one) for one in good]
        wish = LimitWish(tuple(rows), margin, parse_bands(bands)) if limits else None
        routine = routine_from_row(opened, row, name or out.stem, wish)
    write_whole(out, routine_to_toml(routine).encode())
    made = sum(len(step.limit) for step in routine.measured)
    if as_json:
        print_json({"name": routine.name, "steps": len(routine.step), "limits": made, "file": str(out)})
    else:
        say(f"{out}: {len(routine.step)} steps, {made} limits")
    return 0


@app.command("run")
def run(
    file: Annotated[Path, typer.Argument(help="routine file (.toml), or the name of a routine in the study")],
    study: Annotated[Path, typer.Option(help="study folder")],
    serial: Annotated[str, typer.Option(help="serial number of the unit")],
    device: Annotated[str, typer.Option(help="sound device, see “epidote devices” [default: that of the chain]")] = "",
    chain: Annotated[Path | None, typer.Option(help="chain file (.toml) [default: the study's chain]")] = None,
    *,
    operator: Annotated[str, typer.Option(help="operator [default: that of the study]")] = "",
    shift: Annotated[str, typer.Option(help="shift or station, saved with the result")] = "",
    firmware: Annotated[str, typer.Option(help="firmware of the unit")] = "",
    junit: Annotated[Path | None, typer.Option(help="write the pass as JUnit XML")] = None,
    csv: Annotated[Path | None, typer.Option(help="add the pass to this CSV file, one line per step")] = None,
    jsonl: Annotated[Path | None, typer.Option(help="add the pass to this JSON Lines file")] = None,
    xlsx: Annotated[Path | None, typer.Option(help="write all passes of this routine as a spreadsheet")] = None,
    allow_commands: Annotated[
        bool, typer.Option("--allow-commands", help="allow the routine to run its commands on this computer")
    ] = False,
    full_level: Annotated[
        bool, typer.Option("--full-level", help="after a change of the chain, measure at full level without asking")
    ] = False,
    wait: Annotated[
        float, typer.Option(help="seconds to wait for a study that another process is writing", min=0)
    ] = _LONGEST_WAIT,
    seed: Annotated[int, typer.Option(help="stand-ins only: the same seed gives the same recordings", min=0)] = 0,
    real_time: Annotated[bool, typer.Option("--real-time", help="simulated devices only: in real time")] = False,
    as_json: Json = False,
) -> int:
    """Run a routine on one unit and judge the result."""
    from epidote.core.routine.verdict import EXIT_CODES
    from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
    from epidote.measurement.routine.storage import find_routine, keep_routine
    from epidote.study.interchange import pass_files

    with _writable(study, wait) as opened:
        routine = read_routine(file) if file.suffix == ".toml" or file.exists() else find_routine(opened, str(file))
        used = read_chain(chain) if chain is not None else None
        known = device or (used.device if used is not None else "")
        runner = RoutineRunner(
            opened,
            routine,
            known or _device_of(opened),
            used,
            seed=seed,
            real_time=real_time,
            commands_allowed=allow_commands,
        )
        runner.check()
        keep_routine(opened, routine)
        talk = _Terminal(routine, quiet=as_json, full_level=full_level)
        with stoppable() as stop, patience(runner.bench.name, warn):
            try:
                report = runner.run_unit(UnitRequest(serial, operator, shift, firmware), talk, stop.is_set)
            finally:
                runner.close()
        kept = report.kept
        if junit is not None:
            pass_files.write_junit(junit, [kept])
        if csv is not None:
            pass_files.append_csv(csv, kept)
        if jsonl is not None:
            pass_files.append_jsonl(jsonl, kept)
        if xlsx is not None:
            pass_files.write_xlsx(xlsx, opened.passes.all(routine.name))
    if as_json:
        print_json(_report_json(report))
    else:
        say(f"{kept.serial}: {kept.verdict}{f'. {kept.words}' if kept.words else ''}")
    return EXIT_CODES[report.verdict]


@app.command("export")
def export(
    path: PathArgument,
    name: Annotated[str, typer.Argument(help="name of the routine, as “epidote routine list” prints it")],
    *,
    junit: Annotated[Path | None, typer.Option(help="JUnit XML file to write")] = None,
    csv: Annotated[Path | None, typer.Option(help="CSV file to write")] = None,
    jsonl: Annotated[Path | None, typer.Option(help="JSON Lines file to write")] = None,
    xlsx: Annotated[Path | None, typer.Option(help="XLSX file to write")] = None,
    toml: Annotated[Path | None, typer.Option(help="write the routine itself")] = None,
) -> int:
    """Write all passes of a routine to files, or the routine itself."""
    from epidote.audio.files.sound_file import write_whole
    from epidote.core.routine.text import routine_to_toml
    from epidote.measurement.routine.storage import find_routine
    from epidote.study.interchange import pass_files
    from epidote.study.store import Study

    wanted = [p for p in (junit, csv, jsonl, xlsx, toml) if p is not None]
    if not wanted:
        raise SettingError("No file was named. Use --junit, --csv, --jsonl, --xlsx or --toml.")
    for one in wanted:
        if one.exists():
            raise SettingError(f"{one} already exists. Nothing was written; use another name.")
    with Study(path) as study:
        routine = find_routine(study, name)
        passes = study.passes.all(name)
        if junit is not None:
            pass_files.write_junit(junit, passes)
        if csv is not None:
            pass_files.write_csv(csv, passes)
        if jsonl is not None:
            pass_files.write_jsonl(jsonl, passes)
        if xlsx is not None:
            pass_files.write_xlsx(xlsx, passes)
        if toml is not None:
            write_whole(toml, routine_to_toml(routine).encode())
    say(f"{len(passes)} passes written")
    return 0


@contextmanager
def _writable(path: Path, wait: float) -> Iterator[Study]:
    """Open a study for writing, waiting for another process that does. Raises StudyError."""
    from epidote.study.waiting import open_for_writing

    study = open_for_writing(path, wait, warn)
    try:
        yield study
    finally:
        study.close()


def _device_of(study: Study) -> str:
    """Return the device of a study's chain, or the one that every installation has."""
    from epidote.core.chain.chain_toml import chain_from_toml

    return chain_from_toml(study.chain_toml).device or USUAL_DEVICE


def _report_json(report: PassReport) -> dict[str, Any]:
    kept = report.kept
    return {
        "routine": kept.routine,
        "serial": kept.serial,
        "verdict": kept.verdict,
        "words": kept.words,
        "begun": kept.begun.isoformat(),
        "ended": kept.ended.isoformat(),
        "operator": kept.operator,
        "steps": [outcome.to_json() for outcome in report.outcomes],
    }


class _Terminal:
    """Asks on the terminal where there is one, and shows each step as it ends."""

    def __init__(self, routine: Routine, *, quiet: bool, full_level: bool) -> None:
        self._routine, self._quiet, self._full_level = routine, quiet, full_level

    def step_began(self, number: int) -> None: ...

    def step_progressed(self, number: int, share: float) -> None:
        if sys.stderr.isatty():
            sys.stderr.write(f"\r{number}: {share:4.0%} ")

    def step_ended(self, outcome: StepOutcome) -> None:
        if not self._quiet:
            parts = (outcome.margin_words, outcome.where, outcome.answer, outcome.words)
            detail = ", ".join(part for part in parts if part)
            say(f"{outcome.number}  {outcome.title}: {outcome.verdict}{f' ({detail})' if detail else ''}")
            sys.stdout.flush()  # whoever reads it follows the pass

    def said(self, words: str) -> None:
        warn(words)

    def ask(self, number: int, step: PromptStep) -> PromptAnswer | None:
        from epidote.core.routine.answers import parse_answer, require_no_serial
        from epidote.core.routine.model import AnswerKind
        from epidote.measurement.routine.dialogue import PromptAnswer

        warn(step.prompt)
        if not sys.stdin.isatty():
            warn("The routine asks questions, but there is no terminal. Run it on the Routine page, or in a terminal.")
            return None
        if step.answer is AnswerKind.DONE:
            input("Enter when done: ")
            return PromptAnswer(True)
        if step.answer is AnswerKind.YES_NO:
            return PromptAnswer(_is_yes(input("(y/n) ")))
        while True:
            text = input(f"Value{f' in {step.unit}' if step.unit else ''}: ").strip()
            try:
                require_no_serial(text, self._routine)
                return PromptAnswer(True, parse_answer(text, step.unit))
            except SettingError as error:
                warn(str(error))

    def ask_whether_to_go_on(self, outcome: StepOutcome) -> bool:
        if not sys.stdin.isatty():
            return False
        return _is_yes(input(f"{outcome.title}: {outcome.verdict}. Go on? (y/n) "))

    def confirm_start(self, start: SafeStart) -> bool:
        warn(start.words)
        if self._full_level:
            return True
        return sys.stdin.isatty() and _is_yes(input("Measure at full level? (y/n) "))


def _is_yes(text: str) -> bool:
    return text.strip().lower() in ("y", "yes")
