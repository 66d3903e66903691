#!/usr/bin/env python3
"""Files of every kind that is read, mutated at random: read, or refused in words, within the time; never a
traceback, never a hang.

tools/trials/bad_files.py [--files N] [--seed N]
"""

from __future__ import annotations

import argparse
import contextlib
import io
import os
import random
import re
import shutil
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import numpy as np
import soundfile

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

from epidote.cli.app import run_command
from epidote.core.errors import EpidoteError
from epidote.study.interchange.archive import unzip_study, zip_study
from epidote.study.store import Study
from tools.trials.small_study import make_small_study

NEVER = re.compile(r"internal error|Traceback|pydantic|numpy|https?://|Errno")
LONGEST_SECONDS = 20.0
INTERESTING = (
    b"\x00",
    b"\xff",
    b"\x7f\xff\xff\xff",
    b"\xff\xff\xff\xff",
    b"[",
    b"{",
    b'"',
    b",",
    b"nan",
    b"1e999",
    b"-1",
    b"9" * 400,
    b"\n",
    b"../",
    b"=",
)


def mutated(content: bytes, rng: random.Random) -> bytes:
    """The content with a few bytes changed, cut out, doubled, or its end cut off."""
    out = bytearray(content)
    for _ in range(rng.choice((1, 1, 2, 5, 20))):
        at = rng.randrange(len(out) + 1)
        kind = rng.randrange(6)
        if kind == 0 and out:
            out[min(at, len(out) - 1)] = rng.randrange(256)
        elif kind == 1:
            out[at : at + rng.randrange(1, 9)] = rng.choice(INTERESTING)
        elif kind == 2:
            del out[at : at + rng.randrange(1, 200)]
        elif kind == 3:
            out[at:at] = out[at : at + rng.randrange(1, 200)]
        elif kind == 4:
            out[at:at] = rng.choice(INTERESTING)
        elif rng.random() < 0.3:
            del out[at:]
    return bytes(out)


def samples(folder: Path) -> dict[str, tuple[bytes, Callable[[Path], None]]]:
    """A whole file of each kind, and what reads it."""
    tone = 0.1 * np.sin(np.arange(24000) * 0.13)
    for kind in ("wav", "flac", "aiff", "ogg", "w64", "caf", "au"):
        soundfile.write(folder / f"take.{kind}", tone, 48000)
    with contextlib.redirect_stdout(io.StringIO()):
        run_command(["stimulus", "tone", str(folder / "s.wav"), "--set", "duration=0.3", "--marked"])
        run_command(["stimulus", "distortion-level", str(folder / "d.wav"), "--set", "steps=3", "--set", "dwell=0.1"])
    (folder / "chain.toml").write_text(
        'name = "Bench"\nrate = 96000.0\noutput_full_scale = 4.0\n[[calibration]]\nwhat = "load_ohms"\nvalue = 8.0\non'
        " = 2026-11-21\n"
    )
    (folder / "curve.txt").write_text("# Frequency [Hz]\tLevel [dB]\n20\t-1.5\t12\n1000\t0\t0\n20000\t-3.25\t-40\n")
    (folder / "claims.csv").write_text(
        "claim;source\nSNR 110 dB(A);data sheet\nTHD+N < 0,005 %, 1 kHz, 1 W, 8 Ω;page 3\n"
    )
    study = make_small_study(folder / "Small.epidote")
    with closing(Study(study)) as opened:
        zip_study(opened, folder / "study.zip")
    for name in ("study.sqlite-wal", "study.sqlite-shm"):
        (study / name).unlink(missing_ok=True)

    def command(*words: str) -> Callable[[Path], None]:
        return lambda path: called([w.replace("@", str(path)) for w in words])

    def analysed(path: Path) -> None:
        called(["analyse", "tone", str(path), "--json"])

    readers: dict[str, Callable[[Path], None]] = {
        f"take.{k}": analysed for k in ("wav", "flac", "aiff", "ogg", "w64", "caf", "au")
    }
    readers["s.json"] = command("analyse", "tone", str(folder / "s.wav"), "--stimulus", "@", "--json")
    readers["d.json"] = command("analyse", "distortion-level", str(folder / "d.wav"), "--stimulus", "@", "--json")
    readers["chain.toml"] = command("analyse", "tone", str(folder / "take.wav"), "--chain", "@", "--json")
    readers["curve.txt"] = command("study", "curve-in", str(study), "@", "--subject", "Havelmar A25")
    readers["claims.csv"] = command("compare", "claims", str(study), "--unit", "Havelmar", "--import", "@", "--json")
    readers["study.zip"] = lambda path: unzipped(path, folder)
    readers["Small.epidote/study.sqlite"] = lambda path: opened_study(path, study)
    return {name: ((folder / name).read_bytes(), reader) for name, reader in readers.items()}


def called(words: list[str]) -> None:
    """A command; raises AssertionError for an answer that must not be."""
    err = io.StringIO()
    with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(err):
        code = run_command(words)
    assert code in (0, 2, 3, 4, 5), f"exit code {code}"
    assert not NEVER.search(err.getvalue()), err.getvalue()[:300]


def unzipped(path: Path, folder: Path) -> None:
    there = folder / "there"
    there.mkdir(exist_ok=True)
    try:
        with contextlib.suppress(EpidoteError), closing(Study(unzip_study(path, there))) as study:
            used(study)
    finally:
        shutil.rmtree(there, ignore_errors=True)


def opened_study(path: Path, whole: Path) -> None:
    """The study with its database replaced."""
    copy = path.parent / "Mutated.epidote"
    shutil.copytree(whole, copy, ignore=shutil.ignore_patterns("study.sqlite*"))
    try:
        (copy / "study.sqlite").write_bytes(path.read_bytes())
        with contextlib.suppress(EpidoteError), closing(Study(copy)) as study:
            used(study)
    finally:
        shutil.rmtree(copy, ignore_errors=True)


def used(study: Study) -> None:
    """Everything that the window reads of a study."""
    seen = study.overview()
    for run in seen.runs.values():
        assert isinstance(run.readings, tuple) and run.chain.rate > 0
        for curve in study.curves(run.id):
            assert np.isfinite(curve.x).all() and np.isfinite(curve.y).all() and (np.diff(curve.x) > 0).all()
        with contextlib.suppress(EpidoteError):
            study.recordings(run.id)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng = random.Random(given.seed)
    failed = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_CONFIG_HOME"] = name
        whole = samples(folder)
        for n in range(given.files):
            kind = rng.choice(sorted(whole))
            content, read = whole[kind]
            path = folder / f"mutated{Path(kind).suffix}"
            path.write_bytes(mutated(content, rng))
            begun = time.process_time()
            words = ""
            try:
                read(path)
            except sqlite3.Error as error:
                words = f"sqlite: {error}"
            except Exception as error:  # the trial's own verdict
                words = f"{type(error).__name__}: {error}"
            if time.process_time() - begun > LONGEST_SECONDS:
                words = words or f"took {time.process_time() - begun:.0f} s"
            if words:
                kept = Path(tempfile.gettempdir()) / f"epidote-bad-{given.seed}-{n}{path.suffix}"
                shutil.copyfile(path, kept)
                failed.append(f"file {n}, {kind}: {words} (kept as {kept})")
                print(failed[-1], flush=True)
    print(f"bad files: {given.files} files, {len(failed)} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
