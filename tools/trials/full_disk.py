#!/usr/bin/env python3
"""A small disk that fills up at every step of making, measuring, deleting and closing: every finished run stays,
every refusal is said.

Needs the right to mount a tmpfs; without it says so and tries nothing.

    tools/trials/full_disk.py [--steps N] [--seed N]
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

from epidote.core.errors import EpidoteError
from epidote.study.interchange.archive import zip_study
from epidote.study.store import Study
from tools.trials.small_study import make_small_study, measure_cell

SIZE_MB = 24


@contextlib.contextmanager
def small_disk() -> Iterator[Path | None]:
    """A disk of a few megabytes; None where mounting is not allowed."""
    with tempfile.TemporaryDirectory() as name:
        done = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={SIZE_MB}m", "tmpfs", name], capture_output=True, check=False
        )
        if done.returncode:
            yield None
            return
        try:
            yield Path(name)
        finally:
            subprocess.run(["umount", "-l", name], check=False)


def fill(disk: Path, leave: int) -> None:
    """Take all room but so many bytes."""
    ballast = disk / "ballast"
    ballast.unlink(missing_ok=True)
    told = os.statvfs(disk)
    room = told.f_bavail * told.f_frsize - leave
    with contextlib.suppress(OSError), ballast.open("wb") as file:
        while room > 0:
            file.write(bytes(min(room, 1 << 16)))
            room -= 1 << 16


def step(disk: Path, path: Path, rng: random.Random, runs: set[int], refused: list[str]) -> str:
    """One step on a disk with little room; "" when all is well. ``refused``: gets the words of what was refused."""
    fill(disk, rng.choice((0, 0, 1, 4096, 20_000, 100_000, 300_000, 1_000_000, 3_000_000)))
    words = "opening"
    try:
        with closing(Study(path)) as study:
            seen = {
                r.id
                for s in study.overview().subjects
                for c in study.overview().columns
                for r in study.runs_of(s.id, c.id)
            }
            if not runs <= seen:
                return f"runs lost: {runs - seen}"
            for run in rng.sample(sorted(seen), min(2, len(seen))):
                words = f"reading run {run}"
                if not study.recordings(run) or not study.curves(run):
                    return f"run {run} has lost its recordings or curves"
            words = rng.choice(("measuring", "editing", "deleting", "zipping"))
            rows = study.overview().subjects
            if words == "measuring" and not study.read_only:
                Study.free_bytes = lambda self: 1 << 40  # the check before a run would refuse nearly everything here
                runs.add(measure_cell(study, rng.choice(rows[1:]).id, 1, seed=rng.randrange(1000)))
            elif words == "editing":
                study.entries.add("note", {"text": "x" * rng.randrange(20_000)})
            elif words == "deleting" and len(runs) > 3:
                gone = rng.choice(sorted(runs))
                study.set_deleted("run", gone, True)
                runs.discard(gone)
            else:
                zip_study(study, disk / "out.zip")
                (disk / "out.zip").unlink()
            words = "closing"
    except EpidoteError as error:
        refused.append(str(error))
        if not str(error).endswith(".") or "Errno" in str(error):
            return f"{words}: {error}"
    except Exception as error:  # the trial's own verdict
        return f"{words}: {type(error).__name__}: {error}"
    return ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--steps", type=int, default=250)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng = random.Random(given.seed)
    with small_disk() as disk:
        if disk is None:
            print("full disk: mounting is not allowed here; 0 steps, 0 failed")
            return 0
        path = make_small_study(disk / "Small.epidote")
        with closing(Study(path)) as study:
            runs = {r.id for r in study.overview().runs.values()}
        failed: list[str] = []
        refused: list[str] = []
        for n in range(given.steps):
            words = step(disk, path, rng, runs, refused)
            if words:
                failed.append(f"step {n}: {words}")
        (disk / "ballast").unlink(missing_ok=True)
        with closing(Study(path)) as study:
            for run in runs:
                if not study.recordings(run):
                    failed.append(f"in the end: run {run} has no recording")
    print("\n".join(failed))
    print(f"full disk: {given.steps} steps, {len(refused)} refused in words, {len(failed)} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
