"""The Routine page over the simulated fixture, driven by its keys: units, verdicts, prompts, editing, statistics."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from epidote.core.routine.model import MeasureStep, PromptStep
from epidote.desktop.widgets.question import ask_whether
from epidote.measurement.routine.storage import find_routine
from tests.desktop.driver import wait_for
from tests.routine_study import PROMPTS, line_study, routine_text


@pytest.fixture
def path(tmp_path, request):
    return line_study(tmp_path / "Line", getattr(request, "param", None))


@pytest.fixture
def window(qtbot, path):
    """The main window on a study in which nothing is measured yet."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    application()
    made = MainWindow()
    qtbot.addWidget(made)
    made.show()
    made.activateWindow()
    wait_for(qtbot, made.isActiveWindow)
    made.session.open_path(path)
    wait_for(qtbot, lambda: made.session.overview is not None)
    yield made
    made.session.close()


@pytest.fixture
def page(window, qtbot):
    window.show_page("Routine")
    made = window.page_named("Routine")
    made.passing.real_time = False
    wait_for(qtbot, lambda: made._check is not None)
    return made


def measure(page, qtbot, serial):
    """Scan a serial number, and wait for the verdict."""
    page.unit.serial.clear()
    QTest.keyClicks(page.unit.serial, serial)
    QTest.keyClick(page.unit.serial, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.report is not None and not page.passing.under_way)
    return page.unit.verdict.word


def test_one_unit_after_the_other_by_keyboard(page, qtbot, window):
    assert (page.unit.verdict.word, page.unit.begin.text()) == ("ready", "Measure")
    assert page.side.about.text().startswith("2 steps, about")
    assert measure(page, qtbot, "H20-001") == "passed"
    assert page.unit.verdict.accessibleName() == "Verdict: passed"
    assert [page.side.steps.state(n) for n in (1, 2)] == ["passed", "passed"]
    assert "Smallest margin" in page.unit.detail.text()
    assert page.unit.begin.text() == "Next unit"
    assert page.unit.serial.selectedText() == "H20-001"
    QTest.keyClick(page.unit.serial, Qt.Key.Key_Return)
    assert (page.unit.verdict.word, page.unit.serial.text()) == ("ready", "")
    assert measure(page, qtbot, "H20-031") == "failed"
    assert "THD" in page.unit.detail.text()
    wait_for(qtbot, lambda: page.bench.last.table.row_count() == 2)
    assert page.bench.last.table.text(0, 0) == "H20-031"
    assert page.bench.last.table.text(0, 1) == "Failed"
    assert (page.bench.last.count.text(), page.bench.last.passed.text()) == ("2", "50.0 %")
    names = [s.full_name for s in window.session.overview.subjects]
    assert "Ostrel H20 H20-031" in names, "each unit is a row of the matrix"
    row = page.bench.last._passes[0].subject_id
    page.bench.last.unit_wanted.emit(row)
    assert window.page_in_view() == "Matrix"
    assert window.matrix.selection.current_subject().id == row


def test_a_failed_unit_again_keeps_both_and_counts_the_first(page, qtbot, window):
    assert measure(page, qtbot, "H20-031") == "failed"
    wait_for(qtbot, page.unit.again.isEnabled)
    QTest.keyClick(page.unit.serial, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    wait_for(qtbot, lambda: page.passing.under_way)
    wait_for(qtbot, lambda: not page.passing.under_way)
    wait_for(qtbot, lambda: page.bench.last.table.row_count() == 2)
    assert page.bench.last.count.text() == "1"
    study = window.session.study
    assert [p.verdict for p in study.passes.of_serial("Post check", "H20-031")] == ["failed", "failed"]


def test_a_scanner_needs_no_key_between_two_units(page, qtbot):
    """The next number is typed over the one before, whatever letters it has, and its Enter begins."""
    assert measure(page, qtbot, "H20-001") == "passed"
    QTest.keyClicks(page.unit.serial, "H20-031")
    assert (page.unit.serial.text(), page.unit.verdict.word) == ("H20-031", "ready")
    QTest.keyClick(page.unit.serial, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.report is not None and not page.passing.under_way)
    assert (page.report.kept.serial, page.unit.verdict.word) == ("H20-031", "failed")


def test_serial_numbers_that_cannot_be(page, qtbot):
    for serial, words in (("", "is empty"), ("17", "does not have the form"), ("H20-0017", "does not have the form")):
        page.unit.serial.setText(serial)
        page.press_enter()
        assert words in page.unit.problem.text()
        assert not page.passing.under_way
    assert measure(page, qtbot, "H20-002") == "passed"
    page.next_unit()
    QTest.keyClicks(page.unit.serial, "H20-002")
    wait_for(qtbot, lambda: page.unit.known.text().startswith("Already measured: passed"))


def test_a_scanner_s_enter_during_a_pass_does_nothing(page, qtbot, window):
    page.passing.real_time = True
    page.unit.serial.setText("H20-003")
    page.press_enter()
    wait_for(qtbot, lambda: page.passing.under_way)
    page.press_enter()
    assert page.unit.serial.isReadOnly()
    assert page.unit.verdict.word in ("checking", "measuring")
    window.silence()
    wait_for(qtbot, lambda: not page.passing.under_way)
    assert page.report.kept.verdict == "not measured"
    assert "Stopped" in page.unit.detail.text()
    page.press_enter()
    page.passing.real_time = False
    assert measure(page, qtbot, "H20-004") == "passed", "the bench is free again"


@pytest.mark.parametrize("path", [routine_text() + PROMPTS], indirect=True)
def test_prompts_are_answered_by_key(page, qtbot):
    page.unit.serial.setText("H20-005")
    page.press_enter()
    wait_for(qtbot, lambda: page.unit.prompt.asking)
    assert page.unit.prompt.words.text() == "Is the lamp on?"
    assert page.unit.prompt.no.isVisible()
    QTest.keyClicks(page.focusWidget(), "H20 N17")
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    assert page.unit.prompt.words.text() == "Is the lamp on?", "a scan is no answer, whatever letters it has"
    assert "“H20 N17” was scanned while an answer was expected" in page.unit.prompt.problem.text()
    QTest.keyClick(page.unit.serial, Qt.Key.Key_Return)
    assert page.unit.prompt.words.text() == "Is the lamp on?", "nor is Enter in the serial number"
    QTest.keyClicks(page.focusWidget(), "y")
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.unit.prompt.asking and page.unit.prompt.value.isVisible())
    page.unit.prompt.value.setText("much")
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    assert page.unit.prompt.problem.text() != ""
    page.unit.prompt.value.setText("350 mA")
    QTest.keyClick(page.unit.prompt.value, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.report is not None)
    assert page.report.kept.verdict == "failed"
    assert page.report.outcomes[-1].margin == pytest.approx(-0.15)
    assert "Idle current: -0.150 A" in page.unit.detail.text()


@pytest.mark.parametrize("path", [(routine_text() + PROMPTS).replace("H20-[0-9]{3}", "[0-9]{6}")], indirect=True)
def test_a_number_scanned_while_a_value_is_asked_for_is_no_value(page, qtbot):
    page.unit.serial.setText("240117")
    page.press_enter()
    wait_for(qtbot, lambda: page.unit.prompt.asking)
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.unit.prompt.asking and page.unit.prompt.value.isVisible())
    QTest.keyClicks(page.focusWidget(), "240118")
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    assert "“240118” looks like a serial number and was ignored." in page.unit.prompt.problem.text()
    QTest.keyClicks(page.focusWidget(), "0.1")
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.report is not None)
    assert page.report.outcomes[-1].answer == "0.1000 A"


@pytest.mark.parametrize("path", [routine_text(on_failure="ask")], indirect=True)
def test_asked_whether_to_go_on(page, qtbot):
    page.unit.serial.setText("H20-031")
    page.press_enter()
    wait_for(qtbot, lambda: page.unit.prompt.asking)
    assert page.unit.prompt.words.text().startswith("Gain: failed, -")
    QTest.keyClicks(page.focusWidget(), "n")
    QTest.keyClick(page.focusWidget(), Qt.Key.Key_Return)
    wait_for(qtbot, lambda: page.report is not None)
    assert page.report.kept.words == "Ended after step 1 (Gain)."


@pytest.mark.parametrize("path", [routine_text() + '\n[[step]]\ncommand = ["true"]\n'], indirect=True)
def test_commands_are_shown_in_full_and_allowed_once(page, qtbot, monkeypatch):
    asked = []

    def ask(parent, title, words, action, answered):
        asked.append(words)
        answered(True)

    monkeypatch.setattr(f"{type(page).__module__}.{ask_whether.__name__}", ask)
    assert measure(page, qtbot, "H20-006") == "passed"
    page.next_unit()
    assert measure(page, qtbot, "H20-007") == "passed"
    assert len(asked) == 1
    assert "true" in asked[0]


def test_a_routine_is_made_of_a_row_and_edited(page, qtbot, window, monkeypatch):
    from epidote.desktop.widgets.dialogs import FormDialog
    from epidote.desktop.windows.routine_editor.window import RoutineEditor

    for serial in ("H20-001", "H20-002", "H20-003"):
        measure(page, qtbot, serial)
        page.next_unit()
    overview = window.session.overview
    window.show_page("Matrix")
    window.matrix.selection.select([overview.subjects[1].id], overview.columns[0].id)
    monkeypatch.setattr(FormDialog, "exec", lambda dialog: True)
    edited = []

    def edit(editor):
        """Somebody at the editor: limits from good units, one step more, another order."""
        from epidote.measurement.routine.making import LimitsFrom, LimitSource, made_limits

        form = editor.form
        rows = tuple(s for s in window.session.overview.subjects if s.unit is not None)
        step = editor.steps[0]
        form.add_limits(made_limits(window.session.study, step, LimitsFrom(LimitSource.GOOD_UNITS, rows)))
        editor.add_step(PromptStep(prompt="Connect the post"))
        editor.form.title.setText("Connect")
        editor.form.changed.emit()
        editor.move_step(-1)
        assert editor.list.item(0).text() == "1  Connect"
        assert editor.problem.text() == ""
        editor.fields["name"].setText("")
        editor.check()
        assert "name" in editor.problem.text()
        editor.fields["name"].setText("Second check")
        editor.accept()
        edited.append(editor.routine)
        return True

    monkeypatch.setattr(RoutineEditor, "exec", edit)
    window.menus.carry_out_named("make routine")
    wait_for(qtbot, lambda: bool(edited))
    wait_for(qtbot, lambda: page.side.routines.findText("Second check") >= 0)
    routine = find_routine(window.session.study, "Second check")
    assert [type(step) for step in routine.step] == [PromptStep, MeasureStep, MeasureStep]
    assert "k = " in routine.step[1].limit[0].source
    window.session.undo.undo()
    wait_for(qtbot, lambda: page.side.routines.findText("Second check") < 0)


def test_statistics_over_units(page, qtbot, window):
    for number in (1, 2, 3, 4, 31):
        measure(page, qtbot, f"H20-{number:03d}")
        page.next_unit()
    page.tabs.button("statistics").click()
    view = page.statistics
    wait_for(qtbot, lambda: bool(view.readings))
    titles = [view.table.text(n, 0) for n in range(view.table.row_count())]
    assert titles[0].startswith("THD, Ch"), "what has limits stands first"
    view.table.selectRow(0)
    assert view.table.text(0, 1) == "5"
    assert view.table.text(0, 5) == "80.0 %"
    assert "Limits: at most -60.00 dB (Post check)" in view.words.text()
    for picture in ("histogram", "chart", "normal", "time"):
        view.pictures.button(picture).click()
        assert view.plot.picture.key == picture
        view.plot.grab()
    assert view.plot._points
    view.pictures.button("pairs").click()
    view.other.setCurrentIndex(1)
    view._show_picture()
    assert view.words.text().startswith("Correlation r =")
    view.pictures.button("curves").click()
    wait_for(qtbot, lambda: view.plot.plotted is not None)
    assert "mean of 5 units, ±2 s" in view.words.text()
    view.plot.grab()
    view.pictures.button("pairs").click()
    view.fields["serial"].setText("H20-00*")
    view.refresh()
    wait_for(qtbot, lambda: view.table.row_count() > 0 and view.table.text(0, 1) == "4")
    view.fields["since"].setText("someday")
    view.refresh()
    wait_for(qtbot, lambda: "is not a date" in view.problem.text())


def test_routines_and_passes_travel_as_files(page, qtbot, window, monkeypatch, tmp_path):
    from PySide6.QtWidgets import QFileDialog

    measure(page, qtbot, "H20-001")
    said = []
    monkeypatch.setattr(window.routines.window, "say", said.append, raising=False)
    for name, command in (
        *(("p.xlsx", "export passes"), ("p.csv", "export passes"), ("p.jsonl", "export passes")),
        *(("p.xml", "export passes"), ("r.toml", "export routine")),
    ):
        target = tmp_path / name
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, t=target: (str(t), ""))
        window.menus.carry_out_named(command)
        wait_for(qtbot, lambda t=target: t.exists())
    text = (tmp_path / "r.toml").read_text().replace("Post check", "Other check")
    (tmp_path / "r.toml").write_text(text)
    window.routines.take_file(tmp_path / "r.toml")
    wait_for(qtbot, lambda: page.side.routines.findText("Other check") >= 0)
    window.routines.take_file(tmp_path / "p.csv")
    wait_for(qtbot, lambda: any("p.csv" in words for words in said))


def test_a_study_is_merged_from_the_menu(page, qtbot, window, tmp_path):
    measure(page, qtbot, "H20-001")
    other = line_study(tmp_path / "Other")
    from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
    from epidote.study.store import Study

    with Study(other) as study:
        runner = RoutineRunner(study, find_routine(study, "Post check"))
        runner.run_unit(UnitRequest("H20-050"))
        runner.close()
    window.routines.merge_from(other)
    wait_for(qtbot, lambda: any(s.unit and s.unit.serial == "H20-050" for s in window.session.overview.subjects))


def test_without_a_routine_the_page_says_how_to_get_one(qtbot, window, page):
    entry = window.session.overview.of_kind("routine")[0]
    window.session.study.set_deleted("entry", entry.id, True)
    window.session.refresh()
    wait_for(qtbot, page.side.empty.isVisible)
    assert "Create routine from row" in page.side.empty.text()
    assert page.side.import_button.isVisible()
    assert not page.unit.begin.isEnabled()
