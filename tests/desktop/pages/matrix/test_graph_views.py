"""The same run seen in several ways without measuring again: axes, single steps, densities, marks; and a staircase
stopped half-way.
"""

import numpy as np
import pytest
from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QFontMetrics

from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.measurement.request import add_column
from tests.conftest import measured
from tests.desktop.driver import do, export, wait_for

LEVEL = {"steps": 6, "dwell": 0.1, "start_level": "-40 dBFS", "stop_level": "-8 dBFS"}


@pytest.fixture
def staircase(window, qtbot):
    """The page with a staircase of two rows measured and chosen."""
    study = window.session.study
    column = add_column(study, "distortion-level", make_settings(procedure("distortion-level").Settings, LEVEL))
    where = [c.id for c in study.overview().columns].index(column.id)
    for row in (1, 3):
        measured(study, row, where)
    window.session.refresh()
    page = window.matrix
    wait_for(qtbot, lambda: len(window.session.overview.columns) == where + 1)
    subjects = [window.session.overview.subjects[i].id for i in (1, 3)]
    wait_for(qtbot, lambda: all((s, column.id) in window.session.overview.runs for s in subjects))
    page.selection.select(subjects, column.id)
    wait_for(qtbot, lambda: page.graph_panel.axes.keys() != ())
    return page


def figure(page):
    return page.graph_panel.graph.figure()


def test_axes(staircase, window, qtbot):
    page = staircase
    assert page.graph_panel.axes.keys() == ("W", "V", "dBV", "dBu", "in", "out")
    assert (figure(page).x_title, figure(page).x_unit, figure(page).log_x) == ("Output power", "W", True)
    watts = figure(page).traces[0].x
    qtbot.mouseClick(page.graph_panel.axes.button("V"), Qt.MouseButton.LeftButton)
    volts = figure(page).traces[0].x
    np.testing.assert_allclose(volts**2 / 8, watts)
    do(window, "next axis")
    assert figure(page).x_unit == "dBV" and not figure(page).log_x
    np.testing.assert_allclose(figure(page).traces[0].x, 20 * np.log10(volts))
    do(window, "next axis")
    np.testing.assert_allclose(figure(page).traces[0].x, 20 * np.log10(volts / 0.6**0.5))
    do(window, "next axis")
    chain = window.session.overview.runs[
        window.session.overview.subjects[1].id, page.selection.current_column().id
    ].chain
    full = chain.input_full_scale * chain.probe_ratio
    np.testing.assert_allclose(figure(page).traces[0].x, 20 * np.log10(volts / full))
    do(window, "next axis")
    assert figure(page).traces[0].x[0] == pytest.approx(-40)
    assert figure(page).x_title == "Generator level"


def test_each_axis_has_its_own_pins(staircase, window, qtbot):
    page = staircase
    page.pins.add(5.0)
    wait_for(qtbot, lambda: len(figure(page).pins) == 1)
    page.look.show_axis("V")
    assert figure(page).pins == ()


def test_one_step_is_computed_from_the_recording(staircase, window, qtbot):
    page = staircase
    qtbot.mouseClick(page.graph_panel.views.button("Single step"), Qt.MouseButton.LeftButton)
    wait_for(qtbot, lambda: figure(page) is not None and figure(page).x_unit == "s" and len(figure(page).traces) > 0)
    assert page.graph_panel.step.isVisible()
    highest = page.graph_panel.step_words.text()
    assert highest.endswith("dBFS generator")
    peak = figure(page).traces[0].y.max()
    for _ in range(150):  # fine steps and all
        do(window, "step down")
    assert page.graph_panel.step_words.text() == "-40.00 dBFS generator"

    def is_low_step() -> bool:
        drawn = figure(page)
        return drawn is not None and len(drawn.traces) == 2 and drawn.traces[0].y.max() < 0.1 * peak

    wait_for(qtbot, is_low_step)
    page.look.show_view("step_spectrum")
    wait_for(qtbot, lambda: figure(page) is not None and figure(page).x_unit == "Hz" and figure(page).log_x)
    assert [name for _, name in figure(page).marks][:3] == ["H1", "H2", "H3"]
    page.look.show_view("thd_n")
    assert not page.graph_panel.step.isVisible()


def test_what_is_in_view_is_exported(staircase, window, tmp_path, qtbot):
    page = staircase
    page.look.show_axis("dBu")
    export(qtbot, page, tmp_path / "curves.csv")
    text = (tmp_path / "curves.csv").read_text()
    assert "dBu" in text and "thd_n" in text
    assert len([line for line in text.splitlines() if line and line[0] in "-0123456789"]) >= 8


def test_a_spectrum_per_hertz_with_its_harmonics(window, qtbot):
    page, overview = window.matrix, window.session.overview
    column = next(c for c in overview.columns if c.procedure == "tone")
    page.selection.select([overview.subjects[1].id], column.id)
    wait_for(qtbot, lambda: figure(page) is not None and len(figure(page).marks) >= 9)
    harmonics = {name: x for x, name in figure(page).marks}
    assert harmonics["H3"] == pytest.approx(3 * harmonics["H1"])
    lines = figure(page).traces[0].y.copy()
    page.look.show_view("spectrum per hertz")
    curve = next(
        c for c in page.selection.curves_of(overview.runs[overview.subjects[1].id, column.id].id) if c.key == "spectrum"
    )
    np.testing.assert_allclose(lines - figure(page).traces[0].y, 10 * np.log10(curve.meta["enbw_hz"]))
    assert "1 Hz" in figure(page).y_title


def test_stopped_half_way_is_kept_and_said(window, qtbot):
    study, session = window.session.study, window.session
    session.runs.checks = False
    column = add_column(
        study,
        "distortion-level",
        make_settings(procedure("distortion-level").Settings, {**LEVEL, "steps": 30, "dwell": 0.2}),
    )
    session.refresh()
    wait_for(qtbot, lambda: session.overview.column(column.id) is not None)
    subject = session.overview.subjects[1]
    window.matrix.selection.select([subject.id], column.id)
    from epidote.desktop.state.run_queue import RunRequest

    session.runs.measure([RunRequest((subject.id, column.id), column.settings)])
    wait_for(qtbot, lambda: bool(session.runs.under_way) and next(iter(session.runs.under_way.values())).share > 0.3)
    do(window, "stop")
    wait_for(qtbot, lambda: (subject.id, column.id) in session.overview.runs)
    run = session.overview.runs[subject.id, column.id]
    assert "partial" in run.cautions
    curve = next(c for c in study.curves(run.id) if c.key == "thd_n")
    assert 4 < curve.x.size < 28


def test_row_heads_stay_in_sight(window, qtbot):
    """With so many columns that they must be scrolled, the heads are the graph's legend still."""
    study = window.session.study
    for n in range(9):
        add_column(study, "gain", make_settings(procedure("gain").Settings, {"level": -20.0 - n}))
    window.session.refresh()
    table = window.matrix.table
    wait_for(qtbot, lambda: window.matrix.model.columnCount() == 12 and table.horizontalScrollBar().maximum() > 0)
    last = window.session.overview.columns[-1].id
    window.matrix.selection.select([window.session.overview.subjects[1].id], last)
    table.scrollTo(table.currentIndex())
    assert table.horizontalScrollBar().value() > 0
    assert table.heads.isVisible()
    assert table.heads.visualRect(window.matrix.model.index(1, 0)).left() == 0
    assert table.visualRect(table.currentIndex()).left() >= table.columnWidth(0)
    first = window.matrix.model.index(1, 1)
    table.scrollTo(first)
    assert table.visualRect(first).left() >= table.columnWidth(0), "not under the row heads"


def test_the_range_of_a_volume_control_in_words(window, qtbot):
    study = window.session.study
    unit = study.add_unit("Pellworth", "I4")
    rows = [study.add_subject(unit, {"volume": v}, "standin:pellworth-i4").id for v in ("full", "half", "quarter")]
    column = add_column(study, "gain", make_settings(procedure("gain").Settings, {"duration": 0.2}))
    where = [c.id for c in study.overview().columns].index(column.id)
    for i, s in enumerate(study.overview().subjects):
        if s.id in rows:
            measured(study, i, where)
    window.session.refresh()
    wait_for(qtbot, lambda: all((r, column.id) in window.session.overview.runs for r in rows))
    window.matrix.selection.select(rows, column.id)
    wait_for(qtbot, lambda: "Gain range" in window.matrix.readings.likeness.text())
    assert "Gain range 41.30 dB" in window.matrix.readings.likeness.text()
    assert "(volume full)" in window.matrix.readings.likeness.text()


def test_the_range_follows_what_is_chosen_until_somebody_zooms(window, qtbot):
    page, overview = window.matrix, window.session.overview
    column = next(c for c in overview.columns if c.procedure == "response")
    first, other = overview.subjects[1].id, overview.subjects[3].id
    graph = page.graph_panel.graph

    def chosen(*rows):
        page.selection.select(list(rows), column.id)
        wait_for(qtbot, lambda: figure(page) is not None and len({t.name for t in figure(page).traces}) == len(rows))
        return graph.view()

    alone, both = chosen(first), chosen(first, other)
    assert both.y != alone.y
    assert chosen(first).y == alone.y
    graph.zoom_x(0.5)
    zoomed = graph.view()
    assert zoomed.x != alone.x
    assert chosen(first, other).x == zoomed.x


def test_tick_labels_tell_ticks_apart():
    """A flat curve of latencies is magnified until its ticks need more than three digits; a wide axis needs no more
    than that.
    """
    from epidote.desktop.plotting.figure import Figure

    figure = Figure("", "Burst", "shot", "Latency", "s", False, (), x_is_count=True)
    near = [7.3531e-3, 7.3532e-3, 7.3533e-3]
    assert [figure.tick_text(v, "s", near) for v in near] == ["7.3531 ms", "7.3532 ms", "7.3533 ms"]
    wide = [0.002, 0.01, 0.05, 0.2, 1.0, 5.0, 20.0]
    assert [figure.tick_text(v, "W", wide) for v in wide] == ["2 mW", "10 mW", "50 mW", "200 mW", "1 W", "5 W", "20 W"]
    assert [figure.tick_text(v, "V", [0, 2.5, 5]) for v in (0, 2.5, 5)] == ["0", "2.50 V", "5.00 V"], "these line up"
    assert figure.x_words == "Burst"
    assert figure.x_text(3.0) == "Burst 3"


@pytest.mark.parametrize("width", [1024, 1280, 1600])
def test_figures_of_readings_are_shown_whole_and_names_give_way(window, qtbot, rows, columns, width):
    window.resize(width, 800)
    table = window.matrix.readings.table
    window.matrix.selection.select([rows["high"], rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: table.model().columnCount() >= 3 and table.model().rowCount() > 5)
    header = table.horizontalHeader()
    figures = sum(header.sectionSize(c) for c in range(1, table.model().columnCount()))
    assert all(header.sectionSize(c) >= table.sizeHintForColumn(c) for c in range(1, table.model().columnCount()))
    assert (
        header.sectionSize(0) + figures <= table.viewport().width()
        or header.sectionSize(0) <= 0.43 * table.viewport().width()
    )
    first = table.model().index(0, 0)
    assert first.data(Qt.ItemDataRole.ToolTipRole).startswith(f"{first.data()}: ")
    # names that have no room on one line are wrapped, and their rows are as high as that needs
    for row in range(table.model().rowCount()):
        index = table.model().index(row, 0)
        metrics = QFontMetrics(index.data(Qt.ItemDataRole.FontRole))
        room = QRect(0, 0, header.sectionSize(0) - 6, 1000)
        needed = metrics.boundingRect(room, Qt.TextFlag.TextWordWrap, index.data())
        assert needed.width() <= header.sectionSize(0) and needed.height() <= table.rowHeight(row), index.data()
