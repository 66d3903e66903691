#!/usr/bin/env python3
"""The scale table: a study of 2,000 runs, 100 curves on a graph, a table over 500 subjects, on this machine in one
run.
"""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp(prefix="epidote-scale-")

from epidote.runtime import prepare

prepare()

import numpy as np
from PySide6.QtWidgets import QApplication
from timing import best, row

from epidote.core.chain.chain import Chain
from epidote.core.comparison.conditions.condition_table import ConditionReading, grid
from epidote.core.comparison.differences.operating_points import at_point, parse_point
from epidote.core.procedures.registry import procedure
from epidote.core.results.level_readings import level_readings
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.settings import make_settings
from epidote.core.wording.differences import difference_words
from epidote.desktop.app import application
from epidote.desktop.plotting.figure import Figure, Trace
from epidote.desktop.plotting.graph_widget import GraphWidget
from epidote.desktop.shell.main_window import MainWindow
from epidote.desktop.theme import LIGHT
from epidote.measurement.assessment import judged_claims
from epidote.measurement.request import add_column
from epidote.study.curve_codec import thumbnail_points
from epidote.study.headline import Headline
from epidote.study.models import FinishedRun, Owner
from epidote.study.store import Study, create_study

ROWS, COLUMNS, CURVES, SUBJECTS = 200, 10, 100, 500
F = np.geomspace(20, 20000, 900)


def paces(spent: list[float]) -> str:
    """Frames per second of the middle frame, and what 95 % of them keep."""
    return f"{1 / np.median(spent):.0f}, {1 / np.quantile(spent, 0.95):.0f}"


def level(seed: int) -> Curve:
    rng = np.random.default_rng(seed)
    y = 20 - 10 * np.log10(1 + (F / rng.uniform(15000, 60000)) ** 2) + 0.02 * rng.standard_normal(F.size)
    return Curve("level", 1, F, y, "Hz", "dB", np.full(F.size, -90.0))


def large_study(path: Path) -> None:
    """2,000 runs in 200 rows; made once through the store, then its last transactions by the thousand."""
    study = create_study(path, "Large")
    model = procedure("response").Settings
    columns = [add_column(study, "response", make_settings(model, {"duration": 1 + n})) for n in range(COLUMNS)]
    for n in range(ROWS):
        unit = study.add_unit("Maker", f"M{n // 4}") if n % 4 == 0 else unit  # noqa: F821
        subject = study.add_subject(
            unit, {"gain": ("low", "mid", "high", "full")[n % 4], "load": "8 Ω"}, "standin:wire"
        )
        for c, column in enumerate(columns):
            curve = level(n * COLUMNS + c)
            readings = level_readings(curve, np.full(F.size, 0.001))
            head = Headline(readings[0], "Gain at 1 kHz")
            study.add_run(
                FinishedRun(
                    subject.id,
                    column.id,
                    "response",
                    column.settings,
                    Chain(),
                    "made up",
                    Result((curve,), readings),
                    head,
                    thumbnail_points(curve),
                    (),
                )
            )
    for n in range(20):
        data = {
            "claimed": "frequency response",
            "sense": "within",
            "unit": "dB",
            "low": -1.0,
            "high": 1.0,
            "frequency": 20.0,
            "frequency_high": 15000.0,
        }
        study.entries.add("claim", data, Owner(unit=n + 1))
    study.close()


def opened(path: Path) -> None:
    def work() -> None:
        study = Study(path)
        study.overview()
        study.close()

    row("a study of 2,000 runs: opened, its matrix read", f"{1000 * best(work, 5):.0f} ms", "under 1 s")
    study = Study(path)
    seen = study.overview()
    row("... 20 claims judged on it", f"{1000 * best(lambda: judged_claims(study, seen), 2):.0f} ms", "-")
    study.close()


def in_the_window(path: Path) -> None:
    application()
    window = MainWindow()
    window.resize(1280, 800)
    window.show()
    begun = time.perf_counter()
    window.session.open_path(path)
    while not window.matrix.built:
        QApplication.processEvents()
        time.sleep(0.001)  # as an event loop waits
    row(
        "... in the window, from asking to the matrix painted",
        f"{1000 * (time.perf_counter() - begun):.0f} ms",
        "under 1 s",
    )
    while window.matrix.graph_panel.graph.figure() is None:
        QApplication.processEvents()
        time.sleep(0.001)  # as an event loop waits
    settled = time.perf_counter() + 8  # until the claims are judged
    while time.perf_counter() < settled:
        QApplication.processEvents()
        time.sleep(0.001)  # as an event loop waits
    table = window.matrix.table
    bar = table.verticalScrollBar()
    spent = []
    for n in range(150):
        begun = time.perf_counter()
        bar.setValue(n)
        QApplication.processEvents()  # paints what came into view
        spent.append(time.perf_counter() - begun)
    row("... scrolled by a row, painted: frames per second, median, and 95 % of frames", paces(spent), "60")
    window.close()


def panned(*, differences: bool) -> None:
    graph = GraphWidget(LIGHT)
    graph.resize(800, 420)
    traces = tuple(Trace(f"row {n}", 1, n, (c := level(n)).x, c.y, c.floor) for n in range(CURVES))
    less = (
        tuple(Trace(f"row {n}", 1, n, F, t.y - traces[0].y) for n, t in enumerate(traces[1:], start=1))
        if differences
        else ()
    )
    figure = Figure("Response", "Frequency", "Hz", "Gain", "dB", True, traces, less, reference_name="row 0")
    graph.show()
    graph.set_figure(figure, keep_zoom=False)
    QApplication.processEvents()
    graph.zoom_x(0.5)
    spent = []
    for n in range(60):
        begun = time.perf_counter()
        graph.pan(0.01 if n % 2 else -0.01, 0.01 if n % 4 < 2 else -0.01)
        graph.repaint()
        spent.append(time.perf_counter() - begun)
    what = "100 curves and 99 differences" if differences else "100 curves"
    row(f"{what} panned: frames per second, median, and 95 % of frames", paces(spent), "-" if differences else "60")


def two_dozen(path: Path) -> None:
    """A column's 24 rows shown anew, as after an edit: the interface thread's own time for graph and readings, and
    for painting them.
    """
    window = MainWindow()
    window.resize(1280, 800)
    window.show()
    window.session.open_path(path)
    while not window.matrix.built or window.session.overview is None:
        QApplication.processEvents()
    page, seen = window.matrix, window.session.overview
    page.selection.select([s.id for s in seen.subjects if not s.is_baseline][:24], seen.columns[0].id)
    while (figure := page.graph_panel.graph.figure()) is None or len(figure.traces) < 24:
        QApplication.processEvents()
    computed, painted = [], []
    for _ in range(15):
        begun = time.thread_time()
        page.show_selected()
        shown = time.thread_time()
        page.graph_panel.graph.repaint()
        computed.append(shown - begun)
        painted.append(time.thread_time() - shown)
        QApplication.processEvents()
    row(
        "24 rows shown anew: figure and readings, graph painted",
        f"{1000 * np.median(computed):.0f} + {1000 * np.median(painted):.0f} ms",
        "50 ms",
    )
    window.close()


def tables() -> None:
    curves = [level(n) for n in range(SUBJECTS)]
    points = [parse_point(t, "level", ["Hz"], "dB") for t in ("1 kHz", "-3 dB")]

    def work() -> None:
        bases: dict[str, Reading] = {}
        for c in curves:
            for point in points:
                for r in at_point([c], point):
                    base = bases.setdefault(r.key, r)
                    difference_words(r.value, base.value, r.unit)

    row("500 subjects at two operating points, with differences", f"{1000 * best(work, 5):.0f} ms", "under 200 ms")
    told = [
        ConditionReading(
            f"row {n}", {"buffer": str(16 + n % 50), "connection": f"kind {n // 50}"}, 1e-3 * (n % 97), "s"
        )
        for n in range(SUBJECTS)
    ]
    row("500 subjects as a table over two conditions", f"{1000 * best(lambda: grid(told), 5):.0f} ms", "under 200 ms")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "Large.epidote"
        large_study(path)
        opened(path)
        in_the_window(path)
        two_dozen(path)
    panned(differences=False)
    panned(differences=True)
    tables()
