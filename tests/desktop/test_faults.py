"""Mistakes in the program: told once, kept in a log without names, and never the end of the window."""

import gc
import os
import sqlite3
import threading
from contextlib import closing

import pytest
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QWidget

from epidote.desktop.app import application
from epidote.desktop.shell.main_window import MainWindow
from epidote.desktop.state.faults import Faults, faults
from epidote.desktop.state.worker import Worker
from epidote.desktop.widgets.painting import guarded
from tests.desktop.driver import wait_for


def failing(words: str) -> Exception:
    try:
        raise KeyError(words)
    except KeyError as error:
        return error


def test_a_fault_is_told_once_and_logged_without_names(qtbot):
    found = Faults()
    told = []
    found.told.connect(lambda words, details: told.append((words, details)))
    for unit in ("“Ostrel P40”", "“Havelmar”"):
        found.report(failing(f"no row {unit} in /home/vale/Bench.epidote"))
    assert len(told) == 1
    assert "report this if it recurs" in told[0][0]
    assert "KeyError" in told[0][1]
    log = found.log_path.read_text()
    assert log.count("KeyError in test_faults.py") == 2
    assert not any(name in log for name in ("Ostrel", "Havelmar", "vale", "Bench"))
    assert str(found.log_path).startswith(os.environ["XDG_STATE_HOME"])


def test_the_log_rotates(qtbot, monkeypatch):
    import epidote.desktop.state.faults as module

    monkeypatch.setattr(module, "LOG_BYTES", 2000)
    found = Faults()
    for n in range(100):
        found.report_words(f"a message of Qt, number {n}")
    files = list(found.log_path.parent.iterdir())
    assert 1 < len(files) <= module.LOG_FILES
    assert all(f.stat().st_size <= 2000 for f in files)


def test_the_window_tells_it_with_details(window, qtbot):
    faults().report(failing("something new"), "a test")
    wait_for(qtbot, lambda: not window.message.button.isHidden())
    assert "failed" in window.message.text()
    window.message.button.click()
    dialog = next(w for w in window.findChildren(QWidget) if type(w).__name__ == "FaultDialog")
    assert "something new" in dialog.text.toPlainText()
    dialog.close()
    window.say("Something else.")
    assert window.message.button.isHidden()


class Broken(QWidget):
    """Leaves a painter open when it fails, which used to end the process."""

    painted = 0

    @guarded
    def paintEvent(self, event) -> None:  # noqa: N802  Qt's own name
        painter = QPainter(self)
        painter.save()
        Broken.painted += 1
        raise ZeroDivisionError("while painting")


def test_a_fault_while_painting_leaves_the_window_alive(qtbot):
    widget = Broken()
    qtbot.addWidget(widget)
    widget.resize(50, 50)
    widget.show()
    wait_for(qtbot, lambda: Broken.painted > 0)
    for _ in range(3):
        widget.repaint()
        gc.collect()
    assert Broken.painted >= 3
    assert any("ZeroDivisionError" in fault.details for fault in faults().latest)
    assert not widget.grab().isNull()


def test_a_broken_figure_is_told_and_the_graph_goes_on(window, rows, columns, qtbot, monkeypatch):
    from epidote.desktop.plotting.figure_painter import FigurePainter

    graph = window.matrix.graph_panel.graph
    with monkeypatch.context() as patched:
        patched.setattr(FigurePainter, "paint", lambda *a: 1 / 0)
        graph.set_figure(graph.figure(), keep_zoom=True)
        graph.repaint()
    assert any("ZeroDivisionError" in fault.details for fault in faults().latest)
    window.matrix.selection.select([rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: graph.figure() is not None and "Single tone" in graph.figure().title)
    assert not graph.grab().isNull()


def test_an_answer_for_a_window_that_is_closed_goes_nowhere(qtbot):
    worker = Worker("test")
    held, done = threading.Event(), []
    widget = QWidget()
    widget.show()
    worker.submit(lambda: held.wait(10), widget.setWindowTitle)
    worker.submit(lambda: held.wait(10), lambda _: widget.setWindowTitle("late"))
    worker.submit(lambda: 7, done.append)
    import shiboken6

    shiboken6.delete(widget)
    held.set()
    wait_for(qtbot, lambda: done == [7])
    worker.close()


def test_many_undos_are_shown_once(window, rows, columns, qtbot):
    """Answers that come close together are drawn together, and what is installed is asked for once in a process."""
    from epidote.core.procedures import registry

    changes = []
    window.session.overview_changed.connect(lambda: changes.append(1))
    places = [100.0 + n for n in range(30)]
    window.matrix.selection.select([rows["high"]], columns["response"])
    for x in places:
        window.matrix.pins.add(x)
    wait_for(qtbot, lambda: len(window.session.overview.pins) == len(places))
    before = registry.registered.cache_info().misses
    changes.clear()
    for _ in places:
        window.session.undo.undo()
    wait_for(qtbot, lambda: len(window.session.overview.pins) == 0)
    assert 1 <= len(changes) <= len(places)
    assert registry.registered.cache_info().misses == before


def test_an_undo_before_a_refusal_takes_nothing_back(window, qtbot):
    """The row exists already, which the store says only after the user has pressed undo."""
    from epidote.desktop.state import edits

    said = []
    window.session.failed.connect(said.append)
    overview = window.session.overview
    unit = overview.subjects[1].unit
    edits.add_row(window.session, unit, dict(overview.subjects[1].conditions), "", None)
    window.session.undo.undo()
    wait_for(qtbot, lambda: any("already exists" in words for words in said))
    assert len(said) == 1
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == len(overview.subjects))


def test_a_column_that_exists_is_not_deleted_by_an_undo(window, qtbot):
    from epidote.desktop.state import edits

    said = []
    window.session.failed.connect(said.append)
    column = window.session.overview.columns[0]
    edits.add_column(window.session, column.procedure, column.settings)
    wait_for(qtbot, lambda: any("already has these settings" in words for words in said))
    window.session.undo.undo()
    window.session.refresh()
    wait_for(qtbot, lambda: window.session.overview is not None)
    assert window.session.overview.columns[0].id == column.id
    assert len(window.session.overview.columns) == 2


def test_a_condition_that_makes_no_chain_is_refused(window, qtbot):
    from epidote.desktop.state import edits

    said = []
    window.session.failed.connect(said.append)
    unit = window.session.overview.subjects[1].unit
    edits.add_row(window.session, unit, {"probe": "0.5:1"}, "", None)
    wait_for(qtbot, lambda: bool(said))
    assert "Probe ratio: 0.5 is not valid; enter 1 or more" in said[0]
    assert len(window.session.overview.subjects) == 4


def test_keys_without_a_study_do_nothing(qtbot):
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    application()
    window = MainWindow()
    qtbot.addWidget(window)
    window.show()
    faults().latest.clear()
    for name, action in window.actions_by_name.items():
        if name not in ("quit", "new", "open", "demo", "unzip", "preferences", "analyse", "guided"):
            action.trigger()
    assert [fault.details for fault in faults().latest] == []
    window.close()


def test_chips_of_snapshots_hide_and_show(window, qtbot):
    from PySide6.QtCore import Qt

    window.show_page("Watch")
    page = window.page_named("Watch")
    wait_for(qtbot, lambda: page.row.count() == 3)
    chip = page.states.chips["Live"]
    qtbot.mouseClick(chip, Qt.MouseButton.LeftButton)
    assert not page.states.shown("Live")
    qtbot.mouseClick(chip, Qt.MouseButton.LeftButton)
    assert page.states.shown("Live")


@pytest.mark.parametrize("text", ["²", "1, ²", "１"])
def test_digits_that_are_no_numbers(window, text):
    from epidote.core.chain.chain import Chain
    from epidote.desktop.widgets.settings_form import SettingsForm

    form = SettingsForm(Chain, {}, ("outputs",))
    form.set_text("outputs", text)
    assert "Output channels" in form.problem()
    form.deleteLater()


def test_a_damaged_curve_marks_its_run_and_the_others_are_shown(qtbot, path):
    """One stored curve is cut short: it is left out, its run carries the caution in matrix, readings and graph, and
    it is said.
    """
    with closing(sqlite3.connect(path / "study.sqlite")) as database:
        run = database.execute("SELECT run_id FROM curve WHERE key = 'level' ORDER BY run_id LIMIT 1").fetchone()[0]
        database.execute(
            "UPDATE curve SET y = substr(y, 1, 20) WHERE run_id = ? AND key = 'level' AND channel = 1", (run,)
        )
        database.commit()
    application()
    window = MainWindow()
    qtbot.addWidget(window)
    said = []
    window.session.said.connect(said.append)
    window.show()
    window.session.open_path(path)
    wait_for(qtbot, lambda: window.matrix.built and window.matrix.graph_panel.graph.figure() is not None)
    seen = window.session.overview
    column = seen.columns[0].id
    window.matrix.selection.select([s.id for s in seen.subjects[1:]], column)
    wait_for(qtbot, lambda: any("damaged" in r.cautions for r in window.session.overview.runs.values()))
    wait_for(qtbot, lambda: "damaged and shown only as far" in " ".join(window.matrix.readings.cautions.texts()))
    assert f"run {run}: level" in " ".join(said)
    assert [r.id for r in window.session.overview.runs.values() if "damaged" in r.cautions] == [run]
    assert len(window.matrix.graph_panel.graph.figure().traces) == 1, "the other run's curve is drawn"
    window.session.refresh()
    wait_for(qtbot, lambda: window.session.overview is not seen)
    assert any("damaged" in r.cautions for r in window.session.overview.runs.values()), (
        "still marked after the next change"
    )
    window.close()
