"""The Listen page over a stand-in, driven by its keys: letters, tests from first trial to result, differences."""

import re
import shutil
import threading
import types
import zipfile

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QLabel

from epidote.desktop.preferences import preferences
from epidote.measurement.listening.answers import Sheet, reveal_test
from epidote.measurement.listening.clips import ORIGINAL, SAME
from epidote.measurement.listening.sealed_test import sealed_tests
from tests.conftest import measured
from tests.desktop.driver import LONGEST_WAIT, wait_for

NAMES = ("Havelmar A25", "Plain Wire")
pytestmark = pytest.mark.xdist_group("listen page")


@pytest.fixture(scope="session")
def heard_study(tmp_path_factory):
    """A study with programme measured on an amplifier and on a wire; copied for each test."""
    from epidote.core.chain.chain import Chain
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.core.settings import make_settings
    from epidote.measurement.request import add_column
    from epidote.study.store import create_study

    made = tmp_path_factory.mktemp("heard") / "Heard.epidote"
    study = create_study(made, "Heard")
    study.set_setting("chain", chain_to_toml(Chain(name="Bench", rate=48000, device="standin:wire", output_ceiling=-6)))
    study.add_subject(study.add_unit("Havelmar", "A25"), {}, "standin:havelmar-a25")
    study.add_subject(study.add_unit("Plain", "Wire"), {}, "standin:wire")
    settings = {"duration": 1.0, "level": -30}
    add_column(study, "programme", make_settings(procedure("programme").Settings, settings))
    for row in (1, 2):
        measured(study, row, 0)
    study.close()
    return made


@pytest.fixture
def path(heard_study, tmp_path):
    return shutil.copytree(heard_study, tmp_path / "Heard.epidote")


@pytest.fixture
def page(window, qtbot):
    window.show_page("Listen")
    wait_for(qtbot, lambda: window.page_named("Listen") is not None)
    made = window.page_named("Listen")
    wait_for(qtbot, lambda: made.listening.drawn is not None and not made.listening.busy)
    yield made
    preferences().remove("listener")


def press(page, key) -> None:
    page.setFocus()
    QTest.keyClick(page, key)


def hear_all(page, qtbot) -> None:
    """Play every label of the trial until it counts as heard."""
    sitting = page.listening.sitting
    for label, target in list(page.view.letters.targets.items()):
        QTest.mouseClick(target, Qt.MouseButton.LeftButton)
        wait_for(qtbot, lambda label=label: label in sitting.heard)


def begin(page, qtbot, kind, trials):
    page.view.kinds.button(kind).click()
    page.design.listener.setText("Ada")
    page.design.trials.setText(str(trials))
    wait_for(qtbot, page.design.start.isEnabled)
    page.design.start.click()
    wait_for(qtbot, lambda: page.listening.in_test)


def reveal(page, qtbot) -> None:
    """Press the button that shows the result, once the answers are saved and their test is selected."""
    wait_for(qtbot, lambda: page.views.currentWidget() is page.tests and page.tests.reveal.isEnabled())
    assert "Answers given after that do not count" in page.tests.result.finding.text()
    QTest.mouseClick(page.tests.reveal, Qt.MouseButton.LeftButton)


def texts_in_view(widget) -> str:
    """All words and tooltips that can be seen."""
    found = []
    for one in (*widget.findChildren(QLabel), *widget.findChildren(QAbstractButton)):
        if one.isVisible():
            found += [one.text(), one.toolTip(), one.accessibleName()]
    return "\n".join(found)


def test_rows_are_clips_under_letters_at_once(page, qtbot):
    assert list(page.view.letters.targets) == ["A", "B"]
    assert set(page.listening.drawn.test.letters.values()) == set(NAMES)
    assert "within" in page.matched.words.text() and page.matched.caution.isHidden()
    assert not page.playback.playing, "nothing sounds before somebody asks for it"
    press(page, Qt.Key.Key_B)
    wait_for(qtbot, lambda: page.playback.place > 0.1)
    assert page.playback.label == "B" and page.view.letters.targets["B"].playing
    press(page, Qt.Key.Key_P)
    assert not page.playback.playing
    page.view.loop.set_stretch(0.6, 0.9)
    assert page.playback.loop == pytest.approx((0.6, 0.9)) and "0.6 s to 0.9 s" in page.view.loop_words.text()
    press(page, Qt.Key.Key_A)
    wait_for(qtbot, lambda: 0.6 <= page.playback.place < 0.9)
    assert page.output.level.maximum() == -6, "the chain's ceiling"
    page.output.level.setValue(-6)
    assert page.playback.level == -6
    page.output.device_chosen.emit("standin:wire")
    assert page.playback.level == -40, "another device begins quietly"
    preferences().remove("listening device")


def test_clips_sound_though_the_device_opens_before_the_window_goes_on(page, qtbot, monkeypatch):
    from epidote.desktop.state import live_audio

    live = page.session.live

    class FirstThread(threading.Thread):
        """Has the processor until the device is open."""

        def start(self) -> None:
            super().start()
            wait_for(qtbot, lambda: live._live is not None)

    names = types.SimpleNamespace(Thread=FirstThread, Event=threading.Event, Lock=threading.Lock)
    monkeypatch.setattr(live_audio, "threading", names)
    press(page, Qt.Key.Key_A)
    wait_for(qtbot, lambda: page.playback.place > 0.1)


def test_a_forced_choice_is_taken_by_keys_and_says_nothing_before_its_end(page, qtbot):
    begin(page, qtbot, "forced-choice", 5)
    test = page.listening.sitting.test
    assert list(page.view.letters.targets) == ["A", "?", "B"]
    assert not page.view.answers.choices["A"].isEnabled(), "nothing was heard yet"
    press(page, Qt.Key.Key_1)
    assert page.listening.sitting.trial == 1
    for trial in range(1, 6):
        assert page.view.trial.text() == f"Trial {trial} of 5"
        press(page, Qt.Key.Key_Space)
        assert page.playback.label == "?"
        hear_all(page, qtbot)
        shown = texts_in_view(page)
        assert not any(name in shown for name in NAMES), "nothing tells the letters apart"
        assert not re.search(r"\bcorrect\b", shown.replace("correct needed", "")), "statistics are hidden until the end"
        press(page, Qt.Key.Key_1 if test.key[trial - 1] == "A" else Qt.Key.Key_2)
    reveal(page, qtbot)
    wait_for(qtbot, lambda: "audible difference demonstrated (5 of 5" in page.tests.result.finding.text().casefold())
    assert page.views.currentWidget() is page.tests
    assert "A was" in page.tests.result.details.text()
    assert reveal_test(page.session.study, test.number).test.commitment_kept


def test_a_lost_device_costs_the_trial_and_no_answer(page, qtbot):
    begin(page, qtbot, "forced-choice", 3)
    hear_all(page, qtbot)
    page.view.answers.choices["A"].click()
    hear_all(page, qtbot)
    assert page.view.answers.choices["A"].isEnabled()
    said = []
    page.failed.connect(said.append)
    page.session.live.stop()  # what a device that vanishes leads to
    assert "this trial is repeated" in said[0] and "in use by another measurement" in said[0]
    assert not page.view.answers.choices["A"].isEnabled() and page.view.trial.text() == "Trial 2 of 3"
    hear_all(page, qtbot)
    assert page.view.answers.choices["A"].isEnabled()


def test_a_test_is_left_gone_on_with_and_stopped_early(page, qtbot):
    begin(page, qtbot, "preference", 4)
    hear_all(page, qtbot)
    page.notes.text.setPlainText("brighter")
    page.view.answers.choices["B"].click()
    wait_for(qtbot, lambda: page.view.trial.text() == "Trial 2 of 4")
    page.test.leave.click()
    page.tabs.button("tests").click()
    wait_for(qtbot, lambda: page.tests.table.row_count() == 1)
    page.tests.table.selectRow(0)
    assert page.tests.text_of(0) == "1 of 4 answered"
    assert not page.tests.reveal.isEnabled()
    page.tests.go_on.click()
    wait_for(qtbot, lambda: page.listening.in_test)
    assert page.view.trial.text() == "Trial 2 of 4"
    page.listening.stop_early()
    wait_for(qtbot, lambda: page.tests.text_of(0) == "Answered")
    page.tests.sit_another("Ada")
    assert page.views.currentWidget() is page.tests, "the name is there already"
    page.tests.sit_another("Bo")
    wait_for(qtbot, lambda: page.listening.in_test)
    assert page.listening.sitting.sheet.listener == "Bo"
    hear_all(page, qtbot)
    page.view.answers.choices["A"].click()
    page.listening.stop_early()
    reveal(page, qtbot)
    wait_for(qtbot, lambda: "stopped before its end" in page.tests.result.finding.text())
    assert "brighter" in page.tests.result.details.text() and "Bo:" in page.tests.result.details.text()


def test_grades_go_to_the_clips_that_stood_under_the_letters(page, qtbot):
    page.clips.rows.item(1).setCheckState(Qt.CheckState.Unchecked)
    begin(page, qtbot, "grading", 1)
    assert list(page.view.letters.targets) == ["Reference", "A", "B", "C"]
    wait_for(qtbot, lambda: "Excellent" in texts_in_view(page.view.answers))
    hear_all(page, qtbot)
    assert not page.view.answers.next.isEnabled(), "nothing is graded yet"
    label = page.playback.label
    page.view.answers.grades["A"].setValue(55)
    page.session.refresh()  # somebody's edit, or a run that ends meanwhile
    with qtbot.waitSignal(page.session.overview_changed, timeout=LONGEST_WAIT):
        page.session.refresh()
    assert page.playback.label == label, "what sounds does not change by itself"
    assert page.view.answers.grades["A"].value() == 55
    sitting = page.listening.sitting
    given = {"original": 100, "Havelmar A25": 80, "low anchor": 10}
    for target in sitting.targets[1:]:
        page.view.answers.grades[target.label].setValue(given[sitting.test.letters[target.code]])
    page.view.answers.next.click()
    reveal(page, qtbot)
    wait_for(qtbot, lambda: "Havelmar A25: median 80" in page.tests.result.finding.text())
    figures = reveal_test(page.session.study).together.figures
    assert {name: g["median"] for name, g in figures["grades"].items()} == given
    assert ORIGINAL in given


def test_a_test_is_handed_out_answered_and_revealed(page, qtbot, tmp_path):
    out = tmp_path / "out.zip"
    said = []
    page.session.failed.connect(said.append)
    page.view.kinds.button("forced-choice").click()
    page.listening.hand_out(page.clips.choice(page.view.kind), page.design.design(), out)
    wait_for(qtbot, lambda: out.exists() and bool(sealed_tests(page.session.study)))
    with zipfile.ZipFile(out) as archive:
        lines = archive.read("answers.csv").decode().splitlines()
    test = sealed_tests(page.session.study)[0]
    sheet = tmp_path / "ada.csv"
    answers = [f"{n},{'A' if k == 'A' else 'B'}" for n, k in enumerate(test.key, start=1)]
    sheet.write_text("\n".join([lines[0], "# listener: Ada", lines[2], *answers]))
    page.show_part("tests")
    wait_for(qtbot, lambda: page.tests.table.row_count() == 1)
    page.tests.take_in([sheet])
    wait_for(qtbot, lambda: page.tests.text_of(0) == "Answered")
    page.tests.table.selectRow(0)
    assert page.tests.another.isEnabled()
    page.tests.show_result(out)
    wait_for(qtbot, lambda: "16 of 16" in page.tests.result.finding.text())
    assert "Files verified: unchanged" in page.tests.result.details.text()
    wait_for(qtbot, lambda: page.tests.text_of(0) == "Revealed")
    assert not page.tests.another.isEnabled() and not page.tests.go_on.isEnabled()
    assert "16 of 16" in page.tests.result.finding.text(), "what was found stays in view"
    late = tmp_path / "late.csv"
    late.write_text(sheet.read_text().replace("Ada", "Bo"))
    page.tests.take_in([late])
    wait_for(qtbot, lambda: "was revealed" in said[-1] if said else False)


def test_the_control_plays_one_clip_under_both_letters(page, qtbot):
    page.clips.control.setChecked(True)
    wait_for(qtbot, lambda: not page.listening.busy and page.listening.prepared.choice.control)
    sounds = list(page.listening.drawn.sounds.values())
    np.testing.assert_array_equal(*sounds)
    assert any(name.endswith(SAME) for name in page.listening.drawn.test.letters.values())


def test_free_listening_keeps_notes_and_shows_the_letters_after(page, qtbot):
    press(page, Qt.Key.Key_B)
    page.notes.text.setPlainText("less hum")
    name = page.listening.drawn.test.letters[page.listening.sitting.targets[1].code]
    page.design.save.click()
    wait_for(qtbot, lambda: f"B was {name}" in page.tests.result.finding.text())
    assert "B: less hum" in page.tests.result.details.text()


def test_differences_are_drawn_and_heard_at_the_worst_moment(page, qtbot):
    page.tabs.button("differences").click()
    view = page.differences
    wait_for(qtbot, lambda: view.graph.figure() is not None and len(view.graph.figure().traces) == 2)
    assert view.table.row_count() == 2
    view.views.button("noise_to_mask_time").click()
    assert view.graph.figure().x_unit == "s" and len(view.graph.figure().pins) == 1
    view.worst.click()
    wait_for(qtbot, lambda: page.playback.playing)
    worst = view.graph.figure().pins[0].x
    assert page.playback.loop == pytest.approx((max(0.0, worst - 1), worst + 1))
    assert "raised by" in view.words.text()
    page.tabs.button("listening").click()
    wait_for(qtbot, lambda: not page.playback.playing)
    assert page.playback.seconds > 2, "the clips again"


def test_unequal_levels_need_a_reason_that_stays_with_the_result(page, qtbot, monkeypatch):
    prepared = page.listening.prepared
    object.__setattr__(prepared.matched, "difference", 0.8)
    page.view.kinds.button("forced-choice").click()
    assert page.design.reason.isVisible() and "0.80 dB" in page.matched.caution.text()
    said = []
    page.session.failed.connect(said.append)
    page.design.start.click()
    assert "still differ by 0.80 dB" in said[0] and not page.listening.in_test
    page.design.reason.setText("the tilt is what is asked for")
    page.design.start.click()
    wait_for(qtbot, lambda: page.listening.in_test)
    assert page.listening.sitting.test.overruled == "the tilt is what is asked for"
    assert isinstance(page.listening.sitting.sheet, Sheet)
