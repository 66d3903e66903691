#!/usr/bin/env python3
"""Many units in one study: 10,000 units of 8 steps opened, their statistics, and what one more unit costs.

    tools/benchmarks/units.py [--units N]

One unit is really measured, its runs are then put in again and again with other values, as the store keeps them.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from epidote.runtime import prepare

prepare()

import numpy as np
from timing import best, row

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.results.result import Curve
from epidote.core.settings import make_settings
from epidote.measurement.request import add_column
from epidote.measurement.unit_statistics import curve_statistics, find_column, statistics_of, unit_values
from epidote.study.curve_codec import insert_curve
from epidote.study.models import Unit
from epidote.study.passes import RoutinePass
from epidote.study.repository import insert_values
from epidote.study.store import Study, create_study
from epidote.study.stored_json import readings_from_json

STEPS, BANDS, READINGS = 8, 200, 12
X = np.geomspace(20, 20000, BANDS)
AT_ONCE = 500  # units in one transaction, while the study is filled


def _readings(rng: np.random.Generator, kinds: list[str]) -> str:
    made = [
        {
            "key": key,
            "channel": channel,
            "value": float(rng.normal(-80, 2)),
            "unit": "dB",
            "at": {"frequency_hz": 1000.0},
            "floor": -120.0,
            "spread": 0.01,
            "cautions": [],
        }
        for key in kinds
        for channel in (1, 2)
    ]
    return json.dumps(made)


def fill(study: Study, units: int, begin: int = 0) -> None:
    """Add units with a run in each column, curves of 200 bands and a pass, through the database."""
    rng = np.random.default_rng(begin)
    chain = Chain(output_full_scale=4.0, input_full_scale=8.0).model_dump_json()
    columns = study.queries.columns()
    kinds = [kind.key for kind in procedure("tone").readings][:READINGS]
    thumbnail = json.dumps([(n / 40, 0.5) for n in range(41)])
    for first in range(begin, begin + units, AT_ONCE):
        with study.database.writing() as c:
            for n in range(first, min(first + AT_ONCE, begin + units)):
                unit = c.execute(
                    "INSERT INTO unit (maker, model, serial) VALUES ('Ostrel', 'H20', ?)", (f"H20-{n:06d}",)
                ).lastrowid
                subject = c.execute(
                    "INSERT INTO subject (unit_id, conditions, colour, position) VALUES (?, '{}', ?, ?)",
                    (unit, n, n + 1),
                ).lastrowid
                for column in columns:
                    readings = _readings(rng, kinds)
                    head = json.dumps(
                        {
                            "key": "thd",
                            "channel": 1,
                            "value": -80.0,
                            "unit": "dB",
                            "at": {},
                            "floor": None,
                            "spread": None,
                            "cautions": [],
                            "title": "THD",
                        }
                    )
                    run = c.execute(
                        "INSERT INTO run (subject_id, column_id, procedure, settings, chain, device, made, program,"
                        " cautions, readings, headline, thumbnail)"
                        " VALUES (?, ?, 'tone', ?, ?, 'x', ?, '0.1.0', '[]', ?, ?, ?)",
                        (
                            subject,
                            column.id,
                            json.dumps(dict(column.settings)),
                            chain,
                            f"2026-11-{1 + n % 28:02d}T10:00:00+00:00",
                            readings,
                            head,
                            thumbnail,
                        ),
                    ).lastrowid
                    c.execute(
                        "INSERT INTO recording (run_id, position, file, rate, channels, frames, sha256, stimulus,"
                        " faults) VALUES (?, 0, ?, 48000, 2, 48000, '', '', '[]')",
                        (run, f"{run}.flac"),
                    )
                    made = readings_from_json(readings)
                    insert_values(c, int(run or 0), column.id, made)
                    for channel in (1, 2):
                        insert_curve(
                            c, int(run or 0), Curve("level", channel, X, rng.normal(0, 0.1, BANDS), "Hz", "dB")
                        )


def new_study(path: Path) -> Study:
    study = create_study(path, "Many units")
    study.set_setting("chain", chain_to_toml(Chain()))
    model = procedure("tone").Settings
    for n in range(STEPS):
        add_column(study, "tone", make_settings(model, {"frequency": 500 + 100 * n}))
    return study


def one_more_unit(study: Study, number: int) -> float:
    """Return the time in s that the study itself takes for one more unit: its row, its cells and its pass."""
    from epidote.core.results.result import Result
    from epidote.measurement.processing import baseline_of
    from epidote.measurement.request import RunPlan
    from epidote.study.models import FinishedRun

    begun = time.perf_counter()
    serial = f"N-{number:06d}"
    assert study.queries.unit_with("Ostrel", "H20", serial) is None
    unit: Unit = study.add_unit("Ostrel", "H20", serial)
    subject = study.add_subject(unit, {})
    settings = make_settings(procedure("tone").Settings, {})
    for column in study.queries.columns():
        baseline_of(study, RunPlan(subject.id, column.id, "tone", settings, Chain()))
        study.add_run(FinishedRun(subject.id, column.id, "tone", column.settings, Chain(), "x", Result()))
    from datetime import UTC, datetime

    now = datetime.now(UTC)
    study.passes.add(RoutinePass("Post check", "", subject.id, serial, now, now, "passed"))
    study.passes.counts("Post check")
    return time.perf_counter() - begun


def memory() -> float:
    """Return the most memory the process had, in MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--units", type=int, default=10_000)
    units = parser.parse_args().units
    procedures()
    with tempfile.TemporaryDirectory(prefix="epidote-units-") as scratch:
        study = new_study(Path(scratch) / "Many")
        path, there = study.path, 0
        print("cost of one more unit (row, 8 runs, pass), without its sound:")
        for target in (10, 100, 1000, units):
            fill(study, target - there, there)
            there = target
            spent = min(one_more_unit(study, there + 10 * there + n) for n in range(5))
            size = sum(f.stat().st_size for f in path.glob("study.sqlite*"))
            row(f"    after {there} units", f"{1000 * spent:.0f} ms", f"database {size / 1e6:.0f} MB")
        study.close()
        before = memory()

        def opens() -> None:
            with Study(path) as opened:
                opened.overview()

        row(f"{units} units of {STEPS} steps: opened, its matrix read", f"{best(opens, 3):.2f} s", "1.5 s")
        with Study(path) as opened:
            column = find_column(opened, str(opened.queries.columns()[0].id))
            spent = best(lambda: statistics_of(unit_values(opened, column, "thd")), 3)
            row("statistics of a reading", f"{spent:.2f} s", "0.3 s")
            spent = best(lambda: curve_statistics(opened, column, "level"), 3)
            row(f"statistics of a curve of {BANDS} bands", f"{spent:.2f} s", "2 s")
        row("memory, at most", f"{memory():.0f} MB", f"600 MB ({before:.0f} MB while it was filled)")
        window(path)


def window(path: Path) -> None:
    """Open the study in the window, and look at the matrix."""
    os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp(prefix="epidote-units-")
    from PySide6.QtWidgets import QApplication

    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    application()
    made = MainWindow()
    made.show()
    QApplication.processEvents()
    begun = time.perf_counter()
    made.session.open_path(path)
    longest = 0.0
    while made.session.overview is None or made.matrix.table.model().rowCount() < 10:
        time.sleep(0.002)  # the study is read on another thread
        turn = time.thread_time()
        QApplication.processEvents()
        longest = max(longest, time.thread_time() - turn)
    QApplication.processEvents()
    row("in the window: until the matrix is shown", f"{time.perf_counter() - begun:.2f} s", "1.5 s")
    row("    longest turn of the interface's thread", f"{1000 * longest:.0f} ms", "")
    row("    memory, at most", f"{memory():.0f} MB", "600 MB")
    made.session.close()
    os._exit(0)


if __name__ == "__main__":
    main()
