"""The Chain page, driven as a user would: blocks, forms, guides with a live level, the baseline, other chains."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QPushButton

from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.settings import make_settings
from epidote.measurement.device_setup import open_for_chain
from epidote.measurement.request import add_column
from tests.conftest import QUICK
from tests.desktop.driver import wait_for


@pytest.fixture
def page(window, qtbot):
    chain = chain_of(window).model_copy(update={"device": "standin:wire"})
    window.session.study.set_setting("chain", chain_to_toml(chain))
    window.show_page("Chain")
    made = window.page_named("Chain")
    wait_for(qtbot, lambda: made.form is not None and made.chain.device == "standin:wire")
    yield made
    window.session.live.stop()
    window.session.live.wait()


def chain_of(window):
    return chain_from_toml(window.session.study.chain_toml)


def press(window, words: str) -> str:
    """Press a button of the question that is open; its text."""
    box = next(b for b in window.findChildren(QMessageBox) if b.isVisible())
    next(b for b in box.buttons() if b.text() == words).click()
    return box.text()


def typed(page, **fields):
    for name, text in fields.items():
        page.form.set_text(name, text)
    page.form.committed.emit()


def test_blocks_are_chosen_by_mouse_and_keys(page, qtbot):
    assert [b.title for b in page.blocks.values()] == [
        "Source",
        "Output",
        "Unit",
        "Load",
        "Probe",
        "Input",
        "Recording",
    ]
    qtbot.mouseClick(page.path, Qt.MouseButton.LeftButton, pos=page.path.boxes()[3].center().toPoint())
    assert page.heading.text() == "Load"
    qtbot.keyClick(page.path, Qt.Key.Key_Right)
    assert page.heading.text() == "Probe"
    assert "load_ohms" not in page.form.editors
    assert "probe_ratio" in page.form.editors


def test_a_change_is_an_edit_of_the_study(page, window, qtbot):
    page.path.choose("output")
    typed(page, output_ceiling="-6 dBFS", output_ohms="22", outputs="1, 2")
    wait_for(qtbot, lambda: chain_of(window).output_ceiling == -6)
    assert chain_of(window).output_ohms == 22
    wait_for(qtbot, lambda: page.blocks["output"].lines[1] == "22.0 Ω, max. 2.00 V")
    window.session.undo.undo()
    wait_for(qtbot, lambda: chain_of(window).output_ceiling == 0)


def test_what_does_not_fit_changes_nothing(page, window):
    page.path.choose("output")
    page.form.set_text("outputs", "1, one")
    page.form.committed.emit()
    assert "Output channels: “one”" in page.form.errors["outputs"].text()
    assert page.problem.text() == "", "it is said once"
    assert chain_of(window).outputs == (1, 2)


def test_microphones_take_the_place_of_the_probe(page, window, qtbot):
    page.path.choose("probe")
    typed(page, microphone_sensitivities="0.0125, 0.0131")
    wait_for(qtbot, lambda: chain_of(window).microphone_sensitivities == (0.0125, 0.0131))
    wait_for(qtbot, lambda: page.blocks["probe"].title == "Microphone")
    assert page.blocks["probe"].lines == ("12.5 mV/Pa, 2 microphones", "No correction curve")


def test_a_correction_curve_is_read_from_a_file(page, window, qtbot, tmp_path):
    file = tmp_path / "mic.txt"
    file.write_text("* serial 0042\n20\t-1.2\n1000\t0\n20000\t2.5\n")
    page.kept.use_correction(file)
    wait_for(qtbot, lambda: len(chain_of(window).microphone_correction) == 3)
    file.write_text("nothing")
    page.kept.use_correction(file)
    assert "contains no correction" in window.message.text()
    assert len(chain_of(window).microphone_correction) == 3


def test_calibrating_the_input_by_the_output(page, window, qtbot):
    """The stand-in interface: 4 V out, 8 V in at full scale. The guide knows the first, and must find the second."""
    page.begin_guide("input_by_wire")
    guide = page.guide
    assert not guide.use.isEnabled()
    qtbot.mouseClick(guide.play, Qt.MouseButton.LeftButton)
    wait_for(qtbot, guide.takes["level"].isEnabled)
    assert "dBFS" in page.live.values["level"][1].text()
    assert page.live.values["spread"][1].text() == "steady"
    qtbot.mouseClick(guide.takes["level"], Qt.MouseButton.LeftButton)
    assert guide.use.isEnabled()
    assert "+0.00 dB from the previous value" in guide.judgement.text() or "-0.00 dB" in guide.judgement.text()
    guide.use.click()
    wait_for(qtbot, lambda: len(chain_of(window).calibrations) == 1)
    entry = chain_of(window).calibrations[0]
    assert entry.value == pytest.approx(8.0, rel=1e-4)
    assert entry.how == "the calibrated output (loopback)"
    assert page.left.currentIndex() == 0
    page.path.choose("input")
    words = [
        page.guides.itemAt(i).widget().text() for i in range(page.guides.count()) if page.guides.itemAt(i).widget()
    ]
    assert any(
        "Input voltage at 0 dBFS 8.000 V, channel 1, by the calibrated output (loopback), steady within" in w
        for w in words
    )


def test_a_slip_is_named_before_it_is_used(page, qtbot):
    page.begin_guide("output_full_scale")
    page.guide.edits["volts"].setText("0.5657 V")
    assert page.guide.use.isEnabled()
    assert "peak volts" in page.guide.judgement.text()
    assert page.guide.judgement.property("error")
    page.guide.edits["volts"].setText("lots")
    assert not page.guide.use.isEnabled()
    page.guide.edits["volts"].setText("-1")
    assert "greater than 0" in page.guide.judgement.text()


def test_escape_silences_a_guide(page, window, qtbot):
    page.begin_guide("input_by_wire")
    page.guide.play.click()
    wait_for(qtbot, page.guide.takes["level"].isEnabled)
    window.actions_by_name["stop"].trigger()
    wait_for(qtbot, lambda: not page.guide.takes["level"].isEnabled())


def test_listening_and_stopping(page, window, qtbot):
    page.live.listen.click()
    wait_for(qtbot, lambda: "no tone" in page.live.values["level"][1].text())
    wait_for(qtbot, lambda: page.live.values["latency"][0].text().endswith("ms"))
    page.live.listen.click()
    wait_for(qtbot, lambda: not window.session.live.on)
    assert page.live.listen.text() == "Start"


def test_looking_at_the_path(page, window, qtbot):
    page.look.click()
    wait_for(qtbot, lambda: "Test tone at -20 dBFS" in window.message.text())
    assert "channel order" in window.message.text()


@pytest.mark.slow
def test_the_baseline_in_one_go(page, window, qtbot, monkeypatch):
    window.session.runs.checks = False
    monkeypatch.setattr(
        "epidote.measurement.device_setup.open_for_chain",
        lambda *a, real_time, **k: open_for_chain(*a, **k, real_time=False),
    )  # as fast as it can
    baseline = next(s for s in window.session.overview.subjects if s.is_baseline)
    window.session.study.update_subject(type(baseline)(baseline.id, None, {}, "standin:wire", 0, baseline.position))
    study = window.session.study
    for key in {k for k, p in procedures().items() if p.of_the_chain} - {c.procedure for c in study.overview().columns}:
        add_column(study, key, make_settings(procedure(key).Settings, QUICK[key]))
    fitting = {k for k, p in procedures().items() if p.of_the_chain}
    page.baseline.click()
    press(window, "Measure")

    def measured():
        overview = window.session.overview
        return {c.procedure for c in overview.columns if (baseline.id, c.id) in overview.runs}

    wait_for(qtbot, lambda: measured() == fitting)
    assert window.stack.currentWidget() is window.matrix
    wait_for(qtbot, lambda: "measured" in page.path.wire)
    page.path.choose("input")
    typed(page, gain_setting="pad in")
    wait_for(qtbot, lambda: "gain changed" in page.path.wire)
    assert page.path.wire_weak
    wait_for(qtbot, lambda: "gain changed" in window.strip.items["baseline"].text())


def test_chains_are_kept_by_name_and_used_again(page, window, qtbot, tmp_path):
    page.kept.keep()
    assert page.kept.shelf.names() == ["Bench"]
    page.path.choose("source")
    typed(page, name="Other bench", rate="96 kHz")
    wait_for(qtbot, lambda: chain_of(window).name == "Other bench")
    page.kept.use("Bench")
    wait_for(qtbot, lambda: chain_of(window).rate == 48000)
    page.kept.shelf.path("Broken").write_text("rate = 'fast'")
    page.kept.use("Broken")
    assert "rate: “fast” is not valid" in window.message.text()
    assert chain_of(window).name == "Bench"


def test_a_question_before_the_first_run_of_a_changed_chain(window, qtbot, monkeypatch):
    window.session.runs.asked.emit("Go on?")
    assert press(window, "Measure at full level") == "Go on?"
    assert window.session.runs.last_answer is True
    window.session.runs.asked.emit("Go on?")
    press(window, "Cancel")
    assert window.session.runs.last_answer is False


def test_dropouts_while_listening_are_said(page, window, qtbot, monkeypatch):
    monkeypatch.setattr("epidote.audio.simulated.live.SimulatedLive.faults", lambda self: ("input overflow",))
    assert page.live.faults.isHidden()
    page.live.listen.click()
    wait_for(qtbot, lambda: not page.live.faults.isHidden())
    assert "1 dropout" in page.live.faults.text() and "gaps" in page.live.faults.text()


def test_a_device_plugged_in_later_is_found(page, window, qtbot, monkeypatch):
    from epidote.audio.registry import devices

    known = devices()
    later = known[0].__class__("sound:later", "The late interface", "sound card", 2, 2, (48000,), 24)
    monkeypatch.setattr("epidote.audio.registry.devices", lambda: [*known, later])
    page.path.choose("source")
    next(b for b in page.findChildren(QPushButton) if b.text() == "Refresh device list").click()
    wait_for(qtbot, lambda: any(name == "sound:later" for name, _ in page.known_devices or ()))


def test_its_listening_is_not_called_watching_on_the_watch_page(page, window, qtbot):
    window.show_page("Watch")
    began = []
    window.session.live.began.connect(began.append)
    assert page.start_listening()
    wait_for(qtbot, lambda: bool(began))
    assert window.page_named("Watch").listen.text() == "Start"
    assert window.page_named("Watch").watch is None
