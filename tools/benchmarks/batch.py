#!/usr/bin/env python3
"""Thousands of recordings computed again: one core, all cores, and a Dask scheduler with two workers.

tools/benchmarks/batch.py [--recordings N] [--kept N]

Loose files first, with and without their curves; then the kept recordings of a study.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from epidote.runtime import prepare

prepare()

import numpy as np
from timing import row

from epidote.audio.files.sound_file import encode
from epidote.batch.cluster import DaskCluster
from epidote.batch.pool import InProcess, JobRunner, ProcessPool
from epidote.batch.recomputing import BatchCount, analyse_files, recompute_study
from epidote.core.chain.chain import Chain
from epidote.core.errors import CancelledError
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.processing import analyse
from epidote.measurement.request import RunPlan, add_column
from epidote.measurement.runner import store_run
from epidote.study.store import Study, create_study

RATE, SECONDS, WORKERS, ON_ONE_CORE = 48000, 10.0, 2, 40


def make_sound(rng: np.random.Generator) -> np.ndarray:
    """Return a tone with a second harmonic in noise, shape (frames, 2)."""
    t = np.arange(round(SECONDS * RATE)) / RATE
    tone = 0.5 * np.sin(2 * np.pi * 997 * t) + 1e-4 * np.sin(2 * np.pi * 1994 * t)
    return np.column_stack([tone, 0.9 * tone]) + 1e-5 * rng.standard_normal((t.size, 2))


def make_files(folder: Path, count: int) -> list[Path]:
    """Write recordings, stereo, 24 bit; a few dozen, linked again and again."""
    rng = np.random.default_rng(1)
    files = []
    for n in range(count):
        path = folder / f"{n:05d}.wav"
        if n < 20:
            path.write_bytes(encode(make_sound(rng), RATE, "WAV", "24"))
        else:
            path.hardlink_to(folder / f"{n % 20:05d}.wav")
        files.append(path)
    return files


def make_study(path: Path, count: int) -> Path:
    """Write a study with one recording in each of ``count`` rows."""
    rng = np.random.default_rng(2)
    settings = make_settings(procedure("tone").Settings, {"duration": SECONDS, "frequency": 997})
    with create_study(path, "Batch") as study:
        column = add_column(study, "tone", settings)
        for n in range(count):
            row_of_unit = study.add_subject(study.add_unit("Ostrel", "H20", f"H20-{n:05d}"), {})
            order = RunPlan(row_of_unit.id, column.id, "tone", settings, Chain())
            recordings = [Recording(Signal(make_sound(rng), RATE), None)]
            result = analyse("tone", recordings, settings, Chain())
            store_run(study, order, "benchmark", result, recordings, source=None)
        return study.path


def spent(files: list[Path], out: Path, runner: JobRunner, *, curves: bool) -> float:
    begun = time.perf_counter()
    count = analyse_files(files, "tone", {}, out, runner, chain=Chain(), with_curves=curves)
    assert (count.done, count.failures) == (len(files), []), count.failures[:2]
    taken = time.perf_counter() - begun
    shutil.rmtree(out)
    return taken


def spent_on_study(path: Path, runner: JobRunner, most: int | None = None) -> float:
    """Return the time for each recording; most: how many, None for all that are not done yet."""
    count = BatchCount()
    begun = time.perf_counter()
    with Study(path) as study, suppress(CancelledError):
        recompute_study(study, {}, runner, count, cancelled=lambda: count.done == most)
    assert count.failures == [], count.failures[:2]
    return (time.perf_counter() - begun) / count.done


@contextmanager
def one_core() -> Iterator[None]:
    """Keep this process on one processor: an analysis uses a thread for each channel."""
    every = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(every)})
    try:
        yield
    finally:
        os.sched_setaffinity(0, every)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--recordings", type=int, default=2000)
    parser.add_argument("--kept", type=int, default=400)
    wanted = parser.parse_args()
    procedures()
    with tempfile.TemporaryDirectory(prefix="epidote-batch-") as scratch, cluster_of_workers(Path(scratch)) as address:
        folder = Path(scratch)
        files = make_files(folder, wanted.recordings)
        for curves, what in ((False, "readings only"), (True, "with curves")):
            with one_core():
                one = spent(files[:ON_ONE_CORE], folder / "one", InProcess(), curves=curves) / ON_ONE_CORE
            row(f"{ON_ONE_CORE} loose files of {SECONDS:g} s, one core, {what}", f"{1000 * one:.0f} ms each", "")
            pool = spent(files, folder / "pool", ProcessPool(WORKERS), curves=curves) / len(files)
            row(f"{len(files)} files, {WORKERS} processes", f"{one / pool:.2f} times", "1.7 times one core's speed")
            runner = DaskCluster(address)
            cluster = spent(files, folder / "cluster", runner, curves=curves) / len(files)
            runner.close()
            row(f"{len(files)} files, Dask, {WORKERS} workers", f"{cluster / pool:.2f}", "1.15 of the pool's time")
        kept(folder, wanted.kept, address)


def kept(folder: Path, count: int, address: str) -> None:
    """Compute the recordings of a study again."""
    made = make_study(folder / "Kept", count)
    copies = [shutil.copytree(made, folder / f"Copy {n}.epidote") for n in range(3)]
    with one_core():
        one = spent_on_study(copies[0], InProcess(), ON_ONE_CORE)
    row(f"{ON_ONE_CORE} kept recordings, one core", f"{1000 * one:.0f} ms each", "")
    pool = spent_on_study(copies[1], ProcessPool(WORKERS))
    row(f"{count} kept recordings, {WORKERS} processes", f"{one / pool:.2f} times", "1.7 times one core's speed")
    runner = DaskCluster(address)
    cluster = spent_on_study(copies[2], runner)
    runner.close()
    row(f"{count} kept recordings, Dask, {WORKERS} workers", f"{cluster / pool:.2f}", "1.15 of the pool's time")


@contextmanager
def cluster_of_workers(folder: Path) -> Iterator[str]:
    """Give the address of a scheduler with workers of one thread each."""
    file = folder / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    module = [sys.executable, "-m", "distributed.cli.dask_scheduler"]
    processes = [subprocess.Popen([*module, "--port", "0", "--scheduler-file", file, "--no-dashboard"], **quiet)]
    try:
        while not (file.exists() and file.read_text().strip()):
            time.sleep(0.1)
        address = json.loads(file.read_text())["address"]
        worker = [sys.executable, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1", "--no-dashboard"]
        processes += [subprocess.Popen(worker, **quiet) for _ in range(WORKERS)]
        time.sleep(6)  # until both workers are there
        yield address
    finally:
        for process in processes:
            process.terminate()
            process.wait()


if __name__ == "__main__":
    main()
