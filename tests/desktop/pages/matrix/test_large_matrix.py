"""A study of many rows: what is chosen when it opens, cells painted once, repeats that are stopped."""

from __future__ import annotations

import numpy as np
import pytest

from epidote.core.results.result import Curve, Result
from tests.desktop.driver import do, wait_for

ROWS = 60


@pytest.fixture
def path(measured_study, tmp_path):
    """Sixty rows with a run each, made up."""
    from epidote.core.chain.chain import Chain
    from epidote.core.procedures.registry import procedure
    from epidote.core.results.level_readings import level_readings
    from epidote.core.settings import make_settings
    from epidote.measurement.request import add_column
    from epidote.study.curve_codec import thumbnail_points
    from epidote.study.headline import Headline
    from epidote.study.models import FinishedRun
    from epidote.study.store import create_study

    study = create_study(tmp_path / "Many.epidote", "Many")
    column = add_column(study, "response", make_settings(procedure("response").Settings, {}))
    f = np.geomspace(20, 20000, 300)
    for n in range(ROWS):
        row = study.add_subject(study.add_unit("Maker", f"M{n}"), {"load": "8 Ω"}, "standin:wire")
        curve = Curve("level", 1, f, 20 - 10 * np.log10(1 + (f / (9000 + 500 * n)) ** 2), "Hz", "dB")
        readings = level_readings(curve, np.full(curve.x.size, 0.001))
        head = Headline(readings[0], "Gain")
        study.add_run(
            FinishedRun(
                row.id,
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
    study.close()
    return tmp_path / "Many.epidote"


def test_it_opens_on_the_first_rows_and_shows_all_when_asked(window, qtbot):
    assert len(window.matrix.graph_panel.graph.figure().traces) == 4
    do(window, "whole column")
    wait_for(qtbot, lambda: len(window.matrix.graph_panel.graph.figure().traces) == ROWS)
    do(window, "beside conditions")
    wait_for(qtbot, lambda: window.matrix.beside.varying.panel.table.row_count() == ROWS)


def test_cells_are_painted_once_and_anew_when_they_change(window, qtbot, monkeypatch):
    delegate, table = window.matrix.pane.delegate, window.matrix.table
    painted = []
    real = type(delegate).paint_cell
    monkeypatch.setattr(
        type(delegate), "paint_cell", lambda self, *a, **k: (painted.append(a[2].row()), real(self, *a, **k))[1]
    )
    table.verticalScrollBar().setValue(20)
    table.grab()
    assert 20 in painted
    painted.clear()
    table.verticalScrollBar().setValue(23)
    table.grab()
    assert 20 not in painted
    painted.clear()
    table.verticalScrollBar().setValue(20)
    table.grab()
    assert painted == []
    subject = window.matrix.model.subject(21)
    window.matrix.selection.select([subject.id], window.session.overview.columns[0].id)
    do(window, "show row")
    wait_for(qtbot, lambda: not window.session.overview.subject(subject.id).shown)
    painted.clear()
    table.grab()
    assert 21 in painted


def test_repeats_that_are_stopped_keep_what_was_finished(window, qtbot):
    overview = window.session.overview
    cell = (overview.subjects[1].id, overview.columns[0].id)
    window.matrix.selection.select([cell[0]], cell[1])
    window.matrix.beside.comparing.repeat(times=50)
    wait_for(qtbot, lambda: cell in window.session.runs.under_way and window.session.runs.under_way[cell].share > 0.03)
    do(window, "stop")
    wait_for(qtbot, lambda: cell not in window.session.runs.under_way)
    wait_for(qtbot, lambda: 1 < window.session.overview.repeats[cell] < 51)


def test_many_curves_are_painted_plainly_while_they_move(window, qtbot):
    do(window, "whole column")
    graph = window.matrix.graph_panel.graph
    wait_for(qtbot, lambda: len(graph.figure().traces) == ROWS)
    graph.zoom_x(0.5)
    moving = graph.grab().toImage()
    wait_for(qtbot, lambda: not graph.at_rest.isActive())
    assert graph.grab().toImage() != moving
