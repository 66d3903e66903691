"""What a new user meets first: the start page, dropped files, the demo, the guide of the first measurement."""

import shutil

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QTimer, QUrl
from PySide6.QtWidgets import QFileDialog, QPushButton

from epidote.audio.files.sound_file import encode
from epidote.desktop.pages.start.page import BEGINNINGS
from epidote.desktop.shell import dropped_files, study_actions
from epidote.desktop.shell.guided.steps import STEPS, GuidedState, first_open
from epidote.desktop.state.recent_studies import forget_study, recent_studies, remember_study
from epidote.desktop.windows.segment_dialog import SegmentDialog
from tests.desktop.driver import do, wait_for


@pytest.fixture
def bare(qtbot, tmp_path, monkeypatch):
    """A window without a study; new studies go into a folder of the test."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    monkeypatch.setattr(study_actions, "studies_folder", lambda: tmp_path / "studies")
    application()
    made = MainWindow()
    qtbot.addWidget(made)
    made.show()
    yield made
    made.close()


def dropped(*paths) -> QMimeData:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    return data


def tone_file(path):
    t = np.arange(48000) / 48000
    path.write_bytes(encode(0.1 * np.sin(2 * np.pi * 1000 * t)[:, None], 48000, "WAV", "24"))
    return path


def test_the_window_opens_on_the_start_page(bare):
    assert bare.stack.currentWidget() is bare.start
    assert not bare.page_bar.isVisible() and bare.start.buttons["new"].hasFocus()
    assert list(bare.start.buttons) == [name for name, _, _ in BEGINNINGS]
    assert set(bare.start.buttons) <= set(bare.actions_by_name)


def test_recent_studies_say_what_is_in_them(bare, path, tmp_path, qtbot):
    for old in recent_studies():
        forget_study(old)
    remember_study(tmp_path / "Gone.epidote")
    remember_study(path)
    bare.start.refresh()
    wait_for(qtbot, lambda: len(bare.start.recent) == 1)
    button = bare.start.recent[0]
    assert button.title.text() == "Measured"
    assert button.words.text().startswith("3 rows, 2 columns, 4 runs, last on ")
    assert "Ostrel P40, Havelmar A25" in button.words.text()
    button.click()
    wait_for(qtbot, lambda: bare.page_bar.title.text() == "Measured" and bare.page_in_view() == "Matrix")
    assert recent_studies()[0] == path
    menu = bare.actions_by_name["recent"].menu()
    menu.aboutToShow.emit()
    assert [a.text() for a in menu.actions()] == ["Copy"]


def test_a_study_is_opened_by_dropping_it(bare, path, qtbot):
    assert dropped_files.offer(dropped(path)) == "Drop to open the study"
    dropped_files.take(dropped(path), bare.session, bare.files)
    wait_for(qtbot, lambda: bare.page_bar.title.text() == "Measured")


def test_what_cannot_be_used_is_not_taken(bare, tmp_path):
    assert dropped_files.offer(dropped(tmp_path / "some.exe")) == ""
    assert dropped_files.offer(QMimeData()) == ""
    assert dropped_files.offer(dropped(tmp_path / "a.wav", tmp_path / "b.csv")) == ""


def test_a_recording_is_analysed_by_dropping_it(bare, tmp_path, qtbot):
    file = tone_file(tmp_path / "Some tone.wav")
    assert dropped_files.offer(dropped(file)) == "Drop to analyse the recording"
    dropped_files.take(dropped(file), bare.session, bare.files)
    wait_for(qtbot, lambda: bare.findChild(SegmentDialog) is not None)
    dialog = bare.findChild(SegmentDialog)
    wait_for(qtbot, dialog.go.isEnabled)
    dialog.go.click()
    wait_for(qtbot, lambda: bool(bare.session.overview.runs))
    run = next(iter(bare.session.overview.runs.values()))
    # outside reference: a sine with a peak of 0.1 FS is at 20 lg 0.1 = -20 dBFS (AES17: full scale is that of a sine)
    assert run.reading("level").value == pytest.approx(-20.0, abs=0.05)
    assert bare.session.overview.title == "Recordings"
    assert bare.session.overview.subjects[-1].name == "Some tone"


def test_a_second_recording_goes_into_the_same_study(bare, tmp_path, qtbot):
    from epidote.study.store import create_study

    (tmp_path / "studies").mkdir()
    create_study(tmp_path / "studies" / "Recordings", "Recordings").close()
    bare.files.analyse([tone_file(tmp_path / "Another.wav")])
    wait_for(qtbot, lambda: bare.session.overview is not None and len(bare.session.overview.subjects) == 2)
    assert bare.session.overview.subjects[-1].name == "Another"
    wait_for(qtbot, lambda: bare.findChild(SegmentDialog) is not None)
    bare.findChild(SegmentDialog).reject()


def test_the_demo_is_measured_before_the_eyes(bare, qtbot, tmp_path, monkeypatch):
    """The first cells are those of the first column, the baseline first, so that rows can be compared soon."""
    from epidote.demo import scenario

    monkeypatch.setattr("epidote.demo.line.UNITS", 0)

    monkeypatch.setattr(scenario, "demo_path", lambda: tmp_path / "Demo.epidote")
    bare.start.buttons["demo"].click()

    def measured_columns():
        """Of the cells that are measured; one waits for its recording from the beginning."""
        runs = bare.session.overview.runs if bare.session.overview is not None else {}
        return [column for (_, column), run in runs.items() if run.readings]

    wait_for(qtbot, lambda: len(measured_columns()) >= 2)
    assert set(measured_columns()) == {bare.session.overview.columns[0].id}
    assert bare.strip.progress.text().startswith("Measuring ") or "waiting" in bare.strip.progress.text()
    waiting = len(bare.session.runs.under_way)
    assert waiting > 60
    wait_for(qtbot, lambda: bare.matrix.built and bare.matrix.graph_panel.graph.figure() is not None)
    bare.strip.stop.click()
    wait_for(qtbot, lambda: not bare.session.runs.under_way)
    measured = len(bare.session.overview.runs)
    do(bare, "demo")  # goes on where it was stopped, once the study was closed and opened again
    wait_for(qtbot, lambda: bool(bare.session.runs.under_way))
    assert len(bare.session.runs.under_way) <= waiting
    bare.silence()
    wait_for(qtbot, lambda: not bare.session.runs.under_way)
    assert len(bare.session.overview.runs) >= measured


def test_a_new_study_shows_where_rows_and_columns_are_added(bare, qtbot, tmp_path, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "Fresh"), ""))
    bare.start.buttons["new"].click()
    wait_for(qtbot, lambda: bare.page_bar.title.text() == "Fresh")
    pane = bare.matrix.pane
    assert pane.add_row.isVisible() and pane.add_row.text() == "Add row…"
    assert pane.table.add_column.isVisible() and pane.table.add_column.text() == "Add column…"
    wanted = []
    pane.command_wanted.connect(wanted.append)
    monkeypatch.setattr(bare.rows, "_row_dialog", lambda *a, **k: None)
    pane.add_row.click()
    assert wanted == ["add row"]


# -- the guide of the first measurement ----------------------------------------------------------------


def test_the_steps_follow_from_the_study():
    state = GuidedState()
    order = []
    for done in (
        {"device": "jack:"},
        {"passed": frozenset({"level"})},
        {"passed": frozenset({"level", "loop"})},
        {"calibrated": True},
        {"baseline_runs": 2},
        {"unit_rows": 1},
        {"unit_runs": 1},
        {"passed": frozenset({"level", "loop", "reading"})},
    ):
        order.append(first_open(state).key)
        state = GuidedState(**{**state.__dict__, **done})
    assert order == [step.key for step in STEPS]
    assert first_open(state) is None
    assert all(step.why and step.what for step in STEPS)
    assert {s.key for s in STEPS if s.can_skip} == {"calibration", "baseline"}


@pytest.mark.slow
def test_the_guide_leads_through_a_first_measurement(bare, qtbot, monkeypatch):
    """From the start page to the first result, with a simulated loop in place of an interface."""
    from epidote.desktop.widgets.dialogs import RowDialog

    bare.session.runs.checks = False
    bare.session.runs.asked.connect(lambda _: QTimer.singleShot(0, lambda: confirm_full_level(bare)))
    bare.start.buttons["guided"].click()
    wait_for(qtbot, lambda: bare.guided is not None and bare.guided.state.open and bare.guided.step.key == "device")
    assert bare.page_bar.title.text() == "My interface"
    guide = bare.guided
    guide.act.click()
    page = bare.page_named("Chain")
    wait_for(qtbot, lambda: page.form is not None and "device" in page.form.values())
    wait_for(qtbot, lambda: page.form.editors["device"].findData("standin:wire") >= 0)
    page.form.set_text("device", "standin:wire")
    page.form.committed.emit()
    wait_for(qtbot, lambda: guide.step.key == "level")
    assert guide.go_on.text() == "Level is safe"
    guide.go_on.click()
    assert guide.step.key == "loop"
    guide.go_on.click()
    assert guide.step.key == "calibration" and guide.go_on.text() == "Skip this step"
    guide.leave.click()  # leave it here, and come back
    assert not guide.isVisible()
    do(bare, "guided")
    wait_for(qtbot, lambda: guide.isVisible() and guide.step.key == "calibration")
    guide.go_on.click()
    assert guide.step.key == "baseline"
    guide.act.click()
    wait_for(qtbot, lambda: guide.step.key == "unit")

    def fill(dialog) -> int:
        dialog.maker.setText("Own")
        dialog.model.setText("Interface")
        return 1

    monkeypatch.setattr(RowDialog, "exec", fill)
    guide.act.click()
    wait_for(qtbot, lambda: guide.step.key == "result")
    guide.act.click()
    wait_for(qtbot, lambda: guide.step.key == "reading")
    wait_for(qtbot, lambda: not bare.session.runs.under_way)
    assert all(step.is_over(guide.state) for step in STEPS[:-1])
    guide.go_on.click()
    wait_for(qtbot, lambda: not guide.isVisible())


def confirm_full_level(window) -> None:
    """Answer the question before the first run of a chain."""
    from PySide6.QtWidgets import QMessageBox

    box = window.findChild(QMessageBox)
    next(b for b in box.findChildren(QPushButton) if b.text() == "Measure at full level").click()


def test_a_study_left_in_the_guide_opens_with_it(bare, qtbot, tmp_path):
    do(bare, "guided")
    wait_for(qtbot, lambda: bare.guided is not None and bare.guided.state.open)
    wait_for(qtbot, lambda: '"open": true' in bare.session.study.setting("guided"))
    folder = bare.session.study.path
    other = shutil.copytree(folder, tmp_path / "Other.epidote", ignore=shutil.ignore_patterns(".lock"))
    bare.guided.hide()
    bare.session.open_path(other)
    wait_for(qtbot, lambda: bare.session.study.path == other and bare.guided.isVisible())
