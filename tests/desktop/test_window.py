"""Preferences, dialogs, the strip, the responsiveness of the interface, and one real window under Xvfb."""

import os
import shutil
import subprocess
import sys
import threading

import pytest
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from epidote.desktop.preferences import preferences
from tests.desktop.driver import wait_for


def test_theme_and_text_size(window, qtbot, monkeypatch):
    from epidote.desktop.widgets.dialogs import PreferencesDialog

    def answer(dialog) -> int:
        dialog.theme.setCurrentText("Light")
        dialog.text.setCurrentText("Large")
        return 1

    monkeypatch.setattr(PreferencesDialog, "exec", answer)
    before = QApplication.font().pointSizeF()
    window.edit_preferences()
    assert window.theme.name == "light"
    assert QApplication.font().pointSizeF() > before
    assert preferences().value("theme") == "light"
    assert window.grab().toImage().pixelColor(600, 20).lightness() > 200
    preferences().setValue("theme", "dark")
    preferences().setValue("text", "normal")
    window.apply_theme()


def test_the_strip_says_what_weakens_the_results(window, qtbot):
    strip = window.strip
    wait_for(qtbot, lambda: strip.items["load"].text() != "")
    assert strip.items["scale"].text() == "0 dBFS = 4.00 V out, 32.0 V in"
    assert strip.items["calibration"].property("weak")
    assert strip.items["baseline"].text() == "▲ No baseline"
    assert strip.items["load"].text() == "▲ Load 8 Ω (entered)"
    assert "Headroom" in strip.items["headroom"].text()


def test_mending_the_chain_from_the_strip(window, qtbot):
    wait_for(qtbot, lambda: window.strip.items["load"].text() != "")
    window.strip.items["load"].click()
    page = window.page_named("Chain")
    assert window.stack.currentWidget() is window.pages["Chain"]
    wait_for(
        qtbot,
        lambda: page.form is not None and page.path.chosen_key() == "load" and "load_confirmed" in page.form.values(),
    )
    page.form.set_text("load_ohms", "eight")
    assert "Load resistance: “eight” is not valid" in page.form.errors["load_ohms"].text()
    page.form.set_text("load_ohms", "8.2 Ω")
    page.form.set_text("load_confirmed", "yes")
    assert not page.form.errors["load_ohms"].isVisible()
    page.form.committed.emit()
    wait_for(qtbot, lambda: window.strip.items["load"].text() == "Load 8.2 Ω")
    window.session.undo.undo()
    wait_for(qtbot, lambda: window.strip.items["load"].text() == "▲ Load 8 Ω (entered)")


def test_changing_a_row(window, qtbot, monkeypatch):
    from epidote.desktop.widgets.dialogs import RowDialog, conditions_text, parse_conditions

    def answer(dialog) -> int:
        dialog.firmware.setText("1.2")
        dialog.conditions.setText("load = 4 Ω")
        return 1

    monkeypatch.setattr(RowDialog, "exec", answer)
    subject = window.session.overview.subjects[-1]
    window.matrix.selection.select([subject.id], window.session.overview.columns[0].id)
    window.rows.change_row()
    wait_for(qtbot, lambda: window.session.overview.subjects[-1].conditions == {"load": "4 Ω"})
    wait_for(qtbot, lambda: window.session.overview.subjects[-1].unit.firmware == "1.2")
    assert parse_conditions(conditions_text({"a": "1", "b": "2 x"})) == {"a": "1", "b": "2 x"}
    for wrong in ("a", "= 3", "a ="):
        with pytest.raises(ValueError, match="name = value"):
            parse_conditions(wrong)


def test_the_interface_is_never_held_up(window, qtbot, monkeypatch):
    """While a run is played, analysed and stored the event loop comes round; nothing of that is done on its thread.

    How long it is held up at most is a measured figure (tools/benchmarks/speed.py), which a loaded test machine cannot
    show.
    """
    from epidote.measurement import processing, runner
    from epidote.study.store import Study

    overview = window.session.overview
    low, response = overview.subjects[2], overview.columns[0]
    where: dict[str, set[int]] = {}

    def watched(owner, name: str) -> None:
        real = getattr(owner, name)

        def noted(*given, **named):
            where.setdefault(name, set()).add(threading.get_ident())
            return real(*given, **named)

        monkeypatch.setattr(owner, name, noted)

    for owner, name in ((runner, "play_and_record"), (processing, "analyse"), (runner, "store_run")):
        watched(owner, name)
    for name in ("add_run", "checked_curves", "overview"):
        watched(Study, name)
    rounds = [0]
    timer = QTimer()
    timer.timeout.connect(lambda: rounds.__setitem__(0, rounds[0] + 1))
    timer.start(5)
    window.matrix.selection.select([low.id], response.id)
    window.matrix.measure_empty()
    wait_for(
        qtbot, lambda: (low.id, response.id) in window.session.overview.runs and "checked_curves" in where
    )  # asked for once the run is there
    timer.stop()
    assert set(where) == {"play_and_record", "analyse", "store_run", "add_run", "checked_curves", "overview"}
    assert all(threading.get_ident() not in threads for threads in where.values())
    assert rounds[0] > 5


def test_a_worker_reports_what_went_wrong_and_goes_on(qtbot):
    from epidote.core.errors import MeasurementError
    from epidote.desktop.state.worker import Worker

    worker = Worker("test")
    said = []

    def fail(error: Exception):
        def work() -> None:
            raise error

        return work

    worker.submit(fail(MeasurementError("The device vanished.")), said.append, said.append)
    worker.submit(fail(KeyError("x")), said.append, said.append)
    worker.submit(lambda: 7, said.append, said.append)
    qtbot.waitUntil(lambda: len(said) == 3)
    assert said[0] == "The device vanished."
    assert said[1].startswith("An internal error stopped this.")
    assert said[2] == 7
    worker.close()
    worker.submit(lambda: 8, said.append)
    assert len(said) == 3


def test_an_edit_that_fails_can_not_be_undone(window, qtbot):
    def refuse(study, memory) -> None:
        study.add_subject(study.units()[0], {"gain": "high"})

    window.session.edit("Add twice", refuse, lambda study, memory: None)
    wait_for(qtbot, lambda: "already" in window.message.text())
    assert len(window.session.overview.subjects) == 4


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="./check installs xvfb")
def test_a_real_window_under_xvfb(path, tmp_path):
    """The command as a user starts it, on a real X display: it shows, paints, and closes."""
    code = f"""
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from epidote.desktop import app
from epidote.desktop.shell.main_window import MainWindow
shown = []
class Window(MainWindow):
    def __init__(self, **options):
        super().__init__(**options)
        QTimer.singleShot(50, self.look)
    def look(self):
        if not self.matrix.built or self.matrix.graph_panel.graph.figure() is None:
            QTimer.singleShot(50, self.look)
            return
        self.screen().grabWindow(self.winId()).save({str(tmp_path / "shot.png")!r})
        self.close()
import epidote.desktop.shell.main_window as module
module.MainWindow = Window
sys.exit(app.run({str(path)!r}))
"""
    environment = {k: v for k, v in os.environ.items() if k not in ("QT_QPA_PLATFORM", "DISPLAY", "WAYLAND_DISPLAY")}
    command = ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, "-c", code]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=90, check=False)
    assert done.returncode == 0, done.stderr
    from PySide6.QtGui import QImage

    image = QImage(str(tmp_path / "shot.png"))
    assert image.width() >= 900
    colours = {image.pixelColor(x, y).rgb() for x in range(0, image.width(), 7) for y in range(0, image.height(), 7)}
    assert len(colours) > 20, "the window was painted"


def test_another_study_opened_during_a_run_ends_it_quietly_and_gives_the_first_one_back(
    window, qtbot, rows, columns, tmp_path
):
    """The run of the study that is left ends before that study is closed: nothing fails, and another process may
    have it.
    """
    from epidote.desktop.state.run_queue import RunRequest
    from epidote.study.store import Study, create_study

    first, failures = window.session.study, []
    window.session.failed.connect(failures.append)
    create_study(tmp_path / "Other.epidote", "Other").close()
    runs_before = len(first.overview().runs)
    window.session.runs.checks = False
    cell = (rows["low"], columns["tone"])
    window.session.runs.measure([RunRequest(cell, {"duration": 5.0, "level": -20})])
    wait_for(qtbot, lambda: cell in window.session.runs.under_way and not window.session.runs.under_way[cell].waiting)
    window.session.open_path(tmp_path / "Other.epidote")
    wait_for(qtbot, lambda: window.session.study is not None and window.session.study.path != first.path)
    wait_for(qtbot, lambda: not window.session.runs.under_way)

    def free() -> bool:
        again = Study(first.path)
        try:
            return not again.read_only and len(again.overview().runs) == runs_before
        finally:
            again.close()

    wait_for(qtbot, free)
    assert failures == []


def test_what_is_measured_right_after_a_stop_does_not_take_the_stop_back(window, qtbot, rows, columns):
    """The run that was stopped ends, although another is asked for before it noticed."""
    from epidote.desktop.state.run_queue import RunRequest

    runs = window.session.runs
    runs.checks = False
    stopped, wanted = (rows["low"], columns["tone"]), (rows["low"], columns["response"])
    runs.measure([RunRequest(stopped, {"duration": 5.0, "level": -20})])
    wait_for(qtbot, lambda: stopped in runs.under_way and not runs.under_way[stopped].waiting)
    runs.cancel()
    runs.measure([RunRequest(wanted, {"duration": 0.6, "level": -20})])
    wait_for(qtbot, lambda: not runs.under_way and wanted in window.session.overview.runs)
    assert stopped not in window.session.overview.runs
