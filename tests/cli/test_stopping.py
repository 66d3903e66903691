"""Ctrl+C and SIGTERM while a run goes on: exit code 4, what was kept, and a study that opens."""

import signal
import subprocess
import sys
from contextlib import closing

import pytest

from epidote.study.store import Study
from tests.conftest import measured

# the signal comes while the second exchange of the run plays, whatever the machine's speed
CODE = """
import os, signal, sys
from epidote.audio.simulated import device as simulated
from epidote.cli.app import run_command
number, path = int(sys.argv[1]), sys.argv[2]
exchange = simulated.SimulatedDevice.exchange
def with_signal(self, stimulus, **more):
    tell = more["progress"]
    def progress(share):
        tell(share)
        if share > 0.3 and stimulus.frames > 40000:
            os.kill(os.getpid(), number)
    more["progress"] = progress
    return exchange(self, stimulus, **more)
simulated.SimulatedDevice.exchange = with_signal
sys.exit(run_command(["measure", sys.argv[3], "--study", path, "--subject", "Ostrel P40", "--no-check", *sys.argv[4:]]))
"""


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_ends_a_run_in_words(study, number):
    measured(study)
    path = study.path
    study.close()
    command = [
        sys.executable,
        "-c",
        CODE,
        str(int(number)),
        str(path),
        "response",
        "--set",
        "duration=2",
        "--set",
        "averages=3",
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=120)
    assert done.returncode == 4, done.stderr
    assert "Stopped. This run was not saved. 0 runs of this command are in the study." in done.stderr
    assert "Traceback" not in done.stderr
    with closing(Study(path)) as again:
        assert not again.read_only
        assert len(again.overview().runs) == 1
