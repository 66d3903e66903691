"""Runs that wait for their recording: the stimulus was played, or will be, where this computer does not listen.

What was played, when and how is kept with the run. A recording that is attached later completes it under the same
number; one that does not fit is refused, and the run goes on waiting.
"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError

from epidote.audio.files.sound_file import read_sound
from epidote.core.analysis.delay.clock_offset import MarkedRecording, to_player_clock, with_clock
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.results.result import Result
from epidote.core.settings import make_settings
from epidote.core.stimuli.marked_sequence import MarkedSequence
from epidote.measurement.offline import describe, marked_file, write_with_description
from epidote.measurement.processing import process
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import finished_run, store_run
from epidote.study.annotations import valid
from epidote.study.models import Entry, Owner, RunSummary
from epidote.study.store import Study

KIND = "waiting"


class Awaited(BaseModel):
    """What a run waits for: the file that was played, as a marked sequence, its name, and since when."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    file: str
    marked: dict[str, Any]
    since: str
    how: str = ""

    @property
    def words(self) -> str:
        """What is waited for, in a sentence."""
        played = f"; {self.how}" if self.how else ""
        return f"Waiting for recording of {self.file} since {self.since[:16].replace('T', ' ')} UTC{played}."


def await_recording(study: Study, order: RunPlan, path: Path, how: str = "") -> RunSummary:
    """Write the order's stimulus file and make its cell wait for the recording of it.

    how: how it is played, in words. Raises SettingError, DiskError; then nothing was kept.
    """
    if path.exists() and path.name in waited_for(study):
        raise SettingError(
            f"{path.name} is the stimulus file of a run that waits for its recording. Nothing was written; use another"
            " name."
        )
    file = marked_file(order.procedure, order.settings, order.chain)
    write_with_description(path, file.samples(), file.rate, "24", describe(order.procedure, order.settings, file))
    return await_stimulus(study, order, path.name, how, file)


def await_stimulus(
    study: Study, order: RunPlan, name: str, how: str = "", file: MarkedSequence | None = None
) -> RunSummary:
    """Make the order's cell wait for the recording of its stimulus file, which was written before under a name."""
    if file is None:
        file = marked_file(order.procedure, order.settings, order.chain)
    awaited = Awaited(file=name, marked=file.to_json(), since=datetime.now(UTC).isoformat(timespec="seconds"), how=how)
    empty = Result((), (), (Caution.WAITING,))
    run = store_run(study, order, f"played elsewhere: {name}", empty, (), source=None)
    study.entries.add(KIND, awaited.model_dump(mode="json"), Owner(run=run.id), study.person)
    return run


def waited_for(study: Study) -> frozenset[str]:
    """Return the names of the stimulus files whose recordings are still to come."""
    named = [(entry.owner.run, one.file) for entry, one in valid(study.entries.all(KIND), Awaited)]
    return frozenset(file for run, file in named if run is not None and not study.recording_rows(run))


def awaited_of(study: Study, run_id: int) -> tuple[Entry, Awaited] | None:
    """Return what a run waits for, with the entry that says so; None for a run that waits for nothing."""
    for entry in study.entries.all(KIND):
        if entry.owner.run == run_id:
            try:
                return entry, Awaited.model_validate(dict(entry.data))
            except ValidationError:
                return None
    return None


def attach_recording(study: Study, run_id: int, path: Path) -> RunSummary:
    """Complete a run with the recording that it waits for.

    Raises SettingError for a run that waits for none, UnusableInputError for a recording of something else; then the
    run goes on waiting.
    """
    run = study.run(run_id)
    found = awaited_of(study, run_id)
    if found is None or study.recording_rows(run_id):
        raise SettingError(
            f"Run {run_id} is not waiting for a recording. Nothing was changed; “epidote study show” lists the runs."
        )
    entry, awaited = found
    file = MarkedSequence.from_json(awaited.marked)
    signal = read_sound(path)
    try:
        recordings, clock = to_player_clock(signal, file)
    except UnusableInputError as error:
        raise UnusableInputError(
            f"{path.name} is not the recording that run {run_id} waits for ({awaited.file}): {error} The run goes on"
            " waiting."
        ) from error
    settings = make_settings(procedure(run.procedure).Settings, run.settings)
    order = RunPlan(run.subject_id, run.column_id, run.procedure, settings, run.chain)
    result = with_clock(process(study, order, recordings), [clock], signal.rate)
    kept = [MarkedRecording(signal, file)]
    made = study.complete_run(
        run_id, finished_run(order, f"attached recording: {path.name}", result, kept, source=None)
    )
    study.set_deleted("entry", entry.id, True)
    return made
