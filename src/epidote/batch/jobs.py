"""What is computed away from the study: a job that holds all it needs, and its result. Runs in any process."""

from __future__ import annotations

import hashlib
import json
import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import orjson

from epidote import __version__, runtime
from epidote.audio.files.sound_file import read_bounded, read_tracks
from epidote.batch.failure import JobFailure
from epidote.core.analysis.delay.clock_offset import ClockOffset, to_player_clock, with_clock
from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.results.result import Result
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.processing import analyse
from epidote.measurement.stimulus_description import read_description
from epidote.study.recording_files import acquired_from, checked_content

_MOST_BYTES = 8 * 1024**3
_BEGINNING = 200  # bytes of a result's file that hold its digest
_DIGEST = re.compile(rb'\{"digest":"([0-9a-f]{64})"')


@dataclass(frozen=True)
class KeptRecording:
    """A recording of a study: its file, or its bytes where the worker does not see the file; row: what the study
    knows of it.
    """

    path: str
    content: bytes | None
    row: Mapping[str, Any]

    def read(self) -> bytes:
        """Return the bytes. Raises StudyError when they are not those that were kept."""
        content = self.content
        if content is None:
            content = read_bounded(Path(self.path), _MOST_BYTES, "a recording")
        return checked_content(str(self.row["file"]), content, str(self.row["sha256"]))


@dataclass(frozen=True)
class StudyJob:
    """name: for people; study, run: where it belongs."""

    name: str
    study: str
    run: int
    procedure: str
    settings: Mapping[str, Any]
    chain: str
    recordings: tuple[KeptRecording, ...]
    digest: str


@dataclass(frozen=True)
class StudyJobResult:
    """What the recordings say by themselves; clocks, rate: of recorders that ran by themselves."""

    result: Result
    clocks: tuple[ClockOffset, ...]
    rate: float


@cache
def _prepare_process() -> None:
    """Once in each process that computes: a cluster's worker is no process of ours, and gives memory back at once."""
    runtime.prepare()


def compute_study_job(job: StudyJob) -> StudyJobResult | JobFailure:
    """Analyse a run's recordings. What cannot be analysed comes back as a failure in words."""
    _prepare_process()
    try:
        settings = make_settings(procedure(job.procedure).Settings, job.settings)
        acquired = acquired_from((one.read(), one.row) for one in job.recordings)
        chain = Chain.model_validate_json(job.chain)
        return StudyJobResult(
            analyse(job.procedure, acquired.recordings, settings, chain), acquired.clocks, acquired.rate
        )
    except EpidoteError as error:
        return JobFailure(str(error))


@dataclass(frozen=True)
class FileJob:
    """A loose recording. stimulus: the description of what was played, "" for none; with_curves: the result holds the
    curves too.
    """

    path: str
    procedure: str
    settings: Mapping[str, Any]
    chain: str
    stimulus: str
    with_curves: bool = True

    @property
    def name(self) -> str:
        return self.path


@dataclass(frozen=True)
class FileJobResult:
    """The analysis as JSON text: written by the worker, since a spectrum's million numbers take longer to write than
    to compute.
    """

    text: bytes


def compute_file_job(job: FileJob) -> FileJobResult | JobFailure:
    """Analyse a loose recording."""
    _prepare_process()
    try:
        return _analysed_file(job)
    except EpidoteError as error:
        return JobFailure(str(error))


def _analysed_file(job: FileJob) -> FileJobResult:
    path = Path(job.path)
    proc = procedure(job.procedure)
    told = read_description(Path(job.stimulus) if job.stimulus else None)
    stated, played, marks = told.settings, told.stimulus, told.marks
    settings = make_settings(proc.Settings, {**stated, **job.settings})
    tracks = read_tracks(path)
    signal = Signal(tracks[0].signal.samples, tracks[0].signal.rate)
    recordings: Sequence[Recording] = [Recording(signal, played)]
    clocks = []
    if marks is not None:
        recordings, clock = to_player_clock(signal, marks)
        clocks.append(clock)
    chain = Chain.model_validate_json(job.chain).changed(rate=recordings[0].signal.rate)
    result = analyse(job.procedure, recordings, settings, chain)
    if clocks:
        result = with_clock(result, clocks, chain.rate)
    if Caution.STIMULUS_NOT_FOUND in result.cautions and not result.curves:
        raise UnusableInputError(
            f"The stimulus of “{job.procedure}” was not found. Check that it is the right file and that the stimulus"
            " was recorded at a sufficient level."
        )
    data = {
        "digest": digest_of_file(job),  # at the top, so that `known_digest` need not read the curves
        "file": job.path,
        "procedure": job.procedure,
        "rate": recordings[0].signal.rate,
        "settings": settings.model_dump(mode="json"),
        "cautions": [str(c) for c in result.cautions],
        "readings": [r.to_json() for r in result.readings],
    }
    if job.with_curves:
        data["curves"] = [c.to_json() for c in result.curves]
    return FileJobResult(orjson.dumps(data, option=orjson.OPT_SERIALIZE_NUMPY))


def known_digest(path: Path) -> str:
    """Return the digest that a result of a loose recording was made with; "" where there is no whole result."""
    try:
        with path.open("rb") as file:
            beginning = file.read(_BEGINNING)
            file.seek(-1, os.SEEK_END)
            is_whole = file.read(1) == b"}"
    except OSError:
        return ""
    found = _DIGEST.match(beginning)
    if found is None or not is_whole:
        return ""
    return found[1].decode()


def digest_of_run(recordings: Sequence[str], procedure_key: str, settings: Mapping[str, Any], chain: str) -> str:
    """Return the digest by which a run that was computed again is known; recordings: their SHA-256."""
    return _digest(list(recordings), procedure_key, dict(settings), chain)


def digest_of_file(job: FileJob) -> str:
    """Return the digest of a loose recording's analysis. Raises UnusableInputError where it cannot be read."""
    content = hashlib.sha256(read_bounded(Path(job.path), _MOST_BYTES, "a recording")).hexdigest()
    told = ""
    if job.stimulus:
        told = hashlib.sha256(read_bounded(Path(job.stimulus), _MOST_BYTES, "a description")).hexdigest()
    return _digest(content, told, job.procedure, dict(job.settings), job.chain, job.with_curves)


def _digest(*parts: Any) -> str:
    text = json.dumps([*parts, __version__], sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()
