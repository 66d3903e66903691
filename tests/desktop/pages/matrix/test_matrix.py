"""The Matrix page, driven by mouse, keyboard and menu."""

import csv
import json
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage

from epidote.study.store import Study
from tests.desktop.driver import do, export, row_of, wait_for

ALT = Qt.KeyboardModifier.NoModifier


def test_it_opens_on_a_comparison(window, rows, columns):
    figure = window.matrix.graph_panel.graph.figure()
    assert {t.name for t in figure.traces} == {"Ostrel P40, gain high", "Havelmar A25, load 8 Ω"}
    assert figure.reference_name == "Ostrel P40, gain high"
    assert [t.name for t in figure.differences] == ["Havelmar A25, load 8 Ω"]
    assert window.windowTitle() == "Measured – Epidote"
    assert row_of(window.matrix.readings.table, "Gain at 1 kHz")[2].startswith("-0.8")


def test_cells_say_what_they_hold(window, rows, columns):
    model = window.matrix.model
    measured = model.index_of(rows["a25"], columns["tone"])
    assert model.data(measured).endswith("dB")
    assert model.data(model.index_of(rows["low"], columns["tone"])) == ""
    assert "Select the cell to measure it" in model.data(
        model.index_of(rows["low"], columns["tone"]), Qt.ItemDataRole.ToolTipRole
    )
    assert model.headerData(1, Qt.Orientation.Horizontal).startswith("Response\n20 Hz")


def test_choosing_by_keyboard(window, rows, columns, qtbot):
    table = window.matrix.table
    window.matrix.selection.select([rows["high"]], columns["tone"])
    table.setFocus()
    qtbot.keyClick(table, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    qtbot.keyClick(table, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert [s.id for s, _ in window.matrix.selection.selected_cells()] == [rows["high"], rows["low"], rows["a25"]]
    qtbot.keyClick(table, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert len({i.column() for i in table.selectionModel().selectedIndexes()}) == 1
    do(window, "whole column")
    assert {s.id for s, _ in window.matrix.selection.selected_cells()} == {rows["high"], rows["a25"]}


def test_measuring_an_empty_cell(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["low"]], columns["tone"])
    wait_for(
        qtbot,
        lambda: (
            page.side.currentWidget() is page.run_panel
            and page.run_panel.form is not None
            and page.run_panel.go.isEnabled()
        ),
    )
    assert page.run_panel.estimate.text() == "About 1.0 s"
    assert page.run_panel.form.values()["level"] == -20
    page.run_panel.form.set_text("frequency", "30 kHz")
    assert "less than 24000 Hz" in page.run_panel.form.errors["frequency"].text()
    assert not page.run_panel.go.isEnabled()
    page.run_panel.form.set_text("frequency", "2k")
    assert page.run_panel.go.isEnabled()
    seen = []
    window.session.runs.progress_changed.connect(lambda cell: seen.append(window.session.runs.under_way.get(cell)))
    qtbot.mouseClick(page.run_panel.go, Qt.MouseButton.LeftButton)
    assert (rows["low"], columns["tone"]) in window.session.runs.under_way
    wait_for(qtbot, lambda: (rows["low"], columns["tone"]) in window.session.overview.runs)
    run = window.session.overview.runs[rows["low"], columns["tone"]]
    assert run.settings["frequency"] == 2000
    shares = [u.share for u in seen if u is not None and not u.waiting]
    assert shares == sorted(shares)
    assert len(shares) > 3
    wait_for(qtbot, lambda: page.side.currentWidget() is page.readings)


def test_cancelling_and_running_again(window, rows, columns, qtbot):
    page = window.matrix
    cell = (rows["low"], columns["response"])
    page.selection.select([rows["low"]], columns["response"])
    do(window, "measure")
    wait_for(qtbot, lambda: cell in window.session.runs.under_way and not window.session.runs.under_way[cell].waiting)
    do(window, "stop")
    wait_for(qtbot, lambda: cell not in window.session.runs.under_way)
    assert cell not in window.session.overview.runs
    assert "Stopped" in window.message.text()
    do(window, "measure")
    wait_for(qtbot, lambda: cell in window.session.overview.runs)
    first = window.session.overview.runs[cell]
    wait_for(qtbot, page.readings.again.isEnabled)
    do(window, "again")
    wait_for(qtbot, lambda: window.session.overview.runs[cell].id > first.id)
    assert window.session.overview.runs[cell].settings == first.settings


def test_duplicating_a_row_and_repeating_the_reference_on_it(window, rows, columns, qtbot, monkeypatch):
    """One condition changed, everything else like for like, in one command."""
    from epidote.desktop.widgets.dialogs import RowDialog

    def answer(dialog) -> int:
        assert not dialog.buttons.button(dialog.buttons.StandardButton.Ok).isEnabled(), "nothing was changed yet"
        dialog.conditions.setText("gain = low; load = 8 Ω")
        assert dialog.buttons.button(dialog.buttons.StandardButton.Ok).isEnabled()
        return 1

    monkeypatch.setattr(RowDialog, "exec", answer)
    window.matrix.selection.select([rows["high"]], columns["tone"])
    do(window, "duplicate")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 5)
    new = next(s for s in window.session.overview.subjects if s.conditions == {"gain": "low", "load": "8 Ω"})
    assert [s.id for s in window.session.overview.subjects].index(new.id) == 2, (
        "it stands beneath the row it was made from"
    )
    window.matrix.selection.select([new.id], columns["tone"])
    do(window, "repeat")
    wait_for(qtbot, lambda: all((new.id, c) in window.session.overview.runs for c in columns.values()))
    for column in columns.values():
        mine, reference = (window.session.overview.runs[r, column] for r in (new.id, rows["high"]))
        assert mine.settings == reference.settings
        assert mine.chain == reference.chain
    window.matrix.selection.select([rows["high"], new.id], columns["response"])
    wait_for(qtbot, lambda: row_of(window.matrix.readings.table, "Gain at 1 kHz")[-1:] == ["-12.000 dB"])
    assert "gain" in window.matrix.readings.likeness.text()


def test_the_reference_is_changed_and_undone(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["high"], rows["a25"]], columns["response"])
    do(window, "reference")
    wait_for(qtbot, lambda: window.session.overview.reference == rows["a25"])
    wait_for(qtbot, lambda: window.matrix.graph_panel.graph.figure().reference_name.startswith("Havelmar"))
    assert window.actions_by_name["undo"].text() == "&Undo: set Havelmar A25, load 8 Ω as reference"
    do(window, "undo")
    wait_for(qtbot, lambda: window.session.overview.reference == rows["high"])
    do(window, "redo")
    wait_for(qtbot, lambda: window.session.overview.reference == rows["a25"])
    do(window, "reference")
    wait_for(qtbot, lambda: window.session.overview.reference is None)
    wait_for(qtbot, lambda: window.matrix.graph_panel.graph.figure().differences == ())


def test_rows_are_hidden_deleted_and_brought_back(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["high"], rows["a25"]], columns["response"])
    do(window, "show row")
    wait_for(qtbot, lambda: window.matrix.graph_panel.graph.figure().traces == ())  # both were selected
    do(window, "undo")
    wait_for(qtbot, lambda: len(window.matrix.graph_panel.graph.figure().traces) == 2)
    wait_for(qtbot, lambda: len({t.name for t in window.matrix.graph_panel.graph.figure().traces}) == 2)
    window.matrix.selection.select([rows["a25"]], columns["response"])
    do(window, "delete row")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 3)
    do(window, "undo")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 4)
    window.matrix.selection.select([rows["a25"]], columns["tone"])
    do(window, "delete run")
    wait_for(qtbot, lambda: (rows["a25"], columns["tone"]) not in window.session.overview.runs)
    do(window, "undo")
    wait_for(qtbot, lambda: (rows["a25"], columns["tone"]) in window.session.overview.runs)


def test_adding_a_row_and_a_column(window, qtbot, monkeypatch):
    from epidote.desktop.widgets.dialogs import RowDialog
    from epidote.desktop.windows.procedure_chooser import ProcedureChooser

    def answer(dialog) -> int:
        dialog.maker.setText("Quillon")
        dialog.model.setText("D1")
        dialog.conditions.setText("filter")
        assert "name = value" in dialog.problem.text()
        dialog.conditions.setText("filter = slow")
        return 1

    monkeypatch.setattr(RowDialog, "exec", answer)
    do(window, "add row")
    wait_for(qtbot, lambda: window.session.overview.subjects[-1].full_name == "Quillon D1, filter slow")

    def choose(dialog) -> int:
        dialog.search.setText("how clean")
        assert dialog.chosen() == "tone"
        dialog.form.set_text("frequency", "6 kHz")
        assert "Takes about" in dialog.details.text()
        return 1

    monkeypatch.setattr(ProcedureChooser, "exec", choose)
    do(window, "add column")
    wait_for(qtbot, lambda: len(window.session.overview.columns) == 3)
    assert window.session.overview.columns[-1].summary.startswith("6 kHz")
    do(window, "undo")
    wait_for(qtbot, lambda: len(window.session.overview.columns) == 2)


def test_recomputing_without_measuring(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["response"])
    wait_for(qtbot, page.readings.recompute.isEnabled)
    before = window.session.overview.runs[rows["a25"], columns["response"]]
    qtbot.mouseClick(page.readings.recompute, Qt.MouseButton.LeftButton)
    assert page.side.currentWidget() is page.run_panel
    page.run_panel.form.set_text("smoothing", "1/3")
    qtbot.mouseClick(page.run_panel.go, Qt.MouseButton.LeftButton)
    wait_for(qtbot, lambda: window.session.overview.runs[rows["a25"], columns["response"]].id > before.id)
    after = window.session.overview.runs[rows["a25"], columns["response"]]
    assert after.recomputed_from == before.id
    assert after.settings["smoothing"] == "1/3"


def test_percent_or_db_channels_and_kinds_of_curve(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["response"])
    page.look.show_view("thd")
    wait_for(
        qtbot, lambda: page.graph_panel.graph.figure().y_unit == "dB" and "THD" in page.graph_panel.graph.figure().title
    )
    in_db = page.graph_panel.graph.figure().traces[0].at(1000, True)
    do(window, "percent")
    figure = page.graph_panel.graph.figure()
    assert figure.y_unit == "%"
    assert figure.traces[0].at(1000, True) == pytest.approx(100 * 10 ** (in_db / 20), rel=1e-3)
    qtbot.mouseClick(page.graph_panel.units.button("dB"), Qt.MouseButton.LeftButton)
    assert page.graph_panel.graph.figure().y_unit == "dB"
    do(window, "channel 2")
    assert {t.channel for t in page.graph_panel.graph.figure().traces} == {1, 2}
    do(window, "channel 1")
    assert {t.channel for t in page.graph_panel.graph.figure().traces} == {2}
    qtbot.mouseClick(page.graph_panel.views.button("Phase"), Qt.MouseButton.LeftButton)
    assert page.graph_panel.graph.figure().y_unit == "°"
    qtbot.mouseClick(page.graph_panel.variants.button("phase_unwrapped"), Qt.MouseButton.LeftButton)
    assert "unwrapped" in page.graph_panel.graph.figure().y_title
    do(window, "next view")
    assert "delay removed" in page.graph_panel.graph.figure().y_title
    page.selection.select([rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: bool(row_of(page.readings.table, "THD+N")))
    do(window, "percent")
    assert row_of(page.readings.table, "THD+N")[0].endswith("%")


def test_pins_and_corners(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["high"], rows["a25"]], columns["response"])
    wait_for(
        qtbot, lambda: page.graph_panel.graph.figure() is not None and len(page.graph_panel.graph.figure().traces) == 2
    )
    graph = page.graph_panel.graph
    graph.setFocus()
    graph.set_cursor_x(1000.0)
    qtbot.keyClick(graph, Qt.Key.Key_P)
    wait_for(qtbot, lambda: len(graph.figure().pins) == 1)
    graph.set_cursor_x(8000.0)
    qtbot.keyClick(graph, Qt.Key.Key_P)
    wait_for(qtbot, lambda: len(graph.figure().pins) == 2)
    wait_for(qtbot, lambda: bool(row_of(page.readings.table, "Slope, pin 1 to 2")))
    at_pin = row_of(page.readings.table, "Gain at pin 1, 1.000 kHz")
    assert at_pin[0][:5] == row_of(page.readings.table, "Gain at 1 kHz")[0][:5]
    qtbot.keyClick(graph, Qt.Key.Key_Delete)
    wait_for(qtbot, lambda: len(graph.figure().pins) == 1)
    do(window, "undo")
    wait_for(qtbot, lambda: len(graph.figure().pins) == 2)
    do(window, "clear pins")
    wait_for(qtbot, lambda: graph.figure().pins == ())
    do(window, "corners")
    assert "no -3 dB point" in window.message.text(), "this band ends at 20 kHz, before either amplifier falls"


def test_exports_carry_their_conditions(window, rows, columns, qtbot, tmp_path):
    page = window.matrix
    page.selection.select([rows["high"], rows["a25"]], columns["response"])
    page.pins.add(1000.0)
    wait_for(
        qtbot,
        lambda: len(page.graph_panel.graph.figure().pins) == 1 and len(page.graph_panel.graph.figure().traces) == 2,
    )
    export(qtbot, page, tmp_path / "graph.svg")
    svg = (tmp_path / "graph.svg").read_text()
    for words in (
        "Ostrel P40, gain high",
        "Havelmar A25",
        "Pin 1, 1.000 kHz",
        "Start frequency 20 Hz, Stop frequency 20 kHz, Duration 600 ms, Level -20 dBFS",
        "Bench, 48 kHz, 8",
    ):
        assert words in svg, words
    export(qtbot, page, tmp_path / "graph.png")
    image = QImage(str(tmp_path / "graph.png"))
    assert (image.width(), image.height()) == (2560, 1600)
    assert "Pin 1, 1.000 kHz" in image.text("Description")
    export(qtbot, page, tmp_path / "curves.csv")
    rows_ = list(
        csv.reader(line for line in (tmp_path / "curves.csv").read_text().splitlines() if not line.startswith("#"))
    )
    assert len(rows_[0]) == 5
    export(qtbot, page, tmp_path / "all readings.csv")
    assert "bandwidth_high" in (tmp_path / "all readings.csv").read_text()
    page.exchange.export(tmp_path / "nowhere" / "graph.png")
    wait_for(qtbot, lambda: "could not be written" in window.message.text())


def test_what_was_finished_is_there_after_closing(window, rows, columns, qtbot, path):
    window.matrix.selection.select([rows["low"]], columns["tone"])
    do(window, "measure")
    wait_for(qtbot, lambda: (rows["low"], columns["tone"]) in window.session.overview.runs)
    window.close()
    again = Study(path)
    assert (rows["low"], columns["tone"]) in again.overview().runs
    again.close()


def test_closing_in_the_middle_of_a_run(window, rows, columns, qtbot, path):
    window.matrix.selection.select([rows["low"]], columns["response"])
    do(window, "measure")
    wait_for(qtbot, lambda: any(not u.waiting for u in window.session.runs.under_way.values()))
    window.close()
    again = Study(path)
    assert not again.read_only
    assert (rows["low"], columns["response"]) not in again.overview().runs
    again.close()


def test_a_study_open_elsewhere_is_shown_read_only(window, qtbot, path):
    from epidote.desktop.shell.main_window import MainWindow

    second = MainWindow()
    qtbot.addWidget(second)
    second.show()
    second.session.open_path(path)
    wait_for(qtbot, lambda: second.session.overview is not None)
    assert "read-only" in second.message.text()
    assert second.page_bar.saved.text() == "Read-only"
    assert not second.actions_by_name["add row"].isEnabled()
    assert not second.actions_by_name["undo"].isEnabled()
    assert second.actions_by_name["export"].isEnabled()
    second.close()


def test_what_cannot_be_opened_leaves_the_present_study(window, qtbot, tmp_path):
    before = window.session.study
    window.session.open_path(tmp_path)
    wait_for(qtbot, lambda: "is not a study" in window.message.text())
    assert window.session.study is before


def test_a_new_study_has_its_columns(window, qtbot, tmp_path):
    window.session.create(tmp_path / "Fresh", "Fresh")
    wait_for(qtbot, lambda: window.page_bar.title.text() == "Fresh")
    assert [c.title for c in window.session.overview.columns] == ["Response", "Single tone"]
    assert window.session.writable


def test_every_command_has_its_own_shortcut(window):
    shortcuts = [c.shortcut for c in window.commands if c.shortcut]
    assert len(shortcuts) == len(set(shortcuts))
    for command in window.commands:
        if command.shortcut:
            assert not window.actions_by_name[command.name].shortcut().isEmpty(), command.name


def test_clicking_a_cell(window, rows, columns, qtbot):
    table = window.matrix.table
    rect = table.visualRect(window.matrix.model.index_of(rows["a25"], columns["tone"]))
    qtbot.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, ALT, QPoint(rect.center()))
    assert window.matrix.selection.current_subject().id == rows["a25"]
    assert window.matrix.selection.current_column().id == columns["tone"]


def test_the_focus_does_not_forestall_the_first_choice(qtbot, path):
    """Gaining the focus gives a table a current cell of its own; the study must open on its comparison all the same."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    application()
    window = MainWindow()
    qtbot.addWidget(window)
    table = window.matrix.table
    window.session.overview_changed.connect(
        lambda: table.currentIndex().isValid() or table.setCurrentIndex(window.matrix.model.index(0, 0))
    )
    window.show()
    window.session.open_path(path)
    wait_for(qtbot, lambda: window.matrix.built and window.matrix.graph_panel.graph.figure() is not None)
    assert len(window.matrix.graph_panel.graph.figure().traces) == 2
    window.close()


def test_a_cell_is_filled_from_a_recording_made_elsewhere(window, qtbot, rows, columns, tmp_path):
    """Written as a file, played by somebody's player 40 ppm slow and half as loud, recorded, taken in."""
    import soundfile

    from epidote.core.signals.resampling import resample

    page = window.matrix
    page.selection.select([rows["low"]], columns["response"])
    wait_for(qtbot, lambda: page.run_panel.form is not None and page.side.currentWidget() is page.run_panel)
    settings = page.run_panel.form.values()
    page.exchange.write_file(settings, path=tmp_path / "for the player.wav")
    wait_for(qtbot, (tmp_path / "for the player.json").exists)
    x, rate = soundfile.read(tmp_path / "for the player.wav")
    take = 0.5 * resample(x, 1 / 1.00004, -9000.0, int(x.size * 1.0001) + 30000)
    soundfile.write(
        tmp_path / "take.wav", take + 1e-6 * np.random.default_rng(1).standard_normal(take.size), rate, subtype="FLOAT"
    )
    page.exchange.take_recording(settings, path=tmp_path / "take.wav")
    cell = (rows["low"], columns["response"])
    wait_for(qtbot, lambda: cell in window.session.overview.runs)
    readings = {r.key: r.value for r in window.session.overview.runs[cell].readings}
    assert readings["clock_offset"] == pytest.approx(40, abs=0.05)
    assert "+40.00" in window.message.text()
    page.exchange.take_recording(settings, path=tmp_path / "for nobody.wav")
    wait_for(qtbot, lambda: "cannot be read" in window.message.text())


def test_crossings_are_said_beside_the_readings(window, rows, columns, qtbot):
    """Which of two amplifiers has more gain, in words; on an exported picture too."""
    page = window.matrix
    page.selection.select([rows["high"], rows["a25"]], columns["response"])
    wait_for(qtbot, lambda: bool(page.graph_panel.graph.figure().crossings))
    (words,) = page.graph_panel.graph.figure().crossings
    level = {
        r.key: r.value
        for r in window.session.overview.runs[rows["a25"], columns["response"]].readings
        if r.channel == 1
    }
    reference = {
        r.key: r.value
        for r in window.session.overview.runs[rows["high"], columns["response"]].readings
        if r.channel == 1
    }
    assert words.startswith("Havelmar A25 ")
    assert ("lower" in words) is (level["gain_1k"] < reference["gain_1k"])
    do(window, "beside difference")
    wait_for(qtbot, lambda: words in page.beside.comparing.panel.crossings.text())
    assert page.graph_panel.graph.figure().notes[0] == words


def test_conditions_in_a_row_s_head_that_have_no_room_are_counted(window):
    from epidote.desktop.pages.matrix.matrix_table.delegate import fitting

    chips = ("inserted transformer + cable", "load 10 kΩ", "probe 1:1")
    assert fitting(chips, 1000) == list(chips)
    assert fitting(chips, 205) == [chips[0], "+2"]
    short = fitting(chips, 150)
    assert short[0].endswith("…") and short[0][:-1] in chips[0] and short[1] == "+2"
    assert fitting(chips[:1], 100)[0].endswith("…")
    assert fitting((), 100) == []
    head = window.matrix.model.index(1, 0)
    assert window.matrix.model.data(head, Qt.ItemDataRole.ToolTipRole) == window.session.overview.subjects[1].full_name


def test_corners_that_have_a_pin_get_no_second_one(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["high"]], columns["response"])
    wait_for(
        qtbot, lambda: page.graph_panel.graph.figure() is not None and len(page.graph_panel.graph.figure().traces) == 1
    )
    where = (rows["high"], columns["response"])

    def corner_at(hertz: float) -> None:
        """The run as if it fell by 3 dB there; the study's answer to an edit takes its place again."""
        seen = window.session.overview
        run = seen.runs[where]
        readings = [replace(r, value=hertz) if (r.key, r.channel) == ("bandwidth_high", 1) else r for r in run.readings]
        fallen = replace(run, readings_json=json.dumps([r.to_json() for r in readings]))
        window.session.overview = replace(seen, runs={**seen.runs, where: fallen})

    def pins() -> list[float]:
        return [p.x for p in window.session.overview.pins_of(columns["response"], "level")]

    corner_at(12345.0)
    do(window, "corners")
    wait_for(qtbot, lambda: pins() == [12345.0])
    count = window.session.undo.count()
    corner_at(12345.0)
    do(window, "corners")
    assert window.session.undo.count() == count, "nothing was edited"
    corner_at(15000.0)
    do(window, "corners")
    wait_for(qtbot, lambda: pins() == [12345.0, 15000.0])


def test_a_run_that_is_offered_again_and_again_is_checked_once(window, rows, columns, qtbot, monkeypatch):
    """Each cell that is looked at fills the same form: what it tells must not be listened to once more each time."""
    page, checked = window.matrix, []
    for name in ("low", "high", "low", "baseline", "low"):
        page.selection.select([rows[name]], columns["tone"])
        wait_for(qtbot, lambda measured=name == "high": measured or page.side.currentWidget() is page.run_panel)
    wait_for(qtbot, lambda: page.run_panel.device.count() > 2 and "low" in page.run_panel.heading.text())
    real = page.run_panel.form.problem
    monkeypatch.setattr(page.run_panel.form, "problem", lambda: checked.append(1) or real())
    before = page.run_panel.device.currentIndex()
    page.run_panel.device.setCurrentIndex(before + 1)
    page.run_panel.device.setCurrentIndex(before)
    assert len(checked) == 2
