"""What every device keeps to: each simulated bench, and a real sound card (a JACK server with cables from its
outputs to its inputs).
"""

import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass

import numpy as np
import pytest

from epidote.audio.device import Device, FormatRefusedError, Wiring
from epidote.audio.registry import open_device
from epidote.audio.simulated.device import BENCHES, PREFIX, Adjustable
from epidote.core.errors import CancelledError, EpidoteError, MeasurementError, SettingError
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.generator import GeneratorSettings, Waveform
from epidote.core.stimuli.tone import tone
from tests.conftest import sine

RATE = 48000
SHORT = tone(rate=RATE, frequency=997, duration=0.2, level=-50)
LOUD = tone(rate=RATE, frequency=997, duration=0.2, level=-20)
LONG = tone(rate=RATE, frequency=997, duration=20, level=-20)
USUAL = Wiring(RATE)
SOUND_CARD = "sound:jack/system"


@dataclass
class Bench:
    """A device under a name, opened as the application opens it."""

    name: str
    plugged: Callable[[Device], None]

    @contextmanager
    def opened(self, wiring: Wiring = USUAL, ceiling_dbfs: float = 0.0) -> Iterator[Device]:
        with closing(open_device(self.name, wiring, {}, seed=1, real_time=True, ceiling_dbfs=ceiling_dbfs)) as device:
            self.plugged(device)
            yield device


def play(device: Device, stimulus=SHORT, **options):
    told: list[float] = []
    arguments = {"ceiling_dbfs": 0.0, "progress": told.append, "cancelled": lambda: False} | options
    return device.exchange(stimulus, **arguments), told


def loud(signal: Signal) -> bool:
    return float(np.abs(signal.samples).max()) > 1e-4


def until_heard(device: Device) -> None:
    """The cables of the loop are plugged in by somebody else, a moment after the device is opened."""
    for _ in range(50):
        if loud(play(device)[0].signal):
            return
    raise AssertionError("nothing came back")


# what a bench has wired to its interface makes no other device of it: an amplifier, a bare loop and a digital link
# stand for all, but for the first test, which tries each
KINDS = ("wire", "ostrel-p40", "tolmark-x1")


@pytest.fixture(params=[*(PREFIX + b for b in KINDS), pytest.param(SOUND_CARD, marks=pytest.mark.xdist_group("jack"))])
def bench(request):
    if request.param != SOUND_CARD:
        yield Bench(request.param, lambda _: None)
        return
    with request.getfixturevalue("served").loop():
        yield Bench(request.param, until_heard)


@pytest.mark.parametrize("name", [b for b in BENCHES if b not in KINDS])
def test_every_bench_is_such_a_device(name):
    test_gives_back_as_many_samples_as_it_played_on_every_input(Bench(PREFIX + name, lambda _: None))


def test_gives_back_as_many_samples_as_it_played_on_every_input(bench):
    with bench.opened() as device:
        recording, told = play(device)
        assert recording.signal.samples.shape == (SHORT.frames, 2)
        assert recording.signal.rate == RATE
        assert recording.stimulus == SHORT
        assert np.isfinite(recording.signal.samples).all()
        assert told == sorted(told)
        assert told[-1] == pytest.approx(1.0)
        assert device.info.name == bench.name
        assert RATE in device.info.rates


def test_hands_out_the_inputs_that_the_chain_names_in_its_order(bench):
    with bench.opened(Wiring(RATE, inputs=(2,))) as device:
        assert play(device)[0].signal.channels == 1


def test_never_plays_above_either_ceiling(bench):
    with bench.opened(ceiling_dbfs=-30.0) as device:
        with pytest.raises(MeasurementError, match="maximum output level of -40 dBFS. Nothing was played"):
            play(device, LOUD, ceiling_dbfs=-40.0)
        assert play(device, ceiling_dbfs=-40.0)[0].signal.frames == SHORT.frames


def test_stops_within_a_block_when_cancelled_and_can_be_used_again(bench):
    with bench.opened() as device:
        begun = time.monotonic()
        with pytest.raises(CancelledError) as told:
            play(device, LONG, cancelled=lambda: time.monotonic() - begun > 0.15)
        assert time.monotonic() - begun < LONG.frames / RATE / 4, "it did not play to the end"
        assert str(told.value).endswith(".")
        assert play(device)[0].signal.frames == SHORT.frames


def test_ends_early_once_enough_was_heard(bench):
    with bench.opened() as device:
        recording, _ = play(device, LONG, enough=lambda so_far: so_far.frames >= RATE // 4)
        assert RATE // 4 <= recording.signal.frames < LONG.frames / 4


def test_records_without_playing(bench):
    with bench.opened() as device:
        recording = device.record(0.2, progress=lambda _: None, cancelled=lambda: False)
        assert recording.signal.frames == round(0.2 * RATE)
        assert recording.stimulus is None
        ours = np.exp(-2j * np.pi * 997 * np.arange(recording.signal.frames) / RATE) @ recording.signal.samples
        assert np.abs(ours).max() / recording.signal.frames < 1e-3, "no tone of ours is in it"


def test_refuses_a_stimulus_of_another_rate(bench):
    other = tone(rate=96000, frequency=997, duration=0.1, level=-20)
    with bench.opened() as device, pytest.raises(FormatRefusedError, match="the stimulus at 96000 Hz"):
        play(device, other)


@pytest.mark.parametrize(
    "wiring",
    [Wiring(12345), Wiring(RATE, inputs=(1, 99)), Wiring(RATE, outputs=(99,))],
    ids=["rate", "input", "output"],
)
def test_refuses_in_words_what_it_does_not_have(bench, wiring):
    with pytest.raises(EpidoteError) as told, bench.opened(wiring) as device:
        play(device)
    assert str(told.value).endswith(".")


def test_says_that_it_is_closed(bench):
    if bench.name != SOUND_CARD:
        return  # a simulated device holds nothing that could be gone
    with bench.opened() as device:
        pass
    with pytest.raises(MeasurementError, match=r"is closed\."):
        play(device)


def test_states_a_latency_or_none(bench):
    with bench.opened() as device:
        stated = device.latency()
        assert stated is None or 0 < stated < 1


def heard(live, wanted: Callable[[np.ndarray], bool]) -> np.ndarray:
    """What came in until it is as wanted; at most a minute is listened to."""
    kept = np.zeros((0, 2))
    for _ in range(6000):
        kept = np.concatenate([kept, live.read()])[-RATE:]
        if kept.shape[0] and wanted(kept):
            return kept
        time.sleep(0.01)
    raise AssertionError("it never came")


def test_plays_while_it_listens_no_louder_than_the_ceiling_and_is_silent_when_muted(bench):
    with bench.opened(ceiling_dbfs=-6.0) as device:
        live = device.listen(ceiling_dbfs=-20.0)
        try:
            assert live.rate == RATE
            live.play(GeneratorSettings(Waveform.TONE, level=0.0, frequency=1000))
            sounding = heard(live, lambda x: x.shape[0] > RATE // 4 and level_of_1k(x) > 1e-3)
            assert sounding.shape[1] == 2
            live.mute()
            heard(live, lambda x: level_of_1k(x[-RATE // 10 :]) < 1e-3)
            assert all(isinstance(f, str) for f in live.faults())
        finally:
            live.close()
        assert play(device)[0].signal.frames == SHORT.frames, "after listening it measures again"


def level_of_1k(x: np.ndarray) -> float:
    """Amplitude at 1 kHz, in FS, of the louder channel."""
    n = x.shape[0]
    return float(2 / n * np.abs((sine(1000, 1.0, n, RATE, 0.0) - 1j * sine(1000, 1.0, n, RATE, -np.pi / 2)) @ x).max())


def test_the_same_device_can_be_opened_again(bench):
    for _ in range(2):
        with bench.opened() as device:
            assert play(device)[0].signal.frames == SHORT.frames


@pytest.mark.parametrize("bench", [name for name, one in BENCHES.items() if isinstance(one.unit, Adjustable)])
def test_a_value_that_a_knob_does_not_have_is_refused_with_those_it_has(bench):
    """Else the unit would be measured as before, and “no measurable difference” be found."""
    for knob, values in BENCHES[bench].unit.choices.items():
        for value in values:
            open_device(PREFIX + bench, USUAL, {knob: value}).close()
        with pytest.raises(SettingError, match="is not possible with this device") as refused:
            open_device(PREFIX + bench, USUAL, {knob: "magic"})
        assert all(value in str(refused.value) for value in values)


def test_a_load_that_is_no_resistance_is_refused():
    with pytest.raises(SettingError, match="not a resistance"):
        open_device(PREFIX + "ostrel-p40", USUAL, {"load": "heavy"})
    open_device(PREFIX + "ostrel-p40", USUAL, {"load": "4 Ω", "seat": "3"}).close()
