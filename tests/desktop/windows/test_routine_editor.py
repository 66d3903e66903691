"""The routine editor: each kind of step by its form, what is wrong in words, limits and pictures."""

import pytest
from PySide6.QtCore import Qt

from epidote.core.errors import SettingError
from epidote.core.routine.model import AnswerKind, CommandStep, MeasureStep, PromptStep, WaitStep
from epidote.core.routine.step_limit import StepLimit
from epidote.core.routine.text import routine_from_toml
from epidote.desktop.state.session import Session
from epidote.desktop.windows.routine_editor.limits_dialog import LimitsDialog
from epidote.desktop.windows.routine_editor.step_forms import form_of
from epidote.desktop.windows.routine_editor.window import RoutineEditor
from epidote.measurement.routine.making import LimitsFrom, LimitSource, made_limits
from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
from epidote.measurement.routine.storage import find_routine
from epidote.study.store import Study
from tests.desktop.driver import wait_for
from tests.routine_study import CHAIN, line_study, routine_text


@pytest.fixture
def app():
    from epidote.desktop.app import application

    return application()


@pytest.fixture
def session(app, qtbot, tmp_path):
    path = line_study(tmp_path / "Line")
    with Study(path) as study:
        runner = RoutineRunner(study, find_routine(study, "Post check"))
        for number in (1, 2, 3):
            runner.run_unit(UnitRequest(f"H20-{number:03d}"))
        runner.close()
    made = Session()
    made.open_path(path)
    wait_for(qtbot, lambda: made.overview is not None)
    yield made
    made.close()


@pytest.fixture
def editor(session, qtbot):
    from PySide6.QtWidgets import QWidget

    parent = QWidget()
    qtbot.addWidget(parent)
    yield RoutineEditor(session, parent, routine_from_toml(routine_text()), CHAIN)
    parent.close()


def saves(editor):
    from PySide6.QtWidgets import QDialogButtonBox

    return editor.buttons.button(QDialogButtonBox.StandardButton.Ok).isEnabled()


@pytest.mark.parametrize(
    "step",
    [
        MeasureStep(procedure="tone", title="Gain", settings={"duration": 0.5}, conditions={"gain": "low"}, repeats=2),
        MeasureStep(procedure="noise", on_failure="repeat 7 times", limit=(StepLimit(key="noise", unit="V", upper=1),)),
        PromptStep(prompt="Idle current", answer=AnswerKind.VALUE, unit="A", lower=0.1, upper=0.2, on_failure="stop"),
        PromptStep(prompt="Connect", picture="post.png"),
        WaitStep(wait="5 s", title="Settle"),
        WaitStep(wait="warm", procedure="tone", key="level", within=0.1, longest=60, settings={"duration": 0.2}),
        CommandStep(command=("relay", "--on", "a b"), longest=5),
    ],
    ids=lambda step: type(step).__name__,
)
def test_a_form_gives_back_the_step_it_was_made_of(app, qtbot, step):
    form = form_of(step)
    qtbot.addWidget(form)
    assert form.step() == step


def test_forms_say_what_is_wrong(app, qtbot):
    measure = form_of(MeasureStep(procedure="tone"))
    prompt = form_of(PromptStep(prompt="x", answer=AnswerKind.VALUE))
    wait = form_of(WaitStep(wait="5 s"))
    command = form_of(CommandStep(command=("x",)))
    for form in (measure, prompt, wait, command):
        qtbot.addWidget(form)
    for form, field, text, words in (
        (measure, measure.conditions, "gain", "is not a condition"),
        (measure, measure.repeats, "many", "repeats"),
        (prompt, prompt.highest, "much", "is not a number"),
        (prompt, prompt.prompt, "", "prompt"),
        (wait, wait.wait, "a while", "Use a time"),
        (wait, wait.within, "0", "within"),
        (command, command.command, 'x "y', "Correct the quotation marks"),
        (command, command.command, "", "command"),
    ):
        before = field.text()
        field.setText(text)
        with pytest.raises(SettingError, match=words):
            form.step()
        field.setText(before)
        form.step()


def test_steps_are_added_moved_and_removed(editor):
    titles = lambda: [editor.list.item(n).text() for n in range(editor.list.count())]  # noqa: E731
    assert titles() == ["1  Gain", "2  Noise"]
    editor.list.setCurrentRow(0)
    editor.add_step(WaitStep(wait="1 s"))
    assert titles() == ["1  Gain", "2  Wait 1.00 s", "3  Noise"]
    editor.move_step(1)
    assert titles() == ["1  Gain", "2  Noise", "3  Wait 1.00 s"]
    editor.move_step(1)
    assert titles()[2] == "3  Wait 1.00 s", "the last stays the last"
    editor.remove_step()
    editor.remove_step()
    editor.remove_step()
    assert titles() == ["1  Gain"], "one step must stay"
    editor._add_procedure("response")
    assert titles() == ["1  Gain", "2  Response"]
    editor.form.title.setText("Sweep")
    editor.form.changed.emit()
    assert titles()[1] == "2  Sweep"
    editor.accept()
    assert [type(step) for step in editor.routine.step] == [MeasureStep, MeasureStep]


def test_what_cannot_be_carried_out_cannot_be_saved(editor):
    assert saves(editor)
    for name, text, words in (
        ("name", "", "name"),
        ("pattern", "(", "regular expression"),
        ("conditions", "load", "is not a condition"),
    ):
        before = editor.fields[name].text()
        editor.fields[name].setText(text)
        editor.check()
        assert words in editor.problem.text()
        assert not saves(editor)
        editor.accept()
        assert editor.result() == 0
        editor.fields[name].setText(before)
        editor.check()
        assert saves(editor)
    editor.add_step(MeasureStep(procedure="tone", limit=(StepLimit(key="flatness", unit="dB", upper=1),)))
    assert "Step 2: “Single tone” has no reading “flatness”" in editor.problem.text()
    assert not saves(editor)


def test_limits_are_added_and_removed(editor):
    form = editor.form
    assert form.table.text(0, 3) == "-60.00 dB"
    form.add_limits([StepLimit(key="thd", unit="dB", upper=-70, source="tighter")])
    assert form.table.row_count() == 1, "in place of the one of the same reading and channel"
    form.add_limits([StepLimit(key="thd", unit="dB", upper=-70, channel=2)])
    assert form.table.row_count() == 2
    form.table.selectRow(0)
    form._remove()
    assert [limit.channel for limit in form.limits] == [2]
    assert editor.made().step[0].limit == tuple(form.limits)


def test_limits_come_from_what_rows_measured(editor, session, qtbot, monkeypatch):
    wishes = []
    rows = [s for s in session.overview.subjects if s.unit is not None]

    def choose(dialog):
        for n in range(3):
            dialog.list.item(n).setCheckState(Qt.CheckState.Checked)
        wishes.append(dialog.wish())
        return True

    monkeypatch.setattr(LimitsDialog, "exec", choose)
    editor.ask_for_limits()
    wait_for(qtbot, lambda: any("k = " in limit.source for limit in editor.form.limits))
    assert [row.id for row in wishes[0].rows] == [row.id for row in rows]


def test_the_limits_dialog_says_what_is_missing(app, session, qtbot):
    rows = [s for s in session.overview.subjects if s.unit is not None]
    dialog = LimitsDialog(None, MeasureStep(procedure="tone"), rows)
    qtbot.addWidget(dialog)
    assert dialog.wish() is None
    assert "Select 3 or more good units" in dialog.problem.text()
    for n in range(3):
        dialog.list.item(n).setCheckState(Qt.CheckState.Checked)
    assert dialog.wish().source is LimitSource.GOOD_UNITS
    assert not dialog.margin.isEnabled()
    dialog.source.setCurrentIndex(dialog.source.findData(LimitSource.GOLDEN))
    dialog.check()
    assert dialog.wish() is None
    assert dialog.problem.text() == "Select one row."
    for n in (1, 2):
        dialog.list.item(n).setCheckState(Qt.CheckState.Unchecked)
    dialog.margin.setText("much")
    dialog.check()
    assert "Enter a margin" in dialog.problem.text()
    dialog.margin.setText("0,5")
    dialog.uncertainty.setText("0.2")
    dialog.floating.setChecked(True)
    wish = dialog.wish()
    assert (wish.margin, wish.uncertainty, wish.floating, wish.rows) == (0.5, 0.2, True, (rows[0],))
    dialog.bands.setText("20 Hz 2")
    assert "two frequencies" in dialog.problem.text()
    assert dialog.wish() is None
    dialog.bands.setText("20 Hz 2; 10 kHz 1")
    assert dialog.wish().bands == ((20.0, 2.0), (10000.0, 1.0))


def test_each_source_of_limits(session):
    study, step = session.study, routine_from_toml(routine_text()).step[0]
    rows = tuple(s for s in session.overview.subjects if s.unit is not None)
    (one, *_) = made_limits(study, step, LimitsFrom(LimitSource.ROW, rows[:1], 2.0, "thd", uncertainty=0.3))
    run = study.queries.latest_run(rows[0].id, study.queries.columns()[0].id)
    assert one.upper[0][1] == pytest.approx(run.reading("thd", 1).value + 2.0)
    assert (one.uncertainty, one.channel) == (0.3, 1)
    golden = made_limits(study, step, LimitsFrom(LimitSource.GOLDEN, rows[:1], 1.5, "thd"))
    assert {(limit.golden, limit.upper[0][1]) for limit in golden} == {(rows[0].full_name, 1.5)}
    spectrum = made_limits(study, step, LimitsFrom(LimitSource.GOLDEN, rows[:1], 3.0, "spectrum", floating=True))
    assert all(limit.floating and limit.x_unit == "Hz" for limit in spectrum)
    by_band = ((100.0, 3.0), (1000.0, 1.0))
    spectrum = made_limits(study, step, LimitsFrom(LimitSource.GOLDEN, rows[:1], 3.0, "spectrum", bands=by_band))
    assert (spectrum[0].upper, spectrum[0].lower) == (by_band, ((100.0, -3.0), (1000.0, -1.0)))
    good = made_limits(study, step, LimitsFrom(LimitSource.GOOD_UNITS, rows, key="level"))
    assert [limit.channel for limit in good] == [1, 2]
    other = step.model_copy(update={"settings": {"duration": 0.7}})
    with pytest.raises(Exception, match="No row was measured with the settings"):
        made_limits(study, other, LimitsFrom(LimitSource.ROW, rows[:1]))


def test_a_picture_is_kept_with_the_study(editor, session, qtbot, monkeypatch, tmp_path):
    from PySide6.QtGui import QImage
    from PySide6.QtWidgets import QFileDialog

    picture = tmp_path / "post.png"
    image = QImage(8, 8, QImage.Format.Format_RGB32)
    image.fill(0)
    image.save(str(picture))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(picture), ""))
    editor.add_step(PromptStep(prompt="Connect the post"))
    editor._ask_for_picture()
    wait_for(qtbot, lambda: editor.steps[1].picture == "post.png")
    assert session.study.entries.all("picture")[0].data["name"] == "post.png"
