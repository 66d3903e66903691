"""Batches: the kept recordings of studies, and loose files. What was done before, with the same program, is skipped."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from epidote.audio.files.sound_file import write_whole
from epidote.batch.failure import JobFailure
from epidote.batch.jobs import (
    FileJob,
    FileJobResult,
    KeptRecording,
    StudyJob,
    StudyJobResult,
    compute_file_job,
    compute_study_job,
    digest_of_file,
    digest_of_run,
    known_digest,
)
from epidote.batch.pool import JobRunner
from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import labelled
from epidote.measurement.recompute import recompute_order, recomputed_run
from epidote.study.folder import RECORDINGS
from epidote.study.store import Study

_SOUNDS = (".wav", ".flac", ".aif", ".aiff", ".w64", ".rf64", ".ogg", ".mp3", ".m4a", ".opus")


@dataclass
class BatchCount:
    """done, skipped: how many; failures: name and words of each that failed."""

    done: int = 0
    skipped: int = 0
    failures: list[tuple[str, str]] = field(default_factory=list)
    begun: float = field(default_factory=time.monotonic)

    def seconds_left(self, whole: int) -> float | None:
        """Return how long the rest takes at the present pace; None before the first is done."""
        over = self.done + len(self.failures)
        if over == 0:
            return None
        gone = time.monotonic() - self.begun
        return gone / over * max(0, whole - over - self.skipped)


Progress = Callable[[BatchCount, int], None]
Cancelled = Callable[[], bool]


def recompute_study(
    study: Study,
    changes: Mapping[str, Any],
    runner: JobRunner,
    count: BatchCount,
    *,
    key: str | None = None,
    by_value: bool = False,
    progress: Progress = lambda count, whole: None,
    cancelled: Cancelled = lambda: False,
) -> None:
    """Compute the latest measured run of every cell again, of one procedure or of all, and keep what comes out.

    changes: settings by name. by_value: recordings travel with the jobs. Raises SettingError for changes that cannot
    be, CancelledError; what was done until then is kept.
    """
    ids = study.queries.run_ids(key)
    whole = len(ids)

    def jobs() -> Iterator[StudyJob]:
        for run_id in ids:
            try:
                job = _study_job(study, run_id, changes, by_value=by_value)
            except UnusableInputError as error:
                count.failures.append((f"{study.path.name}, run {run_id}", str(error)))
                continue
            if study.queries.run_with_digest(job.digest) is not None:
                count.skipped += 1
                progress(count, whole)
                continue
            yield job

    for job, found in runner.run(jobs(), compute_study_job, cancelled):
        if isinstance(found, JobFailure):
            count.failures.append((job.name, found.words))
        else:
            _keep(study, job, found)
            count.done += 1
        progress(count, whole)


def _study_job(study: Study, run_id: int, changes: Mapping[str, Any], *, by_value: bool) -> StudyJob:
    old = study.run(run_id)
    model = procedure(old.procedure).Settings
    with labelled(model):
        order = recompute_order(old, model, changes)
    settings = order.settings.model_dump(mode="json")
    rows = [dict(row) for row in study.recording_rows(run_id)]
    if not rows:
        raise UnusableInputError("It has no recording. Nothing was computed; measure it, or attach a recording.")
    recordings = tuple(
        KeptRecording(
            str(study.path / RECORDINGS / row["file"]),
            study.folder.read(RECORDINGS, row["file"]) if by_value else None,
            row,
        )
        for row in rows
    )
    chain = order.chain.model_dump_json()
    digest = digest_of_run([str(row["sha256"]) for row in rows], old.procedure, settings, chain)
    name = f"{study.path.name}, run {run_id}"
    return StudyJob(name, str(study.path), run_id, old.procedure, settings, chain, recordings, digest)


def _keep(study: Study, job: StudyJob, found: StudyJobResult) -> None:
    old = study.run(job.run)
    order = recompute_order(old, procedure(old.procedure).Settings, job.settings)
    study.add_run(recomputed_run(study, old, order, found.result, clocks=found, digest=job.digest))


def sound_files(paths: Iterable[Path]) -> list[Path]:
    """Return files, of folders the sound files in them, sorted. Raises UnusableInputError for one that is not there."""
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(p for p in path.iterdir() if p.suffix.lower() in _SOUNDS)
        elif path.exists():
            found.append(path)
        else:
            raise UnusableInputError(f"{path} does not exist. Nothing was computed; correct the name.")
    return found


def analyse_files(
    files: Sequence[Path],
    key: str,
    settings: Mapping[str, Any],
    out: Path,
    runner: JobRunner,
    *,
    chain: Chain,
    stimulus: Path | None = None,
    with_curves: bool = True,
    progress: Progress = lambda count, whole: None,
    cancelled: Cancelled = lambda: False,
) -> BatchCount:
    """Analyse loose recordings; the result of each is a JSON file in a folder. Raises DiskError, CancelledError."""
    out.mkdir(parents=True, exist_ok=True)
    count = BatchCount()
    targets = _targets(files, out)

    def jobs() -> Iterator[FileJob]:
        for path in files:
            told = str(stimulus.absolute()) if stimulus is not None else ""
            job = FileJob(str(path.absolute()), key, dict(settings), chain.model_dump_json(), told, with_curves)
            known = known_digest(targets[job.path])
            try:
                done = known != "" and known == digest_of_file(job)
            except EpidoteError as error:
                count.failures.append((job.name, str(error)))
                continue
            if done:
                count.skipped += 1
                progress(count, len(files))
                continue
            yield job

    for job, found in runner.run(jobs(), compute_file_job, cancelled):
        if isinstance(found, FileJobResult):
            write_whole(targets[job.path], found.text)
            count.done += 1
        else:
            count.failures.append((job.name, found.words))
        progress(count, len(files))
    return count


def _targets(files: Sequence[Path], out: Path) -> dict[str, Path]:
    """Return the result's file for each recording; recordings of one name get a number."""
    taken: set[str] = set()
    targets = {}
    for path in files:
        stem, number = path.name, 1
        name = f"{stem}.json"
        while name in taken:
            number += 1
            name = f"{stem} {number}.json"
        taken.add(name)
        targets[str(path.absolute())] = out / name
    return targets
