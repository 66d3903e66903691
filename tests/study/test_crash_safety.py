"""Killed at any moment, out of disk, cancelled: what was finished is there, and nothing half is."""

import random
import resource
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from epidote.core.errors import CancelledError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.measurement.device_setup import open_for_chain
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import measure
from epidote.study.models import StudyError
from epidote.study.store import Study
from tests.conftest import measured

LOOP = """
import sys
from pathlib import Path
from epidote.study.store import Study
from tests.conftest import measured
study = Study(Path(sys.argv[1]))
while True:
    measured(study)
    print("finished", flush=True)
"""


@pytest.mark.slow
def test_killed_in_a_loop(study):
    """A real kill -9 at random moments of measuring, writing and committing."""
    path = study.path
    study.close()
    random.seed(1)
    finished = 0
    for round_ in range(4):
        process = subprocess.Popen(
            [sys.executable, "-c", LOOP, str(path)], stdout=subprocess.PIPE, text=True, cwd=Path.cwd()
        )
        process.stdout.readline()
        finished += 1
        deadline = time.monotonic() + random.uniform(0, 0.5)
        while time.monotonic() < deadline:
            time.sleep(0.005)
        process.send_signal(signal.SIGKILL)
        finished += len(process.stdout.read().splitlines())
        process.wait()
        process.stdout.close()
        again = Study(path)
        assert not again.read_only, "a killed process must not leave its lock"
        runs = [
            r for s in again.overview().subjects for c in again.overview().columns for r in again.runs_of(s.id, c.id)
        ]
        assert len(runs) >= finished, f"round {round_}"
        finished = len(runs)
        for run in runs:
            assert again.recordings(run.id)
            assert again.curves(run.id)
        assert len(list((path / "recordings").iterdir())) == len(runs)
        again.close()


def test_disk_full_while_the_recording_is_written(study):
    """A real limit of the system on the size of files: the write fails half-way."""
    before = measured(study)
    path = study.path
    study.close()
    code = f"""
import signal
from pathlib import Path
from tests.conftest import measured
from epidote.study.store import Study
from epidote.core.errors import EpidoteError
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
study = Study(Path({str(path)!r}))
try:
    measured(study)
except EpidoteError as error:
    print(error)
study.close()
"""

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (100_000, 100_000))

    out = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, preexec_fn=limit, check=False, cwd=Path.cwd()
    )
    assert "could not be written" in out.stdout, out.stderr
    assert "free some space" in out.stdout
    again = Study(path)
    assert [r.id for r in again.overview().runs.values()] == [before.id]
    assert len(list((path / "recordings").iterdir())) == 1
    again.close()


def test_a_full_disk_is_noticed_before_anything_is_played(study, monkeypatch):
    monkeypatch.setattr(Study, "free_bytes", lambda self: 1_000_000)
    with pytest.raises(StudyError, match="1 MB free.*Nothing was measured"):
        measured(study)


def test_a_cancelled_run_leaves_nothing(study):
    overview = study.overview()
    subject, column = overview.subjects[1], overview.columns[0]
    from epidote.measurement.chain_for_row import chain_for_subject

    chain = chain_for_subject(study, subject)
    settings = make_settings(procedure("tone").Settings, column.settings)
    device = open_for_chain(chain, subject.device, {}, seed=1)
    calls = []

    def cancelled() -> bool:
        calls.append(1)
        return len(calls) > 3

    with pytest.raises(CancelledError):
        measure(study, RunPlan(subject.id, column.id, "tone", settings, chain), device, cancelled=cancelled)
    assert study.overview().runs == {}
    assert list((study.path / "recordings").iterdir()) == []


def test_a_study_open_elsewhere_is_not_measured_into(study):
    second = Study(study.path)
    with pytest.raises(StudyError, match="Nothing was measured"):
        measured(second)
    second.close()
