"""Real sound through PortAudio: a JACK server with its dummy driver, started here, and two cables from outputs to
inputs.

The loop hands on 32-bit floats and is one period long (JACK's own definition of its latency), so what comes back is
known to the bit.
"""

import json
import math
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from epidote.audio.device import DeviceLostError, FormatRefusedError, Wiring
from epidote.audio.registry import open_device
from epidote.audio.soundcard.device import SoundCard, sound_cards
from epidote.core.chain.chain import Chain
from epidote.core.errors import CancelledError, MeasurementError, SettingError
from epidote.core.live.clip_player import CROSSFADE, PlayOrder
from epidote.core.procedures.latency.procedure import Latency, LatencySettings
from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from epidote.core.stimuli.generator import GeneratorSettings, Waveform
from epidote.core.stimuli.tone import tone
from epidote.measurement.listening.output import open_output
from tests.audio.jack import PERIOD, RATE, Server
from tests.conftest import sine
from tests.desktop.driver import wait_for

NAME = "sound:jack/system"
SHORT = tone(rate=RATE, frequency=997, duration=0.4, level=-6)

pytestmark = pytest.mark.xdist_group("jack")


@pytest.fixture
def card(served):
    with served.loop():
        made = SoundCard(NAME, Wiring(RATE))
        wait_until(lambda: is_wired(made))
        yield made
        made.close()


def is_wired(card) -> bool:
    """Whether both cables of the loop are plugged in, which somebody else does a moment after the device is opened."""
    heard = exchange(card, tone(rate=RATE, frequency=997, duration=0.1, level=-40)).signal
    return all(heard.peak(channel) > 1e-4 for channel in (1, 2))


def exchange(card, stimulus=SHORT, **options):
    arguments = {"ceiling_dbfs": 0.0, "progress": lambda _: None, "cancelled": lambda: False} | options
    return card.exchange(stimulus, **arguments)


def undisturbed(take, right, times=5):
    """The first take that is right.

    A loaded machine makes the server skip a period now and then; what the program does wrong is wrong every time.
    """
    for _ in range(times):
        found = take()
        if right(found):
            return found
    raise AssertionError(f"none of {times} takes is right")


def levels_of(result, channel) -> np.ndarray:
    """How far each frequency is from 0 dB, NaN where a disturbed take does not give it."""
    curve = result.curve("level", channel)
    return np.array([math.nan]) if curve is None else np.abs(curve.y)


def value_of(result, key, channel) -> float:
    """A reading's value, NaN where a disturbed take does not give it."""
    reading = result.reading(key, channel)
    if reading is None or reading.value is None:
        return math.nan
    return reading.value


def test_is_found_with_its_channels_and_rate(served):
    found = {d.name: d for d in sound_cards()}
    assert (found[NAME].outputs, found[NAME].inputs, found[NAME].rates) == (2, 2, (RATE,))


def test_plays_and_records_to_the_bit_one_period_late(card):
    told = []
    played = SHORT.samples().astype(np.float32)
    one_period_late = np.concatenate([np.zeros(PERIOD, np.float32), played[:-PERIOD]])

    def take():
        told.clear()
        return exchange(card, progress=told.append)

    undisturbed(take, lambda r: np.array_equal(r.signal.samples, np.column_stack([one_period_late] * 2)))
    assert told == sorted(told)
    assert told[-1] == 1.0
    assert card.latency() is None or 0 < card.latency() < 0.2, "what the device states is only shown"


def test_one_open_card_measures_again_and_again(card):
    undisturbed(lambda: [exchange(card).signal.samples for _ in range(2)], lambda takes: np.array_equal(*takes))


def test_response_of_the_loop_is_flat_and_its_delay_exact(card):
    """Second way: the loop is a wire, so 0 dB everywhere, and one period of delay."""
    settings, chain = ResponseSettings(duration=2), Chain(rate=RATE)

    def take():
        return Response().analyse([exchange(card, s) for s in Response().conduct(settings, chain)], settings, chain)

    def right(result) -> bool:
        return all(
            levels_of(result, channel).max() < 1e-4
            and value_of(result, "delay", channel) * RATE == pytest.approx(PERIOD, abs=1e-4)
            for channel in (1, 2)
        )

    undisturbed(take, right)


def test_latency_of_the_loop_is_one_period(card):
    """JACK's own definition of a loop's latency; each start of the stream the same."""
    for restart in (False, True):
        settings, chain = LatencySettings(shots=3, longest=0.1, restart=restart), Chain(rate=RATE)

        def take(settings=settings, chain=chain):
            return Latency().analyse([exchange(card, s) for s in Latency().conduct(settings, chain)], settings, chain)

        def right(result) -> bool:
            return all(
                value_of(result, "latency_samples", channel) == pytest.approx(PERIOD, abs=1e-6)
                and value_of(result, "latency_range", channel) == pytest.approx(0, abs=1e-6)
                for channel in (1, 2)
            )

        undisturbed(take, right)


def test_plays_on_the_channels_of_the_stimulus_only(card):
    alone = tone(rate=RATE, frequency=997, duration=0.2, level=-6, channels=(2,))
    back = exchange(card, alone).signal
    assert not back.channel(1).any()
    assert back.channel(2).any()


def test_records_without_playing(card):
    recording = card.record(0.3, progress=lambda _: None, cancelled=lambda: False)
    assert recording.signal.samples.shape == (round(0.3 * RATE), 2)
    assert not recording.signal.samples.any()
    assert recording.stimulus is None


def test_never_exceeds_the_ceiling(served):
    card = SoundCard(NAME, Wiring(RATE), ceiling_dbfs=-20)
    with pytest.raises(MeasurementError, match="maximum output level of -20 dBFS. Nothing was played"):
        exchange(card)
    card.close()


def test_stops_when_cancelled_and_can_be_used_again(card):
    begun = time.monotonic()
    with pytest.raises(CancelledError):
        exchange(
            card,
            tone(rate=RATE, frequency=997, duration=20, level=-20),
            cancelled=lambda: time.monotonic() - begun > 0.5,
        )
    assert time.monotonic() - begun < 2
    assert exchange(card).signal.samples.any()


def test_another_rate_is_refused_in_words(served):
    with pytest.raises(FormatRefusedError, match="runs at 48 kHz; the chain uses 96 kHz"):
        SoundCard(NAME, Wiring(96000))


def test_a_channel_that_is_not_there_is_refused(served):
    with pytest.raises(FormatRefusedError, match="has 2 inputs; the chain uses number 3"):
        SoundCard(NAME, Wiring(RATE, inputs=(1, 3)))


def test_a_device_that_is_not_there_names_those_that_are(served):
    with pytest.raises(
        SettingError, match="Sound device “sound:jack/nobody” is not connected. Available: sound:jack/system"
    ):
        open_device("sound:jack/nobody", Wiring(RATE), {})


def test_a_stalled_callback_is_reported_as_a_dropout(card):
    """The process that holds the card is stopped for a tenth of a second, as an overloaded machine would stop it."""

    def stall() -> None:
        os.kill(card.process.pid, signal.SIGSTOP)
        time.sleep(0.15)
        os.kill(card.process.pid, signal.SIGCONT)

    timer = threading.Timer(0.4, stall)
    timer.start()
    recording = exchange(card, tone(rate=RATE, frequency=997, duration=1.5, level=-6))
    timer.join()
    assert recording.faults
    assert "dropouts reported by the device" in recording.faults[0]
    result = Tone().analyse([recording], ToneSettings(duration=1.5), Chain(rate=RATE))
    assert "dropout" in result.cautions


def test_listening_goes_on_while_something_plays_and_mute_is_quick(served):
    with served.loop():
        card = SoundCard(NAME, Wiring(RATE))
        wait_until(lambda: is_wired(card))
        live = card.listen(ceiling_dbfs=-6)
        live.play(GeneratorSettings(Waveform.TONE, level=0.0, frequency=1000))
        heard = gathered(live, 0.6)
        assert np.abs(heard).max() == pytest.approx(10 ** (-6 / 20), rel=1e-3), "as loud as the ceiling lets it be"
        live.mute()
        rest = gathered(live, 0.6)[:, 0]
        loud = np.flatnonzero(np.abs(rest) > 1e-6)
        sounding = loud[-1] if loud.size else 0
        assert sounding < RATE * 0.25, "what was on its way, and one block more"
        assert not rest[sounding + 1 :].any()
        live.close()
        card.close()


def test_a_stall_while_listening_is_reported(card):
    live = card.listen(ceiling_dbfs=-6)
    try:
        gathered(live, 0.3)
        before = len(live.faults())
        os.kill(card.process.pid, signal.SIGSTOP)
        time.sleep(0.15)
        os.kill(card.process.pid, signal.SIGCONT)
        end = time.monotonic() + 20
        while len(live.faults()) == before and time.monotonic() < end:
            live.read()
            time.sleep(0.01)
        assert len(live.faults()) > before
    finally:
        live.close()


def gathered(live, seconds):
    blocks, end = [], time.monotonic() + seconds
    while time.monotonic() < end:
        blocks.append(live.read())
        time.sleep(0.01)
    return np.concatenate(blocks)


def without_dropouts(card, stimulus):
    """On a busy machine the stand-in's process may miss a period; then once more, as somebody at the bench would."""
    for _ in range(4):
        recording = exchange(card, stimulus)
        if not recording.faults:
            break
    return recording


@pytest.fixture
def standin(served):
    """A stand-in in a process of its own, between output and input; the application finds it as a device."""
    process = subprocess.Popen(
        [sys.executable, str(Path(__file__).with_name("standin_client.py")), str(RATE)],
        stdout=subprocess.PIPE,
        text=True,
        env=os.environ.copy(),
    )
    assert process.stdout.readline() == "running\n"
    yield "sound:jack/PortAudio"
    process.kill()
    process.wait()
    process.stdout.close()


def test_a_stand_in_outside_the_process_is_measured_as_a_device(standin):
    """Gain 0.5, first-order high-pass at 100 Hz, second order 1e-3: H2 of a tone of amplitude a is k a / 2 re the
    fundamental.
    """
    card = SoundCard(standin, Wiring(RATE))
    try:
        settings, chain = ResponseSettings(duration=2, level=-20), Chain(rate=RATE)
        result = Response().analyse(
            [without_dropouts(card, s) for s in Response().conduct(settings, chain)], settings, chain
        )
        at_tone = ToneSettings(duration=0.5, level=-6, frequency=1000)
        tone_result = Tone().analyse(
            [without_dropouts(card, s) for s in Tone().conduct(at_tone, chain)], at_tone, chain
        )
    finally:
        card.close()
    assert result.reading("gain_1k").value == pytest.approx(-6.0206 - 10 * np.log10(1 + 0.1**2), abs=1e-3)
    assert result.reading("bandwidth_low").value == pytest.approx(100, rel=0.02)
    assert tone_result.reading("h2").value == pytest.approx(20 * np.log10(1e-3 * 10 ** (-6 / 20) / 2), abs=0.05)


def test_a_run_from_the_command_line_starts_low_and_asks(standin, study, run):
    study.close()
    arguments = (
        "measure",
        "tone",
        "--study",
        study.path,
        "--subject",
        "Ostrel P40",
        "--device",
        standin,
        "--set",
        "duration=0.3",
    )
    code, _, err = run(*arguments)
    assert code == 4
    assert "checked 40 dB below the set level" in err
    assert "--full-level" in err
    code, out, err = run(*arguments, "--full-level", "--json")
    assert code == 0, err
    assert json.loads(out)["readings"]
    code, out, err = run(*arguments, "--json")
    assert code == 0, "the same chain is not asked about again"
    assert "40 dB down" not in err


def test_the_window_asks_before_the_first_run_and_measures_after(standin, study, qtbot):
    from epidote.desktop.state.run_queue import RunRequest
    from epidote.desktop.state.session import Session

    path = study.path
    study.close()
    session, asked = Session(), []
    session.runs.asked.connect(asked.append)
    session.open_path(path)
    wait_for(qtbot, lambda: session.overview is not None)
    row, column = session.overview.subjects[1], session.overview.columns[0]
    wanted = RunRequest((row.id, column.id), {"duration": 0.3, "level": -20.0}, standin)
    session.runs.measure([wanted])
    wait_for(qtbot, lambda: len(asked) == 1)
    assert "At -20 dBFS, expect -26.1 dBFS on channel 1, -26.1 dBFS on channel 2" in asked[0]
    session.runs.answer(False)
    wait_for(qtbot, lambda: not session.runs.under_way)
    assert session.overview.runs == {}, "no is no"
    session.runs.measure([wanted])
    wait_for(qtbot, lambda: len(asked) == 2)
    session.runs.answer(True)
    wait_for(qtbot, lambda: (row.id, column.id) in session.overview.runs)
    assert session.overview.runs[row.id, column.id].chain.device == standin
    session.close()


def test_a_server_killed_in_the_middle_of_a_run_ends_it_in_words(monkeypatch):
    server = Server()
    monkeypatch.setenv("JACK_DEFAULT_SERVER", server.name)
    with server.loop():
        card = SoundCard(NAME, Wiring(RATE))
        timer = threading.Timer(0.5, server.kill)
        timer.start()
        begun = time.monotonic()
        with pytest.raises(DeviceLostError, match="Earlier runs are saved; this run is not"):
            exchange(card, tone(rate=RATE, frequency=997, duration=10, level=-20))
        assert time.monotonic() - begun < 8
        timer.join()
    card.close()
    assert sound_cards() == [] or all("system" not in d.name for d in sound_cards())
    with pytest.raises(SettingError, match="is a sound server running"):
        SoundCard(NAME, Wiring(RATE))


def test_clips_are_switched_at_the_same_place_within_40_ms_and_a_buffer(served):
    """Through the loop: from the order to the changed sound, and nothing but the crossfade between."""
    tones = [sine(1000.0, a, 2 * RATE, RATE, 0.0)[:, None] for a in (0.5, 0.25)]
    with served.loop():
        card = SoundCard(NAME, Wiring(RATE))
        try:
            live = card.listen(ceiling_dbfs=-6)

            def heard_until(found):
                """What comes back until the greatest of a block of a tenth of a second is as wished."""
                heard = np.zeros(0)

                def is_there():
                    nonlocal heard
                    new = live.read()
                    heard = np.concatenate([heard, new[:, 0] if new.size else []])
                    return heard.size > 9600 and found(np.abs(heard[-4800:]).max())

                wait_until(is_there)
                return heard

            def take():
                live.play_clips(tones)
                live.order(PlayOrder(0, True, level=-20.0))
                heard_until(lambda peak: peak > 0.095)
                live.read()
                live.order(PlayOrder(1, True, level=-20.0))
                return heard_until(lambda peak: peak < 0.055)

            def right(x) -> bool:
                level = (
                    np.abs(x + 1j * np.roll(x, RATE // 4000))[RATE // 4000 :] / 0.1
                )  # of the tone, from sample to sample
                loud = np.flatnonzero(level > 0.99)
                quiet = np.flatnonzero(level < 0.51)
                if not loud.size or not quiet.size:
                    return False
                fade = (quiet[0] - loud[-1]) / RATE
                # the crossfade itself, in the middle of whose ends the level is within 1 %
                steps = np.abs(np.diff(x)).max()
                return (
                    fade < CROSSFADE and loud[-1] < (0.04 * RATE + 4 * PERIOD) and steps < 0.1 * 2 * np.pi / 48 * 1.01
                )

            undisturbed(take, right)
            live.close()
        finally:
            card.close()


def wait_until(condition, seconds=60.0):
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "nothing happened"
        time.sleep(0.002)


def test_an_output_alone_plays_clips_and_tells_when_it_is_lost(served):
    card = SoundCard(NAME, Wiring(RATE, outputs=(1, 2), inputs=()))
    try:
        live = card.listen(ceiling_dbfs=-6)
        live.play_clips([np.full((RATE, 2), 0.1)] * 2)
        live.order(PlayOrder(1, True, level=-20.0))
        wait_until(lambda: live.place() > 4800)
        assert live.read().shape == (0, 0)
        card.process.kill()

        def is_lost() -> bool:
            try:
                live.read()
            except DeviceLostError:
                return True
            return False

        wait_until(is_lost)
    finally:
        card.close()


def test_clips_of_another_rate_are_played_at_the_device_s_own(served):
    device = open_output(NAME, 96000, (1, 2), -6)
    try:
        assert device.rate == RATE
    finally:
        device.close()
    with pytest.raises(SettingError, match="is not connected"):
        open_output("sound:jack/nothing", 96000, (1, 2), -6)
