"""Recordings taken in by a picked stretch, two paths nudged over each other, and latencies side by side: driven as a
user would.
"""

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication, QDialog

from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.measurement.assessment import latencies
from epidote.measurement.recompute import recompute
from epidote.measurement.request import add_column
from tests.conftest import measured
from tests.desktop.driver import wait_for

RATE, LATE = 48000, 37


@pytest.fixture
def two_paths(tmp_path):
    """Four seconds in one file: a click now and then in noise, and the same 37 frames later, turned over, 6 dB down."""
    x = 0.01 * np.random.default_rng(0).standard_normal(4 * RATE)
    x[[RATE, 2 * RATE, 3 * RATE]] = 0.8
    late = -0.5 * np.concatenate([np.zeros(LATE), x[:-LATE]])
    path = tmp_path / "two.wav"
    soundfile.write(path, np.column_stack([x, late]), RATE, subtype="PCM_24")
    return path


def dialog(window, kind) -> QDialog:
    return next(d for d in window.findChildren(QDialog) if type(d).__name__ == kind and d.isVisible())


@pytest.fixture
def taken(window, qtbot, two_paths):
    """The cell whose run the stretch from 0.5 to 3.5 s has become."""
    window.session.ask(
        lambda study: add_column(study, "paths", make_settings(procedure("paths").Settings, {})), lambda _: None
    )
    window.session.refresh()
    wait_for(qtbot, lambda: len(window.session.overview.columns) == 3)
    row, column = window.session.overview.subjects[1], window.session.overview.columns[2]
    window.matrix.selection.select([row.id], column.id)
    wait_for(qtbot, lambda: window.matrix.run_panel.form is not None)
    window.matrix.exchange.pick_stretch(window.matrix.run_panel.form.values(), [two_paths])
    pick = dialog(window, "SegmentDialog")
    wait_for(qtbot, lambda: len(pick.wave.lanes) == 2 and pick.wave.lanes[1].outline.shape[0] == 4 * RATE // 256)
    assert pick.go.isEnabled()
    pick.first.setText("0.5 s")
    pick.last.setText("3.5 s")
    qtbot.keyClick(pick.last, Qt.Key.Key_Return)
    assert pick.wave.stretch == (0.5, 3.5)
    pick.go.click()
    wait_for(qtbot, lambda: (row.id, column.id) in window.session.overview.runs)
    return row.id, column.id


def test_a_stretch_becomes_a_run(window, taken, two_paths):
    run = window.session.overview.runs[taken]
    assert run.device == "imported recording: two.wav from 0.5 s to 3.5 s"
    assert run.settings["stimulus"] == "nothing"
    found = {r.key: r.value for r in run.readings if r.channel == 2}
    assert found["delay_samples"] == pytest.approx(LATE, abs=0.01)
    assert (found["polarity"], found["transients"]) == (-1, 3)
    study = window.session.study
    (recording,) = study.recordings(run.id)
    assert recording.signal.frames == 3 * RATE
    newest = max((study.path / "recordings").iterdir(), key=lambda p: p.stat().st_mtime_ns)
    whole, _ = soundfile.read(newest, always_2d=True)
    original, _ = soundfile.read(two_paths, always_2d=True)
    assert np.array_equal(whole, original), "what came is kept whole; the section is cut from it"
    again = recompute(study, run.id, {})
    assert [r.value for r in again.readings] == [r.value for r in run.readings]


def test_a_tone_recorded_anywhere(window, qtbot, tmp_path, monkeypatch):
    """-20 dBFS at 997 Hz, of which nobody knows what was played; its second half is silent and is left out."""
    from PySide6.QtWidgets import QFileDialog

    n = np.arange(2 * RATE)
    x = np.where(n < RATE, 0.1 * np.sin(2 * np.pi * 997 / RATE * n), 0.0)
    soundfile.write(tmp_path / "tone.wav", np.column_stack([x, x]), RATE, subtype="PCM_24")
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([str(tmp_path / "tone.wav")], ""))
    row, column = window.session.overview.subjects[2], window.session.overview.columns[1]
    window.matrix.selection.select([row.id], column.id)
    wait_for(qtbot, lambda: window.matrix.run_panel.form is not None)
    window.matrix.run_panel.from_recording.click()
    pick = dialog(window, "SegmentDialog")
    wait_for(qtbot, lambda: len(pick.wave.lanes) == 2)
    pick.wave.set_stretch(0.1, 0.9)
    pick.go.click()
    wait_for(qtbot, lambda: (row.id, column.id) in window.session.overview.runs)
    found = {r.key: r.value for r in window.session.overview.runs[row.id, column.id].readings if r.channel == 1}
    assert found["frequency"] == pytest.approx(997, abs=1e-3)
    assert found["thd"] < -120


def test_a_recording_without_the_marks_is_said(window, qtbot, two_paths):
    said = []
    window.session.failed.connect(said.append)
    row, column = window.session.overview.subjects[2], window.session.overview.columns[1]
    window.matrix.selection.select([row.id], column.id)
    wait_for(qtbot, lambda: window.matrix.run_panel.form is not None)
    window.matrix.exchange.pick_stretch(window.matrix.run_panel.form.values(), [two_paths])
    dialog(window, "SegmentDialog").as_marked.click()
    wait_for(qtbot, lambda: any("Nothing was computed" in words for words in said))
    assert (row.id, column.id) not in window.session.overview.runs


def test_the_waveform_zooms_down_to_samples(window, qtbot, two_paths, taken):
    from epidote.desktop.windows.segment_dialog import SegmentDialog

    pick = SegmentDialog(window.theme, [two_paths])
    qtbot.addWidget(pick)
    pick.show()
    wait_for(qtbot, lambda: bool(pick.wave.lanes) and pick.wave.lanes[0].outline.shape[0] > 700)
    wave = pick.wave
    wave.set_stretch(1.0, 1.5)
    qtbot.keyClick(wave, Qt.Key.Key_End)
    assert (wave.first, wave.last) == (RATE, 1.5 * RATE)
    for _ in range(60):
        qtbot.keyClick(wave, Qt.Key.Key_Plus)
    assert wave.last - wave.first == 8
    wave.show_frames(RATE - 4, RATE + 4)
    wave.grab()
    # the samples come from the file, off the interface's thread
    wait_for(qtbot, lambda: wave.lanes[0].fetch(RATE - 4, 8) is not None)
    assert wave.lanes[0].fetch(RATE, 1)[0] == pytest.approx(0.8, abs=1e-6)
    qtbot.keyClick(wave, Qt.Key.Key_Home)
    assert (wave.first, wave.last) == (0, 4 * RATE)
    qtbot.mousePress(wave, Qt.MouseButton.LeftButton, pos=QPoint(100, 50))
    qtbot.mouseMove(wave, QPoint(300, 50))
    qtbot.mouseRelease(wave, Qt.MouseButton.LeftButton, pos=QPoint(300, 50))
    assert wave.stretch != (1.0, 1.5)
    pick.last.setText("soon")
    pick.apply_typed()
    assert "soon" in pick.long.text()
    pick.reject()


def test_files_that_cannot_be_opened_are_said(window, qtbot, tmp_path):
    from epidote.desktop.windows.segment_dialog import SegmentDialog

    letter = tmp_path / "letter.wav"
    letter.write_text("Dear all, " * 100)
    pick = SegmentDialog(window.theme, [letter])
    qtbot.addWidget(pick)
    wait_for(qtbot, lambda: "not a readable audio file" in pick.heading.text())
    assert not pick.go.isEnabled()
    pick.reject()


@pytest.fixture
def align(window, qtbot, taken):
    window.matrix.selection.select([taken[0]], taken[1])
    window.actions_by_name["align"].trigger()
    found = dialog(window, "AlignWindow")
    wait_for(qtbot, lambda: found.laid is not None)
    yield found
    found.close()


def test_nudging_by_keys_wheel_and_typing(align, qtbot):
    assert align.delay == pytest.approx(LATE, abs=0.01)
    assert align.side.figures["polarity"].text() == "inverted"
    assert "Transient 1 of 3" in align.event_words.text()
    null = align.side.figures["null"].text()
    qtbot.keyClick(align, Qt.Key.Key_Right)
    assert align.delay == pytest.approx(LATE + 1, abs=0.01)
    assert align.side.figures["null"].text() != null
    qtbot.keyClick(align, Qt.Key.Key_Down)
    qtbot.keyClick(align, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert align.delay == pytest.approx(LATE, abs=0.01)
    place = QPointF(100, 100)
    for by in (120, 120, -120):
        wheel = QWheelEvent(
            place,
            place,
            QPoint(),
            QPoint(0, by),
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.ControlModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(align.wave, wheel)
    assert align.delay == pytest.approx(LATE + 0.1, abs=0.01)
    for text, frames in (("1 ms", 48), ("12.5 samples", 12.5)):
        align.side.typed.setText(text)
        qtbot.keyClick(align.side.typed, Qt.Key.Key_Return)
        assert align.delay == pytest.approx(frames)
    align.side.typed.setText("late")
    qtbot.keyClick(align.side.typed, Qt.Key.Key_Return)
    assert "is not a delay" in align.words.text()
    assert align.isVisible()
    align.wave.setFocus()
    qtbot.keyClick(align, Qt.Key.Key_A)
    assert align.delay == pytest.approx(LATE, abs=0.01)
    assert align.side.invert.isChecked()
    assert align.side.figures["polarity"].text() == "normal"
    # what hangs over at the ends of three seconds leaves some 3e-6 of the power
    assert float(align.side.figures["null"].text().split()[0]) < -50
    figure = align.phase.figure()
    assert np.abs(figure.traces[0].y).max() < 1
    qtbot.keyClick(align, Qt.Key.Key_N)
    assert "Transient 2 of 3" in align.event_words.text()
    qtbot.keyClick(align, Qt.Key.Key_P)
    assert "Transient 1 of 3" in align.event_words.text()


def test_aligned_files_null_against_each_other(align, qtbot, tmp_path):
    qtbot.keyClick(align, Qt.Key.Key_A)
    align.write(path=tmp_path / "out.wav")
    wait_for(qtbot, lambda: "xported" in align.words.text())
    first, rate = soundfile.read(tmp_path / "out 1.wav")
    second, _ = soundfile.read(tmp_path / "out 2 aligned.wav")
    assert (rate, first.size) == (RATE, second.size)
    inner = slice(1000, -1000)
    assert np.abs(second[inner] - 0.5 * first[inner]).max() < 1e-5
    said = []
    align.session.failed.connect(said.append)
    align.write(path=tmp_path / "out.wav")
    wait_for(qtbot, lambda: any("already exists" in words for words in said))


def test_the_sum_is_played(align, qtbot):
    wait_for(qtbot, lambda: align.side.device.count() > 0)
    align.listen(False)
    assert "original" in align.words.text()
    align.stopping.set()
    wait_for(qtbot, lambda: align.words.text() == "Stopped.")


def test_sums_before_and_after(align):
    from epidote.desktop.windows.align_paths.alignment_data import sum_of

    assert align.laid is not None
    before = sum_of(align.laid, None, invert=False).samples()
    after = sum_of(align.laid, align.delay, invert=True).samples()
    # one factor for both: in phase the clicks add up to 1.5 of what the first alone had, as they came they lie apart
    assert np.abs(after).max() / np.abs(before).max() == pytest.approx(1.5, rel=0.02)
    assert np.abs(after).max() < 10 ** (-12 / 20) * 1.001


def test_nothing_to_align_is_said(window):
    window.actions_by_name["align"].trigger()
    assert "“Path comparison” column" in window.message.text()


def test_latencies_side_by_side(window, qtbot, path):
    def fill(study):
        unit = study.add_unit("Sorvane", "L8")
        column = add_column(study, "latency", make_settings(procedure("latency").Settings, {"shots": 1}))
        for buffer in ("64", "256"):
            study.add_subject(unit, {"buffer": buffer, "probe": "1:1", "load": "10 kΩ"}, "standin:sorvane-l8")
        rows = len(study.overview().subjects)
        for row in (rows - 2, rows - 1):
            measured(study, row, [c.id for c in study.overview().columns].index(column.id))
        return latencies(study)

    found = []
    window.session.ask(fill, found.extend)
    wait_for(qtbot, lambda: len(found) == 2)
    window.actions_by_name["latencies"].trigger()
    seen = dialog(window, "LatencyWindow")
    wait_for(qtbot, lambda: seen.table.cells.columnCount() == 3)
    assert seen.table.row_count() == 1
    assert seen.table.cells.texts()[0][1:] == ["48 kHz, buffer 64", "48 kHz, buffer 256"]
    assert seen.table.text(0, 1).startswith(f"{1000 * found[0].seconds:.3f} ms")
    seen.table.setCurrentIndex(seen.table.cells.index(0, 2))
    assert "buffer 256" in seen.equals.text()
    seen.wanted.setText("5 s")
    assert "disturbs live playing" in seen.equals.text()
    seen.wanted.setText("soon")
    assert "Enter a latency" in seen.equals.text()
    seen.close()
