"""Cautions that count, presets and settings at their place, graphs as large as wished, the table of pins."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QLabel

from epidote.core.results.caution import Caution, Remedy
from epidote.desktop.widgets.caution_list import CautionList, ListedCaution
from tests.desktop.driver import do, wait_for


def test_an_unconfirmed_load_is_said_of_powers_and_not_of_a_response(window, rows, columns, qtbot):
    panel = window.matrix.readings
    load = Caution.LOAD_UNCONFIRMED
    assert str(load) in window.session.overview.runs[rows["high"], columns["response"]].cautions
    wait_for(qtbot, lambda: panel.model.rowCount() > 0)
    assert load.words not in panel.cautions.texts()
    window.matrix.selection.select([rows["high"]], columns["tone"])
    wait_for(qtbot, lambda: "THD+N" in [row[0] for row in panel.model.texts()])
    units = {row.unit for row in panel.shown_table.rows}
    assert (load.words in " ".join(c.words for c in panel.cautions.cautions())) == ("W" in units)


def test_a_caution_s_mark_leads_to_its_sentence(window, rows, columns, qtbot):
    panel = window.matrix.readings
    window.matrix.selection.select([rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: any(cell.startswith("! ") for row in panel.model.texts() for cell in row))
    row, cell = next(
        (r, c)
        for r, texts in enumerate(panel.model.texts()[1:])
        for c, text in enumerate(texts)
        if text.startswith("! ")
    )
    caution = panel.shown_table.rows[row].cells[cell - 1].cautions[0]
    panel.table.clicked.emit(panel.model.index(row, cell))
    pointed = [label.text() for label in panel.cautions.findChildren(QLabel) if label.property("pointed")]
    assert len(pointed) == 1 and caution.words in pointed[0]


def test_the_weightiest_cautions_stand_and_the_rest_is_folded(qtbot):
    from epidote.desktop.app import application

    application()
    shown = CautionList()
    qtbot.addWidget(shown)
    shown.show()
    shown.show_cautions(
        [
            ListedCaution("a", "The recording is clipped.", grave=True, remedy="Settings…"),
            ListedCaution("b", "Mostly noise."),
            ListedCaution("c", "The load was entered.", quiet=True),
        ]
    )
    assert shown.texts() == ["The recording is clipped."]
    assert shown.more.text() == "2 more notes"
    shown.more.click()
    assert len(shown.texts()) == 3 and shown.more.text() == "Show fewer"
    shown.more.click()
    shown.point_at("c")
    assert "The load was entered." in shown.texts()
    wanted = []
    shown.remedy_wanted.connect(wanted.append)
    next(b for b in shown.findChildren(type(shown.more)) if b.text() == "Settings…").click()
    assert wanted == ["a"]
    shown.show_cautions([])
    assert not shown.isVisible()


def test_remedies_lead_to_where_the_matter_is_put_right(window, rows, columns, qtbot):
    window.matrix._remedy(Remedy.LOAD)
    assert window.page_in_view() == "Chain"
    page = window.page_named("Chain")
    wait_for(qtbot, lambda: page.path.chosen_key() == "load")
    window.show_page("Matrix")
    window.matrix.selection.select([rows["high"]], columns["tone"])
    window.matrix._remedy(Remedy.SETTINGS)
    panel = window.matrix.run_panel
    wait_for(qtbot, lambda: window.matrix.side.currentWidget() is panel and panel.form is not None)
    assert panel.go.text() == "Measure"
    wait_for(qtbot, lambda: panel.form.values()["duration"] == 0.2)


def test_other_settings_make_another_run_of_the_cell(window, rows, columns, qtbot):
    window.session.runs.checks = False
    window.matrix.selection.select([rows["high"]], columns["tone"])
    do(window, "other settings")
    panel = window.matrix.run_panel
    wait_for(qtbot, lambda: panel.form is not None and panel.form.values().get("duration") == 0.2)
    panel.form.set_text("duration", "0.3 s")
    before = window.session.overview.runs[rows["high"], columns["tone"]].id
    panel.go.click()
    wait_for(qtbot, lambda: window.session.overview.runs[rows["high"], columns["tone"]].id != before)
    assert window.session.overview.runs[rows["high"], columns["tone"]].settings["duration"] == 0.3
    wait_for(qtbot, lambda: window.matrix.side.currentWidget() is window.matrix.readings)


# -- presets -------------------------------------------------------------------------------------------


def test_presets_fill_the_form(window, rows, columns, qtbot, monkeypatch):
    panel = window.matrix.run_panel
    window.matrix.selection.select([rows["low"]], columns["tone"])
    wait_for(qtbot, lambda: panel.form is not None and "duration" in panel.form.editors)
    menu = panel.presets.menu_of_presets

    def choose(words: str) -> None:
        menu.aboutToShow.emit()
        next(a for a in menu.actions() if a.text() == words).trigger()

    choose("Full scale -1 dBFS, 997 Hz")
    assert panel.form.values()["frequency"] == 997.0 and panel.form.values()["level"] == -1.0
    panel.form.set_text("frequency", "440 Hz")
    panel.presets.save("Mine")
    choose("Defaults")
    assert panel.form.values()["frequency"] == 1000.0
    choose("Mine")
    assert panel.form.values()["frequency"] == 440.0
    choose("As the reference row")
    assert panel.form.values()["duration"] == 0.2 and panel.form.values()["level"] == -20.0
    menu.aboutToShow.emit()
    gone = next(a for a in menu.actions() if a.text() == "Delete preset").menu()
    gone.actions()[0].trigger()
    menu.aboutToShow.emit()
    assert "Mine" not in [a.text() for a in menu.actions()]


# -- the graph ------------------------------------------------------------------------------------------


def test_the_graph_fills_the_window_and_goes_back(window, qtbot):
    page = window.matrix
    before = page.graph_panel.width()
    do(window, "large graph")
    assert not page.pane.isVisible() and not page.side_whole.isVisible()
    wait_for(qtbot, lambda: page.graph_panel.width() > 1.4 * before)
    assert page.graph_panel.graph.hasFocus()
    assert not page.graph_panel.large.isVisible()
    page.graph_panel.smaller.click()
    assert page.graph_panel.large.isVisible() and not page.graph_panel.smaller.isVisible()
    assert page.pane.isVisible() and page.side_whole.isVisible()


def test_zoom_can_be_reset_where_it_was_made_and_pins_have_a_menu_above_the_graph(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["high"]], columns["response"])
    panel = page.graph_panel
    wait_for(qtbot, lambda: panel.graph.figure() is not None)
    assert not panel.whole.isVisible()
    panel.graph.zoom_x(0.5)
    assert panel.whole.isVisible()
    panel.whole.click()
    assert not panel.whole.isVisible() and not panel.graph.is_zoomed()
    menu = panel.pins.menu()
    menu.aboutToShow.emit()
    assert [a.text().replace("&", "") for a in menu.actions()] == [
        "Pin -3 dB points",
        "Set gate at last pin",
        "Remove pins",
    ]
    assert not window.actions_by_name["clear pins"].isEnabled()  # there is none
    menu.aboutToHide.emit()


def test_where_the_panel_is_and_how_the_room_is_divided_is_kept(window, qtbot):
    from epidote.desktop.pages.matrix.arrangement import Arrangement
    from epidote.desktop.preferences import preferences

    page = window.matrix
    do(window, "panel below")
    assert page.side_whole.parentWidget().orientation() is Qt.Orientation.Vertical
    assert page.side_whole.y() > page.graph_panel.y()
    assert Arrangement().below
    do(window, "panel below")
    assert page.side_whole.x() > page.graph_panel.x()
    page.splitter.splitterMoved.emit(200, 1)
    assert preferences().value("matrix split") is not None and page.arrangement.set_by_hand
    for key in ("matrix split", "panel below", "panel split below", "panel split beside"):
        preferences().remove(key)


def test_four_graphs_of_the_same_runs(window, rows, columns, qtbot):
    panel = window.matrix.graph_panel
    window.matrix.selection.select([rows["high"], rows["a25"]], columns["response"])
    wait_for(qtbot, lambda: len(panel.graph.figure().traces) == 2)
    do(window, "four graphs")
    wait_for(qtbot, lambda: len(panel.others) == 3 and all(o.graph.figure() is not None for o in panel.others))
    titles = [other.title.text() for other in panel.others]
    assert titles == ["Phase", "Group delay", "Distortion"]
    assert all(len(other.graph.figure().traces) == 2 for other in panel.others)
    panel.others[0].title.click()
    wait_for(qtbot, lambda: window.matrix.look.key == "phase")
    assert panel.others[0].title.text() == "Level"
    do(window, "four graphs")
    assert not panel.others[0].isVisible()


def test_the_values_at_pins_stand_in_a_table_that_can_be_dragged(window, rows, columns, qtbot):
    graph = window.matrix.graph_panel.graph
    window.matrix.selection.select([rows["high"]], columns["response"])
    wait_for(qtbot, lambda: len(graph.figure().traces) == 1)
    window.matrix.pins.add(1000.0)
    wait_for(qtbot, lambda: len(graph.figure().pins) == 1)
    graph.grab()
    trace = graph.figure().traces[0]
    nearest = float(trace.y[np.argmin(np.abs(trace.x - 1000.0))])
    (name, _, values), *_ = graph.pin_table.rows(graph.figure())
    assert name == "Ostrel P40, gain high"
    assert float(values[0].removesuffix(" dB")) == pytest.approx(nearest, abs=0.01)
    table = graph.pin_table.rect
    assert graph.strips().main.contains(table)
    at = table.center().toPoint()
    qtbot.mousePress(graph, Qt.MouseButton.LeftButton, pos=at)
    qtbot.mouseMove(graph, at + QPointF(-60, 20).toPoint())
    qtbot.mouseRelease(graph, Qt.MouseButton.LeftButton, pos=at + QPointF(-60, 20).toPoint())
    graph.grab()
    moved = graph.pin_table.rect.center() - table.center()
    assert moved.x() == pytest.approx(-60, abs=3) or not graph.strips().main.contains(table.translated(-60, 20))


def test_half_power_has_its_own_name():
    """-3 dB is 3.00 dB below; half the power is 10 lg 2 = 3.0103 dB (any table of decibels)."""
    from epidote.core.comparison.differences.operating_points import parse_point
    from epidote.core.procedures.registry import procedures

    procedures()
    assert parse_point("-3 dB", "level", ["Hz"], "dB").value == 3.0
    assert parse_point("half power", "level", ["Hz"], "dB").value == pytest.approx(3.0103, abs=1e-4)


def test_exported_pictures_are_on_paper_and_not_full_of_words(window, rows, columns, qtbot, tmp_path):
    from PySide6.QtGui import QImage

    from epidote.desktop.plotting.export import MOST_LINES
    from tests.desktop.driver import export

    assert window.theme.name == "dark"
    window.matrix.selection.select([rows["high"], rows["a25"], rows["baseline"]], columns["response"])
    wait_for(qtbot, lambda: len(window.matrix.graph_panel.graph.figure().traces) == 2)
    export(qtbot, window.matrix, tmp_path / "graph.png")
    image = QImage(str(tmp_path / "graph.png"))
    assert image.pixelColor(2, 2).name() == "#ffffff"
    assert MOST_LINES < 12
    notes = window.matrix.graph_panel.graph.figure().notes
    assert sum("Start frequency 20 Hz" in note for note in notes) == 1, "settings that are the same are said once"


def test_several_empty_cells_are_measured_from_the_panel(window, rows, columns, qtbot):
    from epidote.desktop.state import edits

    window.session.runs.checks = False
    unit = window.session.overview.subjects[3].unit
    edits.add_rows(window.session, unit, [{"load": "4 Ω"}], "standin:havelmar-a25", None)
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 5)
    new = window.session.overview.subjects[-1].id
    window.session.show_changes()
    window.matrix.selection.select([new, rows["low"]], columns["tone"])
    panel = window.matrix.run_panel
    wait_for(qtbot, lambda: panel.form is not None and panel.go.text() == "Measure 2 cells" and panel.go.isEnabled())
    panel.go.click()
    wait_for(qtbot, lambda: all((row, columns["tone"]) in window.session.overview.runs for row in (new, rows["low"])))


def test_a_reference_is_set_where_it_is_missing(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["high"]], columns["tone"])
    do(window, "reference")  # it was: now there is none
    wait_for(qtbot, lambda: window.session.overview.reference is None)
    do(window, "beside difference")
    panel = window.matrix.beside.comparing.panel
    wait_for(qtbot, panel.set_reference.isVisible)
    panel.set_reference.click()
    wait_for(qtbot, lambda: window.session.overview.reference == rows["high"] and not panel.set_reference.isVisible())


def test_an_empty_graph_offers_what_there_is_to_see(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["low"]], columns["tone"])
    empty = window.matrix.graph_panel.empty
    wait_for(qtbot, empty.isVisible)
    empty.click()
    wait_for(qtbot, lambda: window.matrix.graph_panel.graph.figure() is not None and not empty.isVisible())
    assert {s.id for s, _ in window.matrix.selection.selected_runs()} == {rows["high"], rows["a25"]}


@pytest.mark.parametrize(
    ("procedure", "field", "text"),
    [
        ("tone", "frequency", "40 kHz"),
        ("distortion-frequency", "stop_frequency", "40 kHz"),
        ("distortion-level", "frequency", "40 kHz"),
        ("intermodulation", "frequency_2", "40 kHz"),
        ("response", "stop_frequency", "40 kHz"),
        ("multitone", "stop_frequency", "40 kHz"),
    ],
)
def test_what_the_sample_rate_forbids_is_said_at_the_field(window, qtbot, procedure, field, text):
    """At 48 kHz nothing above 24 kHz can be played (the sampling theorem)."""
    from epidote.core.chain.chain import Chain
    from epidote.core.procedures.registry import procedure as named

    subject, column = window.session.overview.subjects[1], window.session.overview.columns[0]
    panel = window.matrix.run_panel
    panel.show_cell(subject, column, Chain(rate=48000), named(procedure), {}, devices=[])
    window.matrix.side.setCurrentWidget(panel)
    assert panel.problem.text() == ""
    panel.form.set_text(field, text)
    assert "48" in panel.form.errors[field].text() and panel.problem.text() == ""
    assert not panel.go.isEnabled()
