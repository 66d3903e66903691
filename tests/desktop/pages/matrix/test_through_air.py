"""Many microphones, seats and waiting cells in the window, on a study of sound through air."""

import json
import os
import shutil

import numpy as np
import pytest
import soundfile

from epidote.core.chain.chain import Chain
from epidote.core.results.channels import AVERAGE
from epidote.core.settings import make_settings
from epidote.core.signals.resampling import resample
from epidote.desktop.pages.matrix.panels.conditions.panel import ConditionsPanel
from epidote.desktop.shell import dropped_files
from epidote.desktop.widgets.channel_choice import ChannelChoice, group_of
from tests.desktop.driver import wait_for

RATE = 48000
NAMES = tuple(f"seat {seat}, mic {mic}" for seat in (1, 2) for mic in (1, 2, 3))
pytestmark = pytest.mark.xdist_group("through air")


def noise(gain, seed=0, seconds=3.0):
    x = np.random.default_rng(seed).standard_normal((round(seconds * RATE), 6)) * 0.02 * gain
    return x * np.array([1.0, 0.9, 1.1, 1.0, 0.95, 1.05])


@pytest.fixture(scope="module")
def air(tmp_path_factory):
    """Two rows with six microphones, and one that waits for its recording; copied for each test."""
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.measurement.chain_for_row import chain_for_subject
    from epidote.measurement.offline import import_recording
    from epidote.measurement.request import RunPlan, add_column
    from epidote.measurement.waiting import await_recording
    from epidote.study.store import create_study

    folder = tmp_path_factory.mktemp("air")
    study = create_study(folder / "Air.epidote", "Air")
    chain = Chain(
        inputs=(1, 2, 3, 4, 5, 6), input_names=NAMES, input_full_scale=1.0, microphone_sensitivities=(0.05,) * 6
    )
    study.set_setting("chain", chain_to_toml(chain))
    unit = study.add_unit("Havelmar", "Dome")
    levels = procedure("band-levels")
    settings = make_settings(levels.Settings, {"duration": 3.0, "background": 0.0})
    column = add_column(study, "band-levels", settings)
    for seat, gain in (("1", 1.0), ("2", 1.5)):
        row = study.add_subject(unit, {"seat": seat})
        soundfile.write(folder / f"{seat}.wav", noise(gain), RATE, subtype="FLOAT")
        plan = RunPlan(row.id, column.id, "band-levels", settings, chain_for_subject(study, row))
        import_recording(study, plan, folder / f"{seat}.wav", None)
    row = study.add_subject(study.add_unit("Merrick", "T1"), {})
    sweep = make_settings(procedure("response").Settings, {"duration": 1.0})
    column = add_column(study, "response", sweep)
    plan = RunPlan(row.id, column.id, "response", sweep, Chain())
    await_recording(study, plan, folder / "sweep.wav", "from its library")
    study.close()
    return folder


@pytest.fixture
def window(qtbot, air, tmp_path):
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    assert os.environ["QT_QPA_PLATFORM"] == "offscreen"
    application()
    made = MainWindow()
    qtbot.addWidget(made)
    made.show()
    made.session.open_path(shutil.copytree(air / "Air.epidote", tmp_path / "Copy.epidote"))
    wait_for(qtbot, lambda: made.matrix.built and bool(made.session.overview))
    yield made
    made.close()


def select(window, qtbot, rows, column):
    seen = window.session.overview
    ids = [s.id for s in seen.subjects if not s.is_baseline]
    window.matrix.selection.select([ids[r] for r in rows], seen.columns[column].id)


def test_the_average_is_shown_first_and_microphones_by_their_names(window, qtbot):
    select(window, qtbot, [0, 1], 0)
    graph = window.matrix.graph_panel
    wait_for(qtbot, lambda: graph.graph.figure() is not None and len(graph.graph.figure().traces) == 2)
    assert {t.channel for t in graph.graph.figure().traces} == {AVERAGE}
    assert graph.channels.list.text() == "Average"
    assert window.matrix.readings.channel.list.text() == "Average"
    sections = [a.text() for a in graph.channels.menu.actions() if a.isSeparator() and a.text()]
    assert sections == ["seat 1", "seat 2"]
    graph.channels.action("5").trigger()
    wait_for(qtbot, lambda: len(graph.graph.figure().traces) == 4)
    assert graph.channels.list.text() == "2 channels"
    only = next(a for a in graph.channels.menu.actions() if a.text() == "Only seat 2")
    only.trigger()
    wait_for(qtbot, lambda: {t.channel for t in graph.graph.figure().traces} == {4, 5, 6})


def test_seats_are_compared_by_band(window, qtbot):
    """A gain of 1.5 is 3.52 dB in every band."""
    select(window, qtbot, [0, 1], 0)
    graph = window.matrix.graph_panel
    wait_for(qtbot, lambda: graph.graph.figure() is not None and len(graph.graph.figure().traces) == 2)
    window.matrix.beside.show("conditions")
    wait_for(qtbot, lambda: window.matrix.findChild(ConditionsPanel) is not None)
    panel = window.matrix.findChild(ConditionsPanel)
    wait_for(qtbot, lambda: panel.reading.findData("uniformity by band") >= 0)
    place = panel.reading.findData("uniformity by band")
    panel.reading.setCurrentIndex(place)
    panel.reading.activated.emit(place)
    wait_for(qtbot, panel.bars.isVisible)
    assert "Largest: 3.52 dB" in panel.words.text()
    assert "lower is more uniform" in panel.words.text()
    assert panel.over.text() == "by band, over seat"
    place = panel.reading.findData("map over condition")
    assert panel.reading.itemText(place) == "Map over seat"
    panel.reading.setCurrentIndex(place)
    panel.reading.activated.emit(place)
    wait_for(qtbot, panel.map.isVisible)
    assert not panel.map.grab().isNull()
    assert not panel.bars.isVisible()
    place = panel.reading.findData("level_a")
    panel.reading.setCurrentIndex(place)
    panel.reading.activated.emit(place)
    wait_for(qtbot, lambda: not panel.map.isVisible())
    assert panel.table.isVisible()


def heard(air, folder):
    """The exported file as a recorder on another clock holds it."""
    x, _ = soundfile.read(air / "sweep.wav")
    y = 0.5 * resample(x, 1 - 20e-6, -9000.3, x.size + 40000)
    soundfile.write(folder / "heard.wav", y + 1e-5 * np.random.default_rng(0).standard_normal(y.size), RATE)
    return folder / "heard.wav"


def test_a_waiting_cell_says_for_what_and_is_completed_by_a_drop(window, qtbot, air, tmp_path):
    from PySide6.QtCore import QMimeData, QUrl

    select(window, qtbot, [2], 1)
    wait_for(qtbot, lambda: window.matrix.exchange.waiting_run() is not None)
    run = window.matrix.exchange.waiting_run()
    readings = window.matrix.readings
    wait_for(qtbot, lambda: "Waiting for recording of sweep.wav" in readings.likeness.text())
    assert "from its library" in readings.likeness.text()
    wrong = tmp_path / "wrong.wav"
    soundfile.write(wrong, noise(1.0, seconds=6.0)[:, 0], RATE)
    window.matrix.exchange.attach(run, wrong)
    wait_for(qtbot, lambda: "goes on waiting" in window.message.text())
    dropped = QMimeData()
    dropped.setUrls([QUrl.fromLocalFile(str(heard(air, tmp_path)))])
    dropped_files.take(dropped, window.session, window.files)
    wait_for(qtbot, lambda: window.matrix.exchange.waiting_run() is None)
    made = window.session.overview.runs[run.subject_id, run.column_id]
    assert made.id == run.id
    assert made.reading("gain_1k").value == pytest.approx(-6.02, abs=0.05)


def test_channels_are_grouped_by_what_stands_before_the_comma():
    assert [group_of(n) for n in ("seat 2, mic 4", "Ch 3", "row 1, seat 2, left")] == ["seat 2", "", "row 1, seat 2"]


def test_one_of_many_channels_is_chosen_where_only_one_can_be(qtbot):
    choice = ChannelChoice()
    qtbot.addWidget(choice)
    chosen = []
    choice.chosen.connect(chosen.append)
    choice.set_options([(str(n), f"Ch {n}") for n in range(1, 7)], ["2"])
    assert choice.on() == ("2",)
    choice.action("4").trigger()
    assert chosen == [("4",)]
    assert choice.list.text() == "Ch 4"
    choice.set_options([("1", "Ch 1"), ("2", "Ch 2")], ["1"])
    assert choice.button("1").isChecked()


def test_readings_of_the_average_are_exported_under_its_name(run, air, tmp_path):
    import shutil

    study = shutil.copytree(air / "Air.epidote", tmp_path / "Copy.epidote")
    assert run("study", "export", study, tmp_path / "r.csv")[0] == 0
    lines = (tmp_path / "r.csv").read_text().splitlines()
    assert any(",average," in line for line in lines)
    shown = json.loads(run("study", "show", study, "--json")[1])
    assert {r["channel"] for r in shown["runs"][0]["readings"]} == {"average", 1, 2, 3, 4, 5, 6}


def test_a_gate_is_placed_by_a_pin(qtbot, tmp_path):
    """A loudspeaker before a wall, measured with an open gate; a pin before the reflection becomes the gate."""
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow
    from epidote.measurement.request import add_column
    from epidote.study.store import create_study
    from tests.conftest import measured

    study = create_study(tmp_path / "Gate.epidote", "Gate")
    chain = Chain(input_full_scale=1.0, output_full_scale=4.0, microphone_sensitivities=(0.05, 0.008))
    study.set_setting("chain", chain_to_toml(chain))
    study.add_subject(study.add_unit("Kelwin", "T2"), {}, "standin:kelwin-t2")
    values = {"duration": 1.0, "level": -20, "gate": "none"}
    add_column(study, "response", make_settings(procedure("response").Settings, values))
    measured(study)
    study.close()
    application()
    window = MainWindow()
    qtbot.addWidget(window)
    window.show()
    window.session.open_path(tmp_path / "Gate.epidote")
    page = window.matrix
    wait_for(qtbot, lambda: page.built and bool(window.session.overview))
    select(window, qtbot, [0], 0)
    wait_for(qtbot, lambda: page.graph_panel.graph.figure() is not None)
    assert "Show the impulse response first" in page.pins.why_not_applied()
    page.look.show_view("energy_time")
    wait_for(qtbot, lambda: page.look.placed_setting == "gate")
    assert "Set a pin first" in page.pins.why_not_applied()
    page.pins.add(0.0105)
    wait_for(qtbot, lambda: not page.pins.why_not_applied())
    wait_for(qtbot, lambda: any("10.50 ms" in row.title for row in page.readings.shown_table.rows))
    before = page.selection.current_run().id
    page.pins.apply()
    wait_for(qtbot, lambda: page.selection.current_run() is not None and page.selection.current_run().id != before)
    made = page.selection.current_run()
    assert made.settings["gate"] == "10.5ms"
    assert made.reading("lowest_frequency").value == pytest.approx(1 / 0.0105, rel=1e-3)
    window.close()


@pytest.fixture(scope="module")
def measured_loudspeaker(tmp_path_factory):
    """A loose loudspeaker before two microphones, and what it was measured with; copied for each test."""
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.measurement.request import add_column
    from epidote.study.store import create_study
    from tests.conftest import measured

    path = tmp_path_factory.mktemp("loudspeaker") / "Loudspeaker.epidote"
    study = create_study(path, "Loudspeaker")
    chain = Chain(
        name="Microphones",
        input_full_scale=1.0,
        output_full_scale=4.0,
        microphone_sensitivities=(0.05, 0.008),
        microphone_serials=("KM-0172", ""),
    )
    study.set_setting("chain", chain_to_toml(chain))
    study.add_subject(study.add_unit("Kelwin", "T2"), {"state": "loose"}, "standin:kelwin-t2")
    for key, values in (
        ("impulsive-distortion", {"duration": 5.0, "level": "-6"}),
        ("microphone", {"task": "source", "gate": "8ms", "duration": 1.0}),
    ):
        add_column(study, key, make_settings(procedure(key).Settings, values))
    for column in (0, 1):
        measured(study, column=column)
    add_column(study, "response", make_settings(procedure("response").Settings, {"duration": 1.0}))
    study.close()
    return path


@pytest.fixture
def loudspeaker(measured_loudspeaker, qtbot, tmp_path):
    """The window with that study open."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    application()
    window = MainWindow()
    qtbot.addWidget(window)
    window.show()
    window.session.open_path(shutil.copytree(measured_loudspeaker, tmp_path / "Loudspeaker.epidote"))
    wait_for(qtbot, lambda: window.matrix.built and bool(window.session.overview))
    yield window
    window.close()


def test_a_rattle_is_seen_and_its_sound_saved(loudspeaker, qtbot, tmp_path):
    window = loudspeaker
    select(window, qtbot, [0], 0)
    panel = window.matrix.readings
    wait_for(qtbot, panel.map.isVisible)
    from PySide6.QtWidgets import QMenu

    menu = QMenu()
    window.air.fill_sounds(menu)
    assert [a.text().split(":")[0] for a in menu.actions()] == ["Play", "Save as file"]
    assert window.air.why_no_sound() == ""
    run = window.matrix.selection.current_run()
    from epidote.core.procedures.registry import procedure

    window.air.save_sound(run, procedure(run.procedure).sounds[0], tmp_path / "rattle.wav")
    wait_for(qtbot, lambda: "rattle.wav saved" in window.message.text())
    sound, rate = soundfile.read(tmp_path / "rattle.wav")
    assert rate == RATE
    assert np.abs(sound).max() == pytest.approx(10 ** (-3 / 20), rel=0.01)
    window.air.play_sound(run, procedure(run.procedure).sounds[0])
    wait_for(qtbot, lambda: "Playing" in window.message.text())
    window.silence()


def test_a_source_is_kept_with_the_chain_and_undone(loudspeaker, qtbot):
    from epidote.core.chain.chain_toml import chain_from_toml

    window = loudspeaker
    select(window, qtbot, [0], 1)
    wait_for(qtbot, lambda: window.air.why_no_source() == "")
    window.air._keep(window.matrix.selection.current_run(), "stand")
    wait_for(qtbot, lambda: chain_from_toml(window.session.overview.settings["chain"]).source is not None)
    kept = chain_from_toml(window.session.overview.settings["chain"]).source
    assert (kept.place, kept.microphone) == ("stand", "KM-0172")
    window.session.undo.undo()
    wait_for(qtbot, lambda: chain_from_toml(window.session.overview.settings["chain"]).source is None)


def test_a_row_has_a_chain_of_its_own_which_the_strip_shows(loudspeaker, qtbot):
    from PySide6.QtWidgets import QMenu

    window = loudspeaker
    select(window, qtbot, [0], 0)
    menu = QMenu()
    window.air.fill_row_chain(menu)
    copy = next(a for a in menu.actions() if a.text() == "A copy of the study's chain")
    copy.trigger()
    wait_for(qtbot, lambda: "this row's own chain" in window.strip.items["device"].text())
    window.session.undo.undo()
    wait_for(qtbot, lambda: "own chain" not in window.strip.items["device"].text())


def test_a_sound_level_stands_in_the_field_of_the_generator_level(loudspeaker, qtbot):
    """80 dB(A) at the microphones: what is measured then lies within 0.5 dB of it at 1 kHz."""
    window = loudspeaker
    select(window, qtbot, [0], 2)
    page = window.matrix
    wait_for(qtbot, lambda: page.run_panel.form is not None and page.run_panel.go.isVisible())
    form = page.run_panel.form
    form.set_text("level", "74 dB(A)")
    assert form.sound_level() == "74 dB(A)"
    assert "after bursts that find 74 dB(A)" in page.run_panel.estimate.text()
    assert page.run_panel.go.isEnabled()
    window.session.runs.checks = False
    page.run_panel._go()
    window.session.runs.asked.connect(lambda _: window.session.runs.answer(go_on=True))
    wait_for(qtbot, lambda: page.selection.current_run() is not None)
    run = page.selection.current_run()
    assert "74.0 dB(A) at" in run.device
    assert run.settings["level"] != -6.0


def test_a_command_is_asked_for_and_played(loudspeaker, qtbot, tmp_path):
    from epidote.desktop.windows.command_dialog import CommandDialog

    window = loudspeaker
    select(window, qtbot, [0], 2)
    page = window.matrix
    wait_for(qtbot, lambda: page.run_panel.form is not None and page.run_panel.go.isVisible())
    asked = []
    window.session.runs.measure = asked.extend
    page.run_panel.after_command.click()
    dialog = page.findChild(CommandDialog)
    assert dialog is not None and "Select the recording" in dialog.problem.text()
    clip = tmp_path / "wake.wav"
    soundfile.write(clip, noise(1.0, seconds=0.5), RATE)
    dialog.clip.setText(str(clip))
    dialog.time_out.setText("500 s")
    assert "Enter a time up to 120 s" in dialog.problem.text()
    dialog.time_out.setText("4 s")
    assert dialog.problem.text() == ""
    dialog.accept()
    assert asked[0].command == (clip, 4.0)
