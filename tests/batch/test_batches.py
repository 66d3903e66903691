"""Recordings computed again: in processes, on a Dask scheduler that the test starts, stopped and gone on with."""

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from epidote.batch.cluster import DaskCluster
from epidote.batch.failure import JobFailure
from epidote.batch.pool import InProcess, ProcessPool
from epidote.batch.recomputing import BatchCount, recompute_study
from epidote.cli.app import run_command
from epidote.core.errors import CancelledError, MeasurementError, SettingError
from epidote.measurement.recompute import recompute
from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
from epidote.measurement.routine.storage import find_routine
from epidote.study.store import Study
from tests.batch_jobs import kill_always, kill_once, nothing, square
from tests.routine_study import line_study

UNITS = 3


@pytest.fixture(scope="module")
def measured_line(tmp_path_factory):
    path = line_study(tmp_path_factory.mktemp("line") / "Line")
    with Study(path) as study:
        runner = RoutineRunner(study, find_routine(study, "Post check"))
        for number in range(1, UNITS + 1):
            runner.run_unit(UnitRequest(f"H20-{number:03d}"))
        runner.close()
    return path


@pytest.fixture
def line(measured_line, tmp_path):
    return shutil.copytree(measured_line, tmp_path / "Line.epidote")


def batch(capsys, *arguments):
    code = run_command(["batch", *(str(a) for a in arguments), "--json"])
    out = capsys.readouterr()
    return code, json.loads(out.out) if out.out else None, out.err


def readings(path):
    with Study(path) as study:
        return {
            (run.subject_id, run.column_id): [r.to_json() for r in run.readings]
            for run in study.overview().runs.values()
        }


def test_the_same_to_the_bit_as_recomputed_by_hand(capsys, line, measured_line, tmp_path):
    other = shutil.copytree(measured_line, tmp_path / "Other.epidote")
    code, told, _ = batch(capsys, line, "--procedure", "tone", "--set", "band_high=15k", "--jobs", "2")
    assert (code, told["done"], told["skipped"], told["failed"]) == (0, UNITS, 0, 0)
    with Study(other) as study:
        for run in list(study.overview().runs.values()):
            if run.procedure == "tone":
                recompute(study, run.id, {"band_high": 15000.0})
    assert readings(line) == readings(other)


def test_what_was_done_is_skipped(capsys, line):
    assert batch(capsys, line, "--jobs", "1")[1]["done"] == 2 * UNITS
    assert batch(capsys, line, "--jobs", "1")[1] == {"done": 0, "skipped": 2 * UNITS, "failed": 0, "failures": []}
    assert batch(capsys, line, "--jobs", "1", "--procedure", "tone", "--set", "harmonics=5")[1]["done"] == UNITS


def test_stopped_in_the_middle_it_goes_on_from_there(line):
    with Study(line) as study:
        count = BatchCount()
        with pytest.raises(CancelledError, match="run the same command again"):
            recompute_study(study, {}, InProcess(), count, cancelled=lambda: count.done == 2)
        assert count.done == 2
        again = BatchCount()
        recompute_study(study, {}, InProcess(), again)
        assert (again.skipped, again.done) == (2, 2 * UNITS - 2)


def test_one_bad_recording_does_not_stop_the_rest(capsys, line):
    victim = sorted((line / "recordings").iterdir())[0]
    victim.write_bytes(victim.read_bytes()[:-100])
    code, told, _ = batch(capsys, line, "--jobs", "1")
    assert (code, told["done"], told["failed"]) == (3, 2 * UNITS - 1, 1)
    assert victim.name in told["failures"][0]["words"]


def test_studies_that_cannot_be_opened_are_listed(capsys, line, tmp_path):
    with Study(line):
        code, told, _ = batch(capsys, line, tmp_path / "none.epidote", "--jobs", "1")
    assert (code, told["done"], told["failed"]) == (3, 0, 2)
    assert "read-only" in told["failures"][0]["words"]


def test_wrong_usage(capsys, line):
    for arguments, words in (
        (("--set", "band_high=15k"), "--set needs --procedure"),
        (("--procedure", "tone", "--set", "level=-3"), "affects what is played"),
        (("--jobs", "2", "--cluster", "tcp://127.0.0.1:1"), "exclude each other"),
    ):
        code, _, err = batch(capsys, line, *arguments)
        assert (code, words in err) == (2, True), err


def never():
    return False


def test_a_pool_yields_every_job_once():
    found = dict(ProcessPool(2, nothing).run(range(-1, 30), square, never))
    assert found == {n: n * n for n in range(30)} | {-1: JobFailure("negative")}


def test_a_killed_process_costs_only_what_it_had_in_hand(tmp_path):
    jobs = [(n, str(tmp_path / "mark")) for n in range(20)]
    found = dict(ProcessPool(2, nothing).run(jobs, kill_once, never))
    assert sorted(found.values()) == list(range(20))


def test_a_job_that_kills_its_process_is_given_up():
    found = dict(ProcessPool(2, nothing).run(range(8), kill_always, never))
    assert isinstance(found[3], JobFailure)
    assert [n for n in found if n != 3 and found[n] == n] == [n for n in found if n != 3]


def test_loose_files_by_the_folder(capsys, line, tmp_path):
    (line / "recordings" / "broken.wav").write_bytes(b"RIFF")
    out = tmp_path / "results"
    words = ("analyse", "spectrum", line / "recordings", "--out", out, "--jobs", "1")
    code, told, _ = batch(capsys, *words)
    assert (code, told["failed"]) == (3, 1)
    assert "broken.wav" in told["failures"][0]["name"]
    files = len(list((line / "recordings").glob("*.flac")))
    assert told["done"] == len(list(out.glob("*.json"))) == files
    made = json.loads(sorted(out.glob("*.json"))[0].read_text())
    run_command(["analyse", "spectrum", made["file"], "--json"])
    alone = json.loads(capsys.readouterr().out)
    assert made["readings"] == alone["readings"]
    code, told, _ = batch(capsys, *words)
    assert (told["done"], told["skipped"]) == (0, files)
    code, _, err = batch(capsys, "analyse", "spectrum", tmp_path / "nothing.wav", "--out", out)
    assert (code, "does not exist" in err) == (3, True)
    code, _, err = batch(capsys, "analyse", "spectrum")
    assert (code, "Enter a procedure, files or folders" in err) == (2, True)


class Cluster:
    """A scheduler with workers, each a process of its own."""

    def __init__(self, folder, workers=2):
        self.file = folder / "scheduler.json"
        self.processes = [self._start("scheduler", "--port", "0", "--scheduler-file", str(self.file))]
        self.address = self._address()
        for _ in range(workers):
            self.add_worker()

    @staticmethod
    def _start(*words):
        command = [
            sys.executable,
            "-m",
            f"distributed.cli.dask_{words[0]}",
            *words[1:],
        ]
        return subprocess.Popen(
            [*command, "--no-dashboard"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env={**os.environ, "PYTHONPATH": str(Path(__file__).resolve().parents[2])},
        )

    def _address(self):
        ends = time.monotonic() + 60
        while time.monotonic() < ends:
            if self.file.exists() and self.file.read_text().strip():
                return json.loads(self.file.read_text())["address"]
            time.sleep(0.05)
        raise TimeoutError("no scheduler")

    def add_worker(self):
        self.processes.append(self._start("worker", self.address, "--nthreads", "1", "--no-nanny"))

    def end(self):
        for process in self.processes:
            process.kill()
            process.wait()


@pytest.fixture(scope="module")
def cluster(tmp_path_factory):
    made = Cluster(tmp_path_factory.mktemp("cluster"))
    yield made
    made.end()


@pytest.mark.slow
@pytest.mark.xdist_group("cluster")
@pytest.mark.filterwarnings("ignore")
class TestOnACluster:
    def test_the_same_results_by_path_and_by_value(self, capsys, line, measured_line, tmp_path, cluster):
        other = shutil.copytree(measured_line, tmp_path / "Other.epidote")
        code, told, err = batch(capsys, line, "--cluster", cluster.address)
        assert (code, told["done"]) == (0, 2 * UNITS), err
        batch(capsys, other, "--cluster", cluster.address, "--by-value")
        assert readings(line) == readings(other)
        assert batch(capsys, line, "--cluster", cluster.address)[1]["skipped"] == 2 * UNITS

    def test_a_killed_worker_costs_only_what_it_had_in_hand_and_a_cluster_that_disappears_is_said(
        self, tmp_path, monkeypatch
    ):
        import dask

        dask.config.set({"distributed.comm.timeouts.connect": "2s"})
        own = Cluster(tmp_path)
        runner = DaskCluster(own.address)
        jobs = [(n, str(tmp_path / "mark")) for n in range(12)]
        found = dict(runner.run(jobs, kill_once, never))
        assert sorted(found.values()) == list(range(12))
        monkeypatch.setattr("epidote.batch.cluster._CONNECT_SECONDS", 3)
        done = []
        with pytest.raises(MeasurementError, match="disappeared"):
            for job, _ in runner.run(range(10_000), square, never):
                done.append(job)
                if len(done) == 3:
                    own.end()
        assert len(done) >= 3
        runner.close()

    def test_another_version_is_refused_by_name(self, cluster, monkeypatch):
        monkeypatch.setattr("epidote.batch.cluster.__version__", "9.9")
        with pytest.raises(MeasurementError, match=r"do not run Epidote 9\.9: tcp://"):
            DaskCluster(cluster.address)


def test_a_cluster_that_is_not_there(monkeypatch):
    monkeypatch.setattr("epidote.batch.cluster._CONNECT_SECONDS", 1)
    with pytest.raises(MeasurementError, match="There is no cluster at tcp://127.0.0.1:9"):
        DaskCluster("tcp://127.0.0.1:9")


def test_without_the_packages_of_the_cluster(monkeypatch):
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(SettingError, match=r"pip install epidote\[cluster\]"):
        DaskCluster("tcp://127.0.0.1:9")
