#!/usr/bin/env python3
"""Processes killed at random moments of making a study, measuring, deleting, zipping, unpacking and closing.

After each kill the study opens for writing and holds every run that was reported as finished, with its recordings and
curves; nothing half-made is left where a study is expected.

    tools/trials/kills.py [--kills N] [--seed N]
"""

from __future__ import annotations

import argparse
import random
import signal
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT))

from epidote.study.store import SUFFIX, Study
from tools.trials.small_study import make_small_study

WORK = """
import random, sys
from pathlib import Path
from contextlib import closing
from epidote.study.archive import unzip_study, zip_study
from epidote.study.store import Study, create_study
from tools.trials.small_study import measure_cell
path, seed = Path(sys.argv[1]), int(sys.argv[2])
rng = random.Random(seed)
print("ready", flush=True)
while True:
    with closing(Study(path)) as study:
        for _ in range(rng.randrange(1, 3)):
            row = rng.choice(study.overview().subjects[1:])
            print("run", measure_cell(study, row.id, 1, seed=rng.randrange(1000)), flush=True)
        overview = study.overview()
        cells = [(s.id, c.id) for s in overview.subjects for c in overview.columns]
        runs = [run.id for cell in cells for run in study.runs_of(*cell)]
        if len(runs) > 8:
            gone = rng.choice(runs)
            print("deleting", gone, flush=True)
            study.set_deleted("run", gone, True)
        if rng.random() < 0.2:
            zip_study(study, path.parent / "out.zip")
    if rng.random() < 0.3:
        create_study(path.parent / f"New {rng.randrange(10**9)}.epidote").close()
    if rng.random() < 0.2 and (path.parent / "out.zip").exists():
        there = path.parent / f"unpacked {rng.randrange(10**9)}"
        there.mkdir()
        unzip_study(path.parent / "out.zip", there)
"""


def killed_once(path: Path, rng: random.Random, finished: set[int]) -> str:
    """Start the work, kill it, look at what is left; "" when all is well. ``finished`` is brought up to date."""
    process = subprocess.Popen(
        [sys.executable, "-c", WORK, str(path), str(rng.randrange(10**6))], stdout=subprocess.PIPE, text=True, cwd=ROOT
    )
    assert process.stdout is not None
    process.stdout.readline()
    time.sleep(rng.uniform(0, 0.7))
    process.send_signal(signal.SIGKILL)
    for line in process.stdout.read().splitlines():
        word, _, number = line.partition(" ")
        if word == "run" and number.isdecimal():
            finished.add(int(number))
        elif word == "deleting" and number.isdecimal():
            finished.discard(int(number))
    process.wait()
    process.stdout.close()
    return looked_over(path, finished) or leftovers(path.parent, path)


def looked_over(path: Path, finished: set[int]) -> str:
    try:
        with closing(Study(path)) as study:
            if study.read_only:
                return f"read-only: {study.why_read_only}"
            there = {
                r.id
                for s in study.overview().subjects
                for c in study.overview().columns
                for r in study.runs_of(s.id, c.id)
            }
            if not finished <= there:
                return f"runs lost: {finished - there}"
            for run in sorted(there)[-4:]:
                if not study.recordings(run) or not study.curves(run):
                    return f"run {run} has lost its recordings or curves"
            if study.overview().damaged:
                return f"damaged: {study.overview().damaged}"
    except Exception as error:  # the trial's own verdict
        return f"{type(error).__name__}: {error}"
    return ""


def leftovers(folder: Path, path: Path) -> str:
    """Every folder that looks like a study is a whole one; the others are removed."""
    for found in folder.rglob(f"*{SUFFIX}"):
        if found == path or not found.is_dir() or ".part" in found.name:
            continue
        try:
            with closing(Study(found)) as study:
                if not study.overview().subjects[0].is_baseline:
                    return f"{found.name} has no baseline row"
        except Exception as error:  # the trial's own verdict
            return f"{found.name}: {type(error).__name__}: {error}"
    return ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng = random.Random(given.seed)
    failed = []
    with tempfile.TemporaryDirectory() as folder:
        path = make_small_study(Path(folder) / "Small.epidote")
        with closing(Study(path)) as study:
            finished = {r.id for r in study.overview().runs.values()}
        for n in range(given.kills):
            words = killed_once(path, rng, finished)
            if words:
                failed.append(f"kill {n}: {words}")
                print(failed[-1], flush=True)
    print(f"kills: {given.kills} kills, {len(failed)} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
