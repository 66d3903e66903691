"""``batch``: the kept recordings of studies, or loose files, computed again on all cores or on a cluster."""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.cli.analyse import Json, Set
from epidote.cli.common import parsed_settings, print_json, read_chain, say, warn
from epidote.cli.stopping import stoppable
from epidote.core.errors import EpidoteError, SettingError, UnusableInputError

if TYPE_CHECKING:
    from epidote.batch.cluster import DaskCluster
    from epidote.batch.pool import JobRunner
    from epidote.batch.recomputing import BatchCount, Progress

ANALYSE = "analyse"
_TOLD_EVERY = 1.0  # s


def batch(
    what: Annotated[
        list[str],
        typer.Argument(
            help="study folders; or “analyse”, a procedure and audio files or folders of them",
            metavar="STUDY…",
        ),
    ],
    procedure: Annotated[str, typer.Option(help="recompute only the runs of this procedure")] = "",
    set_: Set = [],
    jobs: Annotated[int, typer.Option(help="number of processes [default: one per core]", min=0, max=1024)] = 0,
    cluster: Annotated[str, typer.Option(help="address of a Dask scheduler, e.g. tcp://10.0.0.5:8786")] = "",
    *,
    by_value: Annotated[
        bool,
        typer.Option("--by-value", help="send recordings to the workers, if they cannot access the study's folder"),
    ] = False,
    out: Annotated[Path | None, typer.Option(help="with “analyse”: folder for the results, one JSON file each")] = None,
    stimulus: Annotated[
        Path | None, typer.Option(help="with “analyse”: description (.json) written by “epidote stimulus”")
    ] = None,
    chain: Annotated[Path | None, typer.Option(help="with “analyse”: chain file (.toml)")] = None,
    curves: Annotated[
        bool, typer.Option("--curves/--no-curves", help="with “analyse”: curves in the results, not only readings")
    ] = True,
    as_json: Json = False,
) -> int:
    """Recompute saved recordings on all cores or on a cluster; an interrupted command can be repeated and continues."""
    runner, close, remote = _runner(jobs, cluster)
    show = _Shown(quiet=not sys.stderr.isatty()).show
    try:
        with stoppable() as stop:
            if what[0] == ANALYSE:
                files = _FilesWish(out, stimulus, chain, curves)
                count = _analyse(what[1:], set_, files, runner, progress=show, stop=stop.is_set)
            else:
                wish = _StudiesWish(procedure, by_value, remote)
                count = _recompute(what, set_, wish, runner, progress=show, stop=stop.is_set)
    finally:
        close()
    _report(count, as_json=as_json)
    return UnusableInputError.exit_code if count.failures else 0


@dataclass(frozen=True)
class _FilesWish:
    out: Path | None
    stimulus: Path | None
    chain: Path | None
    curves: bool


@dataclass(frozen=True)
class _StudiesWish:
    """cluster: None where jobs are done here."""

    procedure: str
    by_value: bool
    cluster: DaskCluster | None


def _runner(jobs: int, address: str) -> tuple[JobRunner, Any, Any]:
    """Return what computes, how it is closed, and the cluster where it is one. Raises SettingError."""
    from epidote.batch.pool import InProcess, ProcessPool, usual_processes

    if address and jobs:
        raise SettingError("--jobs and --cluster exclude each other. Use one of them.")
    if address:
        from epidote.batch.cluster import DaskCluster

        cluster = DaskCluster(address)
        return cluster, cluster.close, cluster
    processes = jobs or usual_processes()
    runner: JobRunner = ProcessPool(processes) if processes > 1 else InProcess()
    return runner, lambda: None, None


def _recompute(
    names: list[str],
    pairs: list[str],
    wish: _StudiesWish,
    runner: JobRunner,
    *,
    progress: Progress,
    stop: Any,
) -> BatchCount:
    from epidote.batch.recomputing import BatchCount, recompute_study
    from epidote.core.procedures.registry import procedure as find
    from epidote.study.store import Study

    key = wish.procedure
    if pairs and not key:
        raise SettingError("--set needs --procedure, whose settings these are. Add it.")
    changes = parsed_settings(find(key).Settings, pairs) if key else {}
    count = BatchCount()
    for name in names:
        path = Path(name)
        try:
            study = Study(path)
        except EpidoteError as error:
            count.failures.append((name, str(error)))
            continue
        with study:
            if study.read_only:
                count.failures.append((name, f"It is read-only ({study.why_read_only}). Close it elsewhere."))
                continue
            travels = wish.by_value or (wish.cluster is not None and not wish.cluster.sees(str(study.path)))
            recompute_study(
                study, changes, runner, count, key=key or None, by_value=travels, progress=progress, cancelled=stop
            )
    return count


def _analyse(
    words: list[str],
    pairs: list[str],
    wish: _FilesWish,
    runner: JobRunner,
    *,
    progress: Progress,
    stop: Any,
) -> BatchCount:
    from epidote.batch.recomputing import analyse_files, sound_files
    from epidote.core.procedures.registry import procedure as find

    if len(words) < 2 or wish.out is None:
        raise SettingError("Enter a procedure, files or folders, and --out with a folder for the results.")
    key = words[0]
    settings = parsed_settings(find(key).Settings, pairs)
    files = sound_files(Path(word) for word in words[1:])
    return analyse_files(
        files,
        key,
        settings,
        wish.out,
        runner,
        chain=read_chain(wish.chain),
        stimulus=wish.stimulus,
        with_curves=wish.curves,
        progress=progress,
        cancelled=stop,
    )


class _Shown:
    """Progress with the time left, on a terminal."""

    def __init__(self, *, quiet: bool) -> None:
        self._quiet, self._told = quiet, 0.0

    def show(self, count: BatchCount, whole: int) -> None:
        now = time.monotonic()
        if self._quiet or now - self._told < _TOLD_EVERY:
            return
        self._told = now
        left = count.seconds_left(whole)
        over = count.done + count.skipped + len(count.failures)
        rest = "" if left is None else f", {left:.0f} s left"
        sys.stderr.write(f"\r{over} of {whole}{rest}    ")


def _report(count: BatchCount, *, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "done": count.done,
                "skipped": count.skipped,
                "failed": len(count.failures),
                "failures": [{"name": name, "words": words} for name, words in count.failures],
            }
        )
        return
    say(f"{count.done} computed, {count.skipped} skipped (done before), {len(count.failures)} failed")
    for name, words in count.failures:
        warn(f"{name}: {words}")
