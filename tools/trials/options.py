#!/usr/bin/env python3
"""Every option and argument of every command with a list of nasty values: words and an exit code, never a traceback.

tools/trials/options.py [--every N] [--seed N]     --every 10 tries a tenth of them
"""

from __future__ import annotations

import argparse
import contextlib
import io
import itertools
import os
import random
import re
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
import typer

from epidote.cli.app import app, run_command

NASTY = (
    "",
    "-5",
    "inf",
    "-inf",
    "nan",
    "1e400",
    "9" * 400,
    "\x1b[2J",
    "=1+1",
    "/dev/zero",
    "/",
    "..",
    "a\nb",
    "🎛",
    "²",
    "--",
    "1,2,,",
    "x=",
    "=x",
    "frequency=inf",
    "duration=nan",
    "name=" + "9" * 5000,
    "0",
    "99999999999999999999",
    "1e-400",
    "{}",
    "S.epidote",
    "t.wav",
    "None",
    "[",
    "Ω",
)
USUAL = {
    "procedure": "tone",
    "recordings": "t.wav",
    "out": "o.wav",
    "path": "S.epidote",
    "study": "S.epidote",
    "subject": "A B",
    "source": "a.zip",
    "folder": ".",
    "file": "t.wav",
    "run": "1",
    "reading": "thd",
    "curve": "spectrum",
    "condition": "gain",
}
NEVER = re.compile(r"internal error|Traceback|\w+Error\b|pydantic|numpy|https?://|Errno|\x1b")
LONGEST_SECONDS = 20.0


def commands(command: Any, names: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Every command that is no group, with the words that lead to it; those that open a window left out."""
    if not hasattr(command, "commands"):
        if names != ("demo",):
            yield names, command
        return
    for name, inner in command.commands.items():
        yield from commands(inner, (*names, name))


def calls() -> list[list[str]]:
    """Every call there is to try."""
    found = []
    for names, command in commands(typer.main.get_command(app)):
        arguments = [p for p in command.params if p.param_type_name == "argument"]
        options = [p for p in command.params if p.param_type_name == "option"]
        usual = [str(USUAL.get(a.name, "x")) for a in arguments]
        needed = list(
            itertools.chain.from_iterable([o.opts[0], str(USUAL.get(o.name, "x"))] for o in options if o.required)
        )
        for value in NASTY:
            found += [[*names, *usual[:i], value, *usual[i + 1 :], *needed] for i in range(len(arguments))]
            found += [
                [*names, *usual, *needed, o.opts[0], value] for o in options if not o.is_flag and o.name != "help"
            ]
    return found


def prepare(folder: Path) -> None:
    """A study and a recording to be misused."""
    os.chdir(folder)
    soundfile.write("t.wav", 0.1 * np.sin(np.arange(48000) * 0.13), 48000, subtype="PCM_24")
    for words in ("study new S.epidote", "study add S.epidote --maker A --model B --device standin:wire"):
        run_command(words.split())
    run_command(["measure", "tone", "--study", "S.epidote", "--subject", "A B", "--set", "duration=0.1"])


def wrong(call: list[str]) -> str:
    """What is wrong with the answer to a call, or ""."""
    out, err = io.StringIO(), io.StringIO()
    begun = time.process_time()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = run_command(call)
    seconds, said = time.process_time() - begun, err.getvalue()
    if code not in (0, 2, 3, 4, 5):
        return f"exit code {code}"
    if NEVER.search(said):
        return said[:300]
    return f"{seconds:.0f} s" if seconds > LONGEST_SECONDS else ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--every", type=int, default=1)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        with contextlib.redirect_stdout(io.StringIO()):
            prepare(Path(folder))
        every = calls()
        random.Random(given.seed).shuffle(every)
        tried = every[:: given.every]
        failed = [(call, words) for call in tried if (words := wrong(call))]
    for call, words in failed:
        print(f"{call}: {words}")
    print(f"options: {len(tried)} calls tried, {len(failed)} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
