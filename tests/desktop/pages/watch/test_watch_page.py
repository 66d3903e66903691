"""The Watch page over stand-ins: live spectrum and figures, generator, states held, compared and kept."""

import threading

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from epidote.audio import resampling
from epidote.core.stimuli.generator import Waveform
from tests.conftest import sine
from tests.desktop.driver import wait_for


@pytest.fixture
def page(window, qtbot):
    window.show_page("Watch")
    made = window.page_named("Watch")
    wait_for(qtbot, lambda: made.row.count() == 3)
    made.row.setCurrentIndex(0)
    yield made
    window.session.live.stop()
    window.session.live.wait()


def watching(page, qtbot):
    page.listen.click()
    wait_for(qtbot, lambda: page.frame is not None and page.frame.filled and bool(page.canvas.live_layers))


def test_it_shows_what_comes_in(page, qtbot):
    watching(page, qtbot)
    assert page.listen.text() == "Stop"
    assert page.frame.high.shape == (2, page.canvas.view().width)
    assert np.nanmax(page.frame.high) < -60, "nothing plays"
    wait_for(qtbot, lambda: page.figures.cells["level"][0].text().endswith("V"))
    image = page.canvas.grab().toImage()
    colour = page.theme.row(0).rgb()
    assert any(
        image.pixel(x, y) == colour for x in range(60, image.width() - 30, 3) for y in range(20, image.height() - 30)
    )


def test_the_generator_plays_with_one_key_and_stops_with_escape(page, window, qtbot):
    watching(page, qtbot)
    page.canvas.setFocus()
    QTest.keyClick(page.canvas, Qt.Key.Key_Space)
    assert page.generator.on
    wait_for(qtbot, lambda: np.nanmax(page.frame.high[0]) > -25)
    wait_for(qtbot, lambda: page.figures.cells["frequency"][0].text() == "1.00000 kHz")
    assert page.figures.cells["thd_n"][0].text().endswith("dB")
    window.actions_by_name["stop"].trigger()
    assert not page.generator.on
    wait_for(qtbot, lambda: np.nanmax(page.frame.high[0]) < -60)


def test_the_generator_s_programmes(page):
    bar = page.generator
    bar.switch.setChecked(True)
    bar.level.setText("1 V")
    assert bar.programme().level == pytest.approx(20 * np.log10(1 / 4.0)), "through the output's full scale"
    bar.kind.button("two tones").click()
    bar.second.setText("7 kHz")
    assert (bar.programme().kind, bar.programme().second) == (Waveform.TWO_TONES, 7000)
    bar.outputs.setCurrentIndex(2)
    assert bar.programme().outputs == (2,)
    bar.frequency.setText("high")
    said = []
    bar.failed.connect(said.append)
    assert bar.programme() is None
    assert "high" in said[0]
    bar.set_on(False)


def test_a_file_is_read_for_the_generator_off_the_interface_s_thread(page, qtbot, tmp_path, monkeypatch):
    """Read, and brought to the chain's rate, on the study's thread; the source of the expected samples is the sine's
    own formula.
    """
    rate, threads = 44100, []
    soundfile.write(tmp_path / "tone.wav", sine(1000, 0.5, rate, rate), rate, subtype="FLOAT")
    real = resampling.for_playing
    monkeypatch.setattr(resampling, "for_playing", lambda *a: threads.append(threading.current_thread()) or real(*a))
    bar = page.generator
    bar.use_file(tmp_path / "tone.wav")
    assert bar.samples is None, "nothing was read yet"
    wait_for(qtbot, lambda: bar.samples is not None)
    assert bar.kind.on() == (str(Waveform.FILE),)
    assert threads[0] is not threading.main_thread()
    inside = slice(4800, 43200)
    assert bar.samples[inside] == pytest.approx(sine(1000, 0.5, 48000, 48000)[inside], abs=1e-6)
    bar.set_chain(bar.chain.changed(rate=96000))
    wait_for(qtbot, lambda: bar.samples is not None and bar.samples.size == 96000)
    told = []
    bar.failed.connect(told.append)
    (tmp_path / "bad.wav").write_bytes(b"no sound")
    bar.use_file(tmp_path / "bad.wav")
    wait_for(qtbot, lambda: bool(told))
    assert bar.kind.on() == (str(Waveform.TONE),)
    assert bar.samples is None


def test_the_ceiling_holds_for_the_generator(page):
    page.generator.chain = page.chain.model_copy(update={"output_ceiling": -30.0})
    page.generator.switch.setChecked(True)
    assert page.generator.programme().level == -30
    page.generator.set_on(False)


def test_states_are_held_compared_renamed_and_dropped(page, qtbot):
    watching(page, qtbot)
    QTest.keyClick(page.canvas, Qt.Key.Key_H)
    page.generator.toggle()
    wait_for(qtbot, lambda: np.nanmax(page.frame.high[0]) > -25)
    page.hold(name="tone")
    states = page.states
    assert list(states.states) == ["Snapshot 1", "tone"]
    states.rename("Snapshot 1", "idle")
    states.rename("tone", "idle")
    assert list(states.states) == ["idle", "tone"], "a name belongs to one state"
    wait_for(qtbot, lambda: [n for n, _ in page.lines.table.heads] == ["Live", "idle", "tone"])
    rows = dict(page.lines.table.rows())
    assert float(rows["100 Hz"][1]) == pytest.approx(-131, abs=6), "14 µV of hum through a divider of 4 into 8 V"
    states.compare_with("idle")
    assert page.canvas.unit == "dB"
    tone = next(layer for layer in page.canvas.held_layers if layer.name == "tone")
    assert np.nanmax(tone.high) > 80
    page.show_frame(page.frame)
    assert np.nanmax(page.canvas.live_layers[-1].high) > 80
    states.compare_with("")
    states.drop("idle")
    assert page.states.colour("tone") == 1
    assert [layer.name for layer in page.canvas.held_layers] == ["tone"]


def test_a_state_becomes_a_run_of_the_study(page, window, qtbot):
    watching(page, qtbot)
    page.hold(name="idle")
    subject = window.session.overview.subjects[1]
    page.keep("idle", subject.id)
    wait_for(qtbot, lambda: any(c.procedure == "spectrum" for c in window.session.overview.columns))
    column = next(c for c in window.session.overview.columns if c.procedure == "spectrum")
    run = window.session.overview.runs[subject.id, column.id]
    assert run.device == "Watch snapshot “idle”"
    (kept,) = window.session.study.recordings(run.id)
    assert kept.signal.samples == pytest.approx(page.states.states["idle"].recent, abs=1e-7)
    assert any(r.key == "mains_2" and r.value for r in run.readings)


def test_threshold_of_hearing(page, qtbot):
    watching(page, qtbot)
    page.generator.toggle()
    wait_for(qtbot, lambda: np.nanmax(page.frame.high[0]) > -25)
    page.lines.hearing.click()
    page.lines.playback.setText("110")
    page.lines.playback.editingFinished.emit()
    assert any("Threshold" in layer.name for layer in page.canvas.held_layers)
    wait_for(qtbot, lambda: "1 kHz" in page.lines.heard.text())
    page.lines.playback.setText("loud")
    page.lines.playback.editingFinished.emit()
    assert not any("Threshold" in layer.name for layer in page.canvas.held_layers)


def test_units_and_axes(page, qtbot):
    watching(page, qtbot)
    page.generator.toggle()
    wait_for(qtbot, lambda: np.nanmax(page.frame.high[0]) > -25)
    in_dbfs = float(np.nanmax(page.canvas.live_layers[-1].high))
    page.settings.units.button("dBV").click()
    page.show_frame(page.frame)
    assert float(np.nanmax(page.canvas.live_layers[-1].high)) - in_dbfs == pytest.approx(20 * np.log10(32.0), abs=0.2)
    QTest.keyClick(page.canvas, Qt.Key.Key_Z)
    page.show_frame(page.frame)
    assert float(np.nanmax(page.canvas.live_layers[-1].high)) == pytest.approx(0, abs=0.3)
    page.settings.axis.button("linear").click()
    assert not page.canvas.view().log
    assert page.canvas.view().low == 0


def test_zoom_pointer_and_keys(page, qtbot):
    watching(page, qtbot)
    canvas = page.canvas
    before = canvas.view()
    QTest.keyClick(canvas, Qt.Key.Key_Plus)
    assert canvas.view().high / canvas.view().low < before.high / before.low
    wait_for(qtbot, lambda: page.frame.view == canvas.view())
    QTest.keyClick(canvas, Qt.Key.Key_Home)
    assert canvas.view() == before
    QTest.mouseMove(canvas, QPoint(canvas.width() // 2, canvas.height() // 2))
    wait_for(qtbot, lambda: len(canvas.readings_at_cursor()) == 2)
    assert all(value.endswith("dBFS") for _, value in canvas.readings_at_cursor())


def test_settings_reach_the_watch(page, qtbot):
    watching(page, qtbot)
    page.settings.length.setCurrentIndex(4)
    page.settings.length.activated.emit(4)
    page.settings.average.setCurrentIndex(1)
    page.settings.average.activated.emit(1)
    wait_for(qtbot, lambda: page.watch.transform_length == 16384 and page.frame.averaged == 8)
    page.restart()
    wait_for(qtbot, lambda: page.frame.averaged == 8)


def test_a_run_takes_the_device_away_from_the_watch(page, window, qtbot):
    watching(page, qtbot)
    window.session.runs.checks = False
    overview = window.session.overview
    row, column = overview.subjects[2], overview.columns[1]
    from epidote.desktop.state.run_queue import RunRequest

    window.session.runs.measure([RunRequest((row.id, column.id), column.settings)])
    assert not window.session.live.on
    assert not page.start(), "not while it is measured"
    assert "in use by a measurement" in window.message.text()
    wait_for(qtbot, lambda: (row.id, column.id) in window.session.overview.runs)


def test_watching_nothing_is_said(window, qtbot):
    window.show_page("Watch")
    page = window.page_named("Watch")
    page.hold()
    assert "No live signal" in window.message.text()


def test_dropouts_while_listening_are_said_and_kept(page, window, qtbot, monkeypatch):
    """The device reports two dropouts while nothing but listening goes on; both pages with live sound say so until
    it begins anew.
    """
    reported: list[str] = []
    monkeypatch.setattr("epidote.audio.simulated.live.SimulatedLive.faults", lambda self: tuple(reported))
    watching(page, qtbot)
    assert page.faults.isHidden()
    reported.append("input overflow")
    wait_for(qtbot, lambda: not page.faults.isHidden())
    assert "1 dropout in the live view, at " in page.faults.text()
    reported.append("output underflow")
    wait_for(qtbot, lambda: "2 dropouts" in page.faults.text())
    assert "(output underflow)" in page.faults.text()
    page.hold(name="gappy")
    page.keep("gappy", window.session.overview.subjects[0].id)
    wait_for(qtbot, lambda: any("dropout" in r.cautions for r in window.session.overview.runs.values()))
    reported.clear()
    page.listen.click()
    watching(page, qtbot)
    wait_for(qtbot, page.faults.isHidden)  # once the device has begun again


def test_it_shows_how_the_two_inputs_go_together(page, qtbot):
    watching(page, qtbot)
    page.generator.set_on(True)
    page._play()
    wait_for(qtbot, lambda: page.figures.cells["correlation"][0].text() == "+1.000")
    assert page.figures.cells["mid_side"][0].text().endswith("dBFS")
    page.generator.set_on(False)
