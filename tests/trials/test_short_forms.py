"""The trials in a short, seeded form.

Each is a program of its own (tools/trials), as anybody can run it; docs/reliability.md has the long runs.
"""

import random
import subprocess
import sys
from pathlib import Path

import pytest

from epidote.core.errors import EpidoteError
from tools.trials.bad_files import mutated
from tools.trials.fuzz import parsers

ROOT = Path(__file__).resolve().parents[2]
SHORT = {
    "options": ("--every", "200"),
    "bad_files": ("--files", "30"),
    "kills": ("--kills", "3"),
    "full_disk": ("--steps", "15"),
    # beside other tests a processor that two threads share takes nearly twice the time
    "monkey": ("--actions", "150", "--minutes", "1", "--longest-gap", "0.5"),
}


@pytest.mark.slow
@pytest.mark.parametrize("name", SHORT)
def test_a_trial(name, tmp_path):
    command = [
        sys.executable,
        str(ROOT / "tools" / "trials" / f"{name}.py"),
        *SHORT[name],
        "--seed",
        "7",
    ]
    done = subprocess.run(command, capture_output=True, text=True, cwd=tmp_path, check=False, timeout=170)
    assert done.returncode == 0, f"{done.stdout[-3000:]}\n{done.stderr[-2000:]}"
    assert " 0 failed" in done.stdout or " 0 faults" in done.stdout


@pytest.mark.parametrize("name", sorted(parsers()))
def test_parsers_take_mutated_texts(name):
    """The texts from which the coverage-guided search begins, mutated at random: read, or refused in words."""
    read, begin_from = parsers()[name]
    rng = random.Random(name)
    for _ in range(150):
        content = mutated(rng.choice(begin_from).encode(), rng)
        try:
            read(content)
        except EpidoteError as error:
            assert str(error)
