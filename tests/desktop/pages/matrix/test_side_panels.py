"""What stands beside the graph: differences, conditions, claims, notes; lines on it, drawn and typed; the clipboard
and files.
"""

from __future__ import annotations

import json

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication, QImage
from PySide6.QtWidgets import QMessageBox

from epidote.desktop.widgets.curve_preview import CurvePreview
from epidote.study.interchange.curve_text import text_readings
from tests.desktop.driver import do, export, row_of, wait_for


@pytest.fixture
def two(window, rows, columns, qtbot):
    """Two measured rows of the response, one of them the reference."""
    window.matrix.selection.select([rows["high"], rows["a25"]], columns["response"])
    wait_for(qtbot, lambda: len(window.matrix.graph_panel.graph.figure().differences) == 1)
    return window.matrix


def entries(window, kind):
    return window.session.overview.of_kind(kind)


def test_a_row_is_called_different_or_not(window, two, qtbot):
    do(window, "beside difference")
    panel = two.beside.comparing.panel
    wait_for(qtbot, lambda: row_of(panel.table, "Gain at 1 kHz") != [])
    difference, verdict = row_of(panel.table, "Gain at 1 kHz")
    assert difference.startswith("-0.8")
    assert verdict == "different (single run)"
    assert row_of(panel.table, "Delay")[1] == "different (single run)"
    assert row_of(panel.table, "Signal-to-noise ratio")[1] == "not repeated"  # it states no spread
    assert "lower throughout" in panel.crossings.text()


def test_what_forbids_a_verdict_is_acknowledged_first(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["tone"])
    run = window.session.overview.runs[rows["a25"], columns["tone"]]
    window.session.runs.recompute(run, {"band_high": 5000})
    wait_for(qtbot, lambda: window.session.overview.runs[rows["a25"], columns["tone"]].id != run.id)
    do(window, "beside difference")
    page.selection.select([rows["high"], rows["a25"]], columns["tone"])
    panel = page.beside.comparing.panel
    wait_for(qtbot, lambda: row_of(panel.table, "THD") != [])
    assert row_of(panel.table, "THD")[1] == "not compared"
    assert "cannot be compared" in panel.mismatches.text()
    qtbot.mouseClick(panel.known, Qt.MouseButton.LeftButton, pos=QPoint(8, panel.known.height() // 2))
    wait_for(qtbot, lambda: row_of(panel.table, "THD")[1] != "not compared")
    window.session.undo.undo()
    wait_for(qtbot, lambda: row_of(panel.table, "THD")[1] == "not compared")


def test_runs_are_repeated_in_one_command(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["tone"])
    page.beside.comparing.repeat(times=2)
    cells = [(rows["a25"], columns["tone"]), (rows["high"], columns["tone"])]
    wait_for(qtbot, lambda: all(window.session.overview.repeats.get(c) == 3 for c in cells))
    do(window, "beside difference")
    page.selection.select([rows["high"], rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: row_of(page.beside.comparing.panel.table, "THD") != [])
    assert row_of(page.beside.comparing.panel.table, "THD")[1] == "different"


def test_curves_are_judged_by_their_repeats(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["response"])
    page.beside.comparing.repeat(times=1)
    wait_for(
        qtbot,
        lambda: all(window.session.overview.repeats.get((rows[r], columns["response"])) == 2 for r in ("a25", "high")),
    )
    do(window, "beside difference")
    page.selection.select([rows["high"], rows["a25"]], columns["response"])
    wait_for(qtbot, lambda: "From 2 and 2 repeats" in page.beside.comparing.panel.crossings.text())


def test_channels_swapped_tell_what_a_difference_follows(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["tone"])
    page.beside.comparing.swap_channels(ask=False)

    def twin():
        return next((s for s in window.session.overview.subjects if s.conditions.get("wiring") == "swapped"), None)

    wait_for(qtbot, lambda: twin() is not None and (twin().id, columns["tone"]) in window.session.overview.runs)
    page.selection.select([twin().id], columns["tone"])
    do(window, "reference")
    wait_for(qtbot, lambda: window.session.overview.reference == twin().id)
    do(window, "beside difference")
    page.selection.select([rows["a25"], twin().id], columns["tone"])
    wait_for(qtbot, lambda: row_of(page.beside.comparing.panel.table, "THD") != [])
    assert any(
        w in page.beside.comparing.panel.mismatches.text() for w in ("belongs to the unit", "No measurable difference")
    )


def test_a_band_dragged_in_the_difference_strip(window, two, qtbot):
    graph = two.graph_panel.graph
    strip = graph.strips().difference
    qtbot.mousePress(
        graph,
        Qt.MouseButton.LeftButton,
        pos=QPoint(round(strip.left() + 0.4 * strip.width()), round(strip.center().y())),
    )
    qtbot.mouseMove(graph, QPoint(round(strip.left() + 0.6 * strip.width()), round(strip.center().y())))
    qtbot.mouseRelease(
        graph,
        Qt.MouseButton.LeftButton,
        pos=QPoint(round(strip.left() + 0.6 * strip.width()), round(strip.center().y())),
    )
    low, high = graph.figure().band
    assert 100 < low < high < 5000
    (deviation,) = graph.figure().deviations
    assert "dB at" in deviation[1]
    two.look.align = "band"
    two.show_selected()
    assert "aligned over" in graph.figure().aligned
    assert "aligned by +0.8" in graph.figure().deviations[0][1]
    qtbot.mouseDClick(graph, Qt.MouseButton.LeftButton, pos=strip.center().toPoint())
    assert graph.figure().band is None


def test_points_are_kept_as_readings_of_the_column(window, two, qtbot):
    two.readings.point.setText("100 Hz")
    qtbot.keyClick(two.readings.point, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: row_of(two.readings.table, "Level at 100 Hz") != [])
    cells = row_of(two.readings.table, "Level at 100 Hz")
    assert cells[0].endswith("dB")
    assert cells[2].startswith("-0.9")
    told = []
    two.selection.failed.connect(told.append)
    two.look.keep_point("3 W")
    assert "does not fit these curves" in told[0]
    entry = entries(window, "point")[0]
    two.readings.point_unwanted.emit(entry.id, "100 Hz")
    wait_for(qtbot, lambda: row_of(two.readings.table, "Level at 100 Hz") == [])
    window.session.undo.undo()
    wait_for(qtbot, lambda: row_of(two.readings.table, "Level at 100 Hz") != [])


def test_conditions_as_a_line_and_words_where_there_is_none(window, rows, columns, two, qtbot):
    do(window, "beside conditions")
    panel = two.beside.varying.panel
    wait_for(qtbot, lambda: "differ in" in panel.words.text() or panel.table.row_count() > 0)
    two.selection.select([rows["low"]], columns["response"])
    two.measure_empty()
    wait_for(qtbot, lambda: (rows["low"], columns["response"]) in window.session.overview.runs)
    two.selection.select([rows["high"], rows["low"]], columns["response"])
    panel.reading_chosen.emit("gain_1k")
    wait_for(qtbot, lambda: panel.table.row_count() == 2)
    shown = [panel.table.text(r, c) for r in range(2) for c in range(2)]
    assert {"high", "low"} <= set(shown)
    assert panel.over.text() == "vs. gain"
    assert panel.lines.isVisible()
    assert not panel.lines.grab().isNull()


def test_claims_are_typed_judged_and_drawn(window, rows, columns, two, qtbot):
    do(window, "beside claims")
    panel = two.beside.claiming.panel
    qtbot.keyClicks(panel.typed, "very low noise")
    assert "The value is missing" in panel.understood.text()
    assert not panel.add.isEnabled()
    panel.typed.clear()
    qtbot.keyClicks(panel.typed, "frequency response 20 Hz-20 kHz ±0.5 dB")
    assert panel.understood.text().startswith("Read as: Frequency response within ±0.5 dB, 20 Hz to 20 kHz")
    qtbot.keyClick(panel.typed, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: panel.table.row_count() == 1 and "not met" in panel.table.text(0, 2))
    assert "misses by" in panel.verdict.text()
    claims_row = next(s for s in window.session.overview.rows if s.is_claims)
    index = two.model.index_of(claims_row.id, columns["response"])
    assert two.model.data(index) == "1 not met"
    assert "±0.5 dB" in two.model.data(index, Qt.ItemDataRole.ToolTipRole)
    assert [line.kind for line in two.graph_panel.graph.figure().lines].count("claim") == 2
    assert {s.id for s, _ in two.selection.selected_cells()} == {
        rows["high"],
        rows["a25"],
    }  # the new row left the choice alone
    panel.typed.setText("Noise < 1 mV A-weighted")
    panel.add_typed()
    wait_for(qtbot, lambda: panel.table.row_count() == 2 and "inconclusive" in panel.table.text(1, 2))
    panel.table.selectRow(1)
    assert panel.measure.isEnabled()
    qtbot.mouseClick(panel.measure, Qt.MouseButton.LeftButton)
    wait_for(qtbot, lambda: "met" in panel.table.text(1, 2) and "not" not in panel.table.text(1, 2))
    window.session.undo.undo()
    wait_for(qtbot, lambda: len(entries(window, "claim")) == 1)


def test_a_row_of_published_figures_is_no_subject(window, rows, columns, two, qtbot):
    do(window, "beside claims")
    two.beside.claiming.panel.typed.setText("Gain 26 dB")
    two.beside.claiming.panel.add_typed()
    wait_for(qtbot, lambda: len(window.session.overview.rows) == 5)
    claims_row = next(s for s in window.session.overview.rows if s.is_claims)
    two.beside.show("readings")
    two.selection.select([claims_row.id], columns["tone"])
    assert two.side.currentWidget() is two.beside.claiming.panel
    for command in ("measure", "again", "delete row", "duplicate", "reference", "show row", "recompute"):
        do(window, command)
    assert len(window.session.overview.subjects) == 4
    assert window.session.runs.under_way == {}


def test_claims_from_a_file(window, two, qtbot, tmp_path):
    do(window, "beside claims")
    (tmp_path / "data sheet.csv").write_text("claim;source\nGain 26 dB;page 2\nTHD+N superb;page 2\n")
    two.beside.claiming.panel.import_csv(tmp_path / "data sheet.csv")
    wait_for(qtbot, lambda: len(entries(window, "claim")) == 1)
    assert two.beside.claiming.panel.typed.text() == "THD+N superb"
    assert "1 need editing" in two.beside.claiming.panel.understood.text()
    assert entries(window, "claim")[0].data["source"] == "page 2"


def test_limits_drawn_typed_and_about_the_reference(window, two, qtbot):
    graph = two.graph_panel.graph
    do(window, "draw upper")
    box = graph.strips().main
    for share in (0.2, 0.8):
        qtbot.mouseClick(
            graph,
            Qt.MouseButton.LeftButton,
            pos=QPoint(round(box.left() + share * box.width()), round(box.top() + 0.3 * box.height())),
        )
    qtbot.keyClick(graph, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: len(entries(window, "limit")) == 1)
    wait_for(qtbot, lambda: any(line.kind == "upper" for line in graph.figure().lines))
    two.line_editor.about_reference(0.5)
    wait_for(qtbot, lambda: len(entries(window, "limit")) == 2)
    wait_for(qtbot, lambda: sum(line.failed for line in graph.figure().lines) >= 2)  # the other amplifier leaves them
    two.line_editor.typed("lower 20 -3, 1000 -1")
    wait_for(qtbot, lambda: len(entries(window, "limit")) == 3)
    told = []
    two.selection.failed.connect(told.append)
    two.line_editor.typed("lower x")
    two.line_editor.from_chosen()
    assert len(told) == 2
    do(window, "draw lower")
    qtbot.keyClick(graph, Qt.Key.Key_Escape)
    assert not graph.drawing()
    window.session.undo.undo()
    wait_for(qtbot, lambda: len(entries(window, "limit")) == 2)


def test_a_reading_s_limit_and_what_the_runs_do_at_it(window, rows, columns, two, qtbot, tmp_path):
    two.line_editor.limit_reading("flatness", "dB", "Flatness", text="at most 0.5 dB")
    wait_for(qtbot, lambda: "Flatness: fail" in two.readings.likeness.text())
    assert "Havelmar A25: Flatness: fail" in two.readings.likeness.text()
    assert "pass" in " ".join(two.graph_panel.graph.figure().held)
    told = []
    two.selection.failed.connect(told.append)
    two.line_editor.limit_reading("flatness", "dB", "Flatness", text="little")
    assert "Example: at most" in told[0]


def test_differences_of_shares_are_ratios(window, rows, columns, two, qtbot):
    """In percent too the strip is in dB, and the greatest deviation a ratio, never so many percent of a percent."""
    two.look.show_view("thd")
    wait_for(qtbot, lambda: two.graph_panel.graph.figure().y_unit == "dB" and two.look.key == "thd")
    decibels = two.graph_panel.graph.figure().differences[0].y
    do(window, "percent")
    figure = two.graph_panel.graph.figure()
    assert (figure.y_unit, figure.difference_unit) == ("%", "dB")
    assert figure.differences[0].y == pytest.approx(decibels)
    ratio = 10 ** (np.max(np.abs(decibels)) / 20)
    words = figure.deviations[0][1]
    shown = float(words.removeprefix("×").partition(" ")[0])
    assert words.startswith("×") and max(shown, 1 / shown) == pytest.approx(ratio, rel=0.01)


def test_lines_are_switched_off_and_on(window, two, qtbot):
    menu = two.graph_panel.lines.menu()
    menu.aboutToShow.emit()
    action = next(a for a in menu.actions() if a.text() == "-3 dB")
    assert action.isChecked()
    action.trigger()
    wait_for(qtbot, lambda: two.graph_panel.graph.figure().lines == ())
    menu.aboutToShow.emit()
    next(a for a in menu.actions() if a.text() == "-3 dB").trigger()
    wait_for(qtbot, lambda: len(two.graph_panel.graph.figure().lines) == 1)


def test_a_guide_of_one_s_own(window, two, qtbot, monkeypatch):
    from epidote.desktop.pages.matrix.graph.guide_dialog import GuideDialog

    def answer(dialog) -> int:
        assert "guide needs a name" in dialog.problem.text() or dialog.problem.text()
        dialog.along.setCurrentIndex(1)
        dialog.low.setText("3 kHz")
        dialog.high.setText("2 kHz")
        dialog.name.setText("Speech")
        assert "must be greater than the first" in dialog.problem.text()
        dialog.high.setText("4 kHz")
        assert dialog.problem.text() == ""
        return 1

    monkeypatch.setattr(GuideDialog, "exec", answer)
    two.line_editor.new_guide()
    wait_for(
        qtbot,
        lambda: any(line.name == "Speech" and line.other == 4000 for line in two.graph_panel.graph.figure().lines),
    )
    assert not two.graph_panel.graph.grab().isNull()
    monkeypatch.setattr(GuideDialog, "exec", lambda dialog: (dialog.low.setText("2.5 kHz"), 1)[1])
    two.line_editor.change_guide(*next((e, g) for e, g in two.lines.guides() if g.name == "Speech"))
    wait_for(
        qtbot, lambda: any(line.name == "Speech" and line.x[0] == 2500 for line in two.graph_panel.graph.figure().lines)
    )


def test_notes_and_pictures_belong_to_what_is_chosen(window, rows, columns, two, qtbot, tmp_path):
    do(window, "beside notes")
    panel = two.beside.noting.panel
    wait_for(qtbot, lambda: len(panel.owner.keys()) == 3)
    panel.owner_chosen.emit("row")
    panel.text.setPlainText("fan runs from 20 W on")
    panel.finish_note(panel.text.toPlainText())
    wait_for(qtbot, lambda: len(entries(window, "note")) == 1)
    image = QImage(40, 30, QImage.Format.Format_RGB32)
    image.fill(Qt.GlobalColor.darkGreen)
    image.save(str(tmp_path / "board.png"))
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "board.png"))])
    panel.dropEvent(
        QDropEvent(
            QPointF(10, 10), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
    )
    wait_for(qtbot, lambda: panel.list.count() == 1)
    panel.list.setCurrentRow(0)
    panel.caption.setText("output stage")
    panel.caption.editingFinished.emit()
    wait_for(qtbot, lambda: panel.list.item(0).text() == "output stage")
    QGuiApplication.clipboard().setImage(image)
    panel.paste_clipboard()
    wait_for(qtbot, lambda: panel.list.count() == 2)
    panel.enlarge(0)
    assert two.model.beside(two.selection.current_subject()) == 3
    export(qtbot, two, tmp_path / "with readings.csv")
    assert "# note: Havelmar A25, load 8 Ω: fan runs from 20 W on" in (tmp_path / "with readings.csv").read_text()
    assert any("fan runs" in note for note in two.graph_panel.graph.figure().notes)
    two.selection.select([rows["high"]], columns["response"])
    wait_for(qtbot, lambda: panel.list.count() == 0 and panel.text.toPlainText() == "")
    two.selection.select([rows["a25"]], columns["response"])
    wait_for(qtbot, lambda: panel.text.toPlainText() == "fan runs from 20 W on")
    told = []
    window.session.failed.connect(told.append)
    (tmp_path / "no.png").write_text("")
    panel.pictures_added.emit([tmp_path / "no.png"])
    wait_for(qtbot, lambda: bool(told))
    assert "Nothing was added" in told[0]


def test_graph_and_readings_to_the_clipboard(window, two, qtbot):
    do(window, "copy graph")
    wait_for(qtbot, lambda: QGuiApplication.clipboard().image().width() == 2560)
    do(window, "copy table")
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0].split("\t")[1:3] == ["Ostrel P40", "Havelmar A25"]
    assert any(line.startswith("Gain at 1 kHz\t") for line in lines)


def test_documents_texts_and_json(window, two, tmp_path, qtbot):
    export(qtbot, two, tmp_path / "g.pdf")
    assert (tmp_path / "g.pdf").read_bytes().startswith(b"%PDF")
    export(qtbot, two, tmp_path / "c.txt")
    from epidote.study.interchange.curve_text import read_text_curve

    files = sorted(tmp_path.glob("c *.txt"))
    assert len(files) == 2
    level, phase = read_text_curve(files[0])
    assert (level.x[0] >= 19, phase is not None) == (True, True)
    export(qtbot, two, tmp_path / "all.json")
    assert len(json.loads((tmp_path / "all.json").read_text())["runs"]) == 2
    assert read_text_curve(tmp_path / "all.json")[0].y.size > 100


def test_a_file_that_can_be_read_in_two_ways_is_asked_about(window, qtbot):
    found = text_readings("20,0,-1,5\n1000,0,0,0\n20000,0,-3,25\n", "speaker.csv")
    dialog = CurvePreview(window, "<b>speaker.csv</b>", found)
    qtbot.addWidget(dialog)
    assert dialog.options() is None
    assert "can be read in 2 ways" in dialog.problem.text()
    dialog.ways.setCurrentIndex(2)
    assert dialog.problem.text() == ""
    assert dialog.options().decimal == "comma"
    assert "20 Hz: -1.5 dB" in dialog.points.text()


def test_studies_travel_as_zips_and_curves_come_in(window, rows, columns, two, qtbot, tmp_path, monkeypatch):
    said = []
    window.session.said.connect(said.append)
    window.files.zip_study(tmp_path / "out.zip")
    wait_for(qtbot, lambda: bool(said))
    assert (tmp_path / "out.zip").stat().st_size > 1000
    (tmp_path / "speaker.txt").write_text("20 -3\n1000 0\n20000 -6\n")
    two.selection.select([rows["low"]], columns["response"])
    shown = []

    def answer(dialog) -> int:
        shown.append(dialog.points.text())
        return 1

    monkeypatch.setattr(CurvePreview, "exec", answer)
    window.files.take_curve(tmp_path / "speaker.txt")
    wait_for(qtbot, lambda: (rows["low"], columns["response"]) in window.session.overview.runs)
    assert shown == ["20 Hz: -3 dB\n1 kHz: 0 dB\n20 kHz: -6 dB"]
    window.files.ask_person("R. Vale")
    wait_for(qtbot, lambda: window.session.setting("person") == "R. Vale")
    (tmp_path / "there").mkdir()
    window.files.open_zip(tmp_path / "out.zip", tmp_path / "there")
    wait_for(qtbot, lambda: window.session.study.path.parent == tmp_path / "there")


def test_a_zip_of_enormous_size_is_asked_about(window, two, qtbot, tmp_path, monkeypatch):
    """Nothing is unpacked unless the question is answered so."""
    window.files.zip_study(tmp_path / "out.zip")
    wait_for(qtbot, (tmp_path / "out.zip").exists)
    (tmp_path / "there").mkdir()
    monkeypatch.setattr("epidote.study.interchange.archive.MOST_UNPACKED", 1000)
    boxes = []

    def question():
        boxes[:] = [b for b in window.findChildren(QMessageBox) if b.isVisible()]
        return bool(boxes)

    before = window.session.study.path
    for answer in ("Cancel", "Unpack"):
        window.files.open_zip(tmp_path / "out.zip", tmp_path / "there")
        wait_for(qtbot, question)
        assert "out.zip unpacks to" in boxes[0].text()
        assert list((tmp_path / "there").iterdir()) == []
        next(b for b in boxes[0].buttons() if b.text() == answer).click()
        if answer == "Cancel":
            wait_for(qtbot, lambda: not question())
            assert window.session.study.path == before
    wait_for(qtbot, lambda: window.session.study is not None and window.session.study.path.parent == tmp_path / "there")
