"""What several test files need.

The CSV files in data/ are checked values; where each comes from stands in data/README.md.
"""

from __future__ import annotations

import csv
import os
import sys
import threading
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
import pytest
from hypothesis import settings as hypothesis_settings

from epidote.core.chain.chain import Chain
from epidote.core.concurrency import THREAD_NAMES
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from tests.audio.jack import jack, served  # noqa: F401  fixtures of every test that wants a real sound device

hypothesis_settings.register_profile(
    "any machine", deadline=None
)  # how long an example takes says nothing about whether it is right
hypothesis_settings.load_profile("any machine")

DATA = Path(__file__).parent / "data"
_BLOCK = 512


def table(name: str) -> list[dict[str, str]]:
    """The rows of a CSV file of reference values whose name begins so."""
    file = next(DATA.glob(f"{name}*.csv"))
    with file.open(newline="") as lines:
        return list(csv.DictReader(lines))


def sine(frequency: float, amplitude: float, frames: int, rate: float, phase: float = 0.3) -> np.ndarray:
    """amplitude cos(2 pi f t + phase), frames samples."""
    return amplitude * np.cos(2 * np.pi * frequency * np.arange(frames) / rate + phase)


def sum_of_sines(frequencies, amplitudes, phases, t: np.ndarray) -> np.ndarray:
    """Sum of amplitude sin(2 pi f t + phase) at evenly spaced t in s.

    sin(a + b) with t in blocks is two products of matrices, which takes a twentieth of the time of the sines.
    """
    f, a, p = (np.broadcast_to(np.asarray(v, float), np.shape(frequencies)) for v in (frequencies, amplitudes, phases))
    step = (t[-1] - t[0]) / (t.size - 1)
    begins = t[0] + _BLOCK * step * np.arange(-(-t.size // _BLOCK))
    coarse = 2 * np.pi * np.outer(begins, f) + p
    fine = 2 * np.pi * np.outer(f, step * np.arange(_BLOCK))
    made = (a * np.sin(coarse)) @ np.cos(fine) + (a * np.cos(coarse)) @ np.sin(fine)
    return made.ravel()[: t.size]


def dithered(x: np.ndarray, bits: int, seed: int = 0) -> np.ndarray:
    """Rounded to ``bits`` with triangular dither of two steps."""
    rng = np.random.default_rng(seed)
    steps = 2.0 ** (bits - 1)
    return np.round(x * steps + rng.random(x.shape) - rng.random(x.shape)) / steps


def recording(x: np.ndarray, rate: float = 48000.0, stimulus=None) -> Recording:
    return Recording(Signal(x, rate), stimulus)


def through(x: np.ndarray, rate: float, response, room: int = 0) -> np.ndarray:
    """x (frames,) through a path given by its frequency response H(f), exactly, in the frequency domain."""
    size = 2 * x.size + room
    spectrum = np.fft.rfft(x, size)
    f = np.fft.rfftfreq(size, 1 / rate)
    return np.fft.irfft(spectrum * response(f), size)[: x.size]


UNCALIBRATED = Chain()
# takes back what format 7 added to a study's database
TO_FORMAT_6 = (
    "DROP INDEX run_by_digest; DROP INDEX run_of_column; DROP INDEX recording_of_run; DROP INDEX subject_of_unit;"
    " DROP INDEX subject_in_order; DROP INDEX unit_by_serial; ALTER TABLE run DROP COLUMN digest; DROP TABLE pass;"
    " DROP TABLE value;"
    " PRAGMA user_version = 6;"
)

# settings with which every procedure is quick: for tests that carry out all there are
QUICK = {
    "response": {"duration": 0.6},
    "tone": {"duration": 0.2},
    "spectrum": {"duration": 0.3},
    "noise": {"duration": 0.5},
    "latency": {"shots": 2, "longest": 0.1},
    "paths": {"duration": 0.5},
    "distortion-level": {"steps": 4, "dwell": 0.1, "stop_level": -10},
    "distortion-frequency": {"points_per_octave": 1, "dwell": 0.1, "start_frequency": 500},
    "intermodulation": {"duration": 0.5},
    "multitone": {"duration": 0.5},
    "crosstalk": {"duration": 0.2, "points_per_octave": 0},
    "gain": {"duration": 0.2},
    "programme": {"duration": 1.5},
    "maximum-level": {"lowest": 500, "highest": 1000, "dwell": 0.15, "rest": 0.1, "start_level": "-30", "step": 4},
    "impulsive-distortion": {"duration": 3},
    "microphone": {"duration": 1, "noise_time": 1},
    "band-levels": {"duration": 3, "background": 1},
}


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What mostly waits goes first, and what takes longest: a worker that gets it last leaves the others idle."""
    items.sort(key=lambda item: (not _is_on_the_sound_server(item), "slow" not in item.keywords))


def pytest_runtest_setup(item: pytest.Item) -> None:
    """Give way to whoever plays in real time: those tests come first, so theirs is the only worker that does not."""
    if not _is_on_the_sound_server(item) and os.getpriority(os.PRIO_PROCESS, 0) == 0:
        os.nice(5)


def _is_on_the_sound_server(item: pytest.Item) -> bool:
    return any("jack" in mark.args for mark in item.iter_markers("xdist_group"))


@pytest.fixture(autouse=True, scope="session")
def known_procedures():
    """What readings and curves are is declared by the procedures: load them, as every front end does."""
    from epidote.core.procedures.registry import procedures

    procedures()


@pytest.fixture(autouse=True)
def private_home(tmp_path, monkeypatch):
    """No test reads or writes anybody's preferences or demo study."""
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
        monkeypatch.setenv(name, str(tmp_path / name.lower()))


@pytest.fixture(autouse=True)
def no_window_left():
    """Windows are destroyed with the test that made them: the next one's style would be computed for them as well."""
    yield
    widgets = sys.modules.get("PySide6.QtWidgets")
    if widgets is None or widgets.QApplication.instance() is None:
        return
    from PySide6.QtCore import QEvent

    for window in widgets.QApplication.topLevelWidgets():
        window.close()
        window.deleteLater()
    widgets.QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture(autouse=True)
def no_thread_left():
    """Every worker a test starts is stopped by it; the threads that the process shares stay."""
    before = set(threading.enumerate())
    yield
    new = [t for t in threading.enumerate() if t not in before and t.is_alive() and not t.daemon]
    left = [t.name for t in new if not t.name.startswith(THREAD_NAMES)]
    assert not left, f"threads left running: {left}"


@pytest.fixture
def run(capsys):
    """Run a command in this process: exit code, standard output, standard error."""
    from epidote.cli.app import run_command

    def call(*arguments: object) -> tuple[int, str, str]:
        code = run_command([str(a) for a in arguments])
        out = capsys.readouterr()
        return code, out.out, out.err

    return call


@pytest.fixture
def study(tmp_path):
    """A small study: the baseline, a unit with a row, a column for tone and one for response."""
    made = small_study(tmp_path)
    yield made
    made.close()


def small_study(folder: Path):
    """The same, open; whoever asks for it closes it."""
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.core.settings import make_settings
    from epidote.measurement.request import add_column
    from epidote.study.store import create_study

    made = create_study(folder / "Small.epidote", "Small")
    chain = Chain(name="Bench", rate=48000, output_full_scale=4.0, input_full_scale=8.0, probe_ratio=4.0, load_ohms=8.0)
    made.set_setting("chain", chain_to_toml(chain))
    unit = made.add_unit("Ostrel", "P40", serial="0117")
    made.add_subject(unit, {"gain": "high", "load": "8 Ω"}, "standin:ostrel-p40")
    for key, settings in (("tone", {"duration": 0.2, "level": -20}), ("response", {"duration": 0.5, "level": -20})):
        add_column(made, key, make_settings(procedure(key).Settings, settings))
    return made


def measured(study, row: int = 1, column: int = 0, seed: int = 3):
    """Measure one cell of a study over its stand-in."""
    from epidote.core.procedures.registry import procedure
    from epidote.core.settings import make_settings
    from epidote.measurement.chain_for_row import chain_for_subject
    from epidote.measurement.request import RunPlan
    from epidote.measurement.service import carry_out

    overview = study.overview()
    subject, where = overview.subjects[row], overview.columns[column]
    chain = chain_for_subject(study, subject).changed(device=subject.device or "standin:wire")
    settings = make_settings(procedure(where.procedure).Settings, where.settings)
    plan = RunPlan(subject.id, where.id, where.procedure, settings, chain)
    (run,) = carry_out(study, plan, subject.conditions, seed=seed)
    return run
