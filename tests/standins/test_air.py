"""The dome, the loudspeaker and its microphones behave as their formulas say, through the procedures."""

import json
import math

import numpy as np
import pytest

from epidote.audio.device import Wiring
from epidote.audio.registry import open_device
from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.results.channels import AVERAGE
from epidote.core.settings import make_settings
from epidote.measurement.playback import play_and_record
from epidote.standins.room import HAVELMAR_DOME, SOUND
from epidote.standins.two_way import CHEAP, KELWIN_T2, MEASURING

RATE = 48000
SEATS = Chain(
    inputs=(1, 2, 3, 4, 5, 6), output_full_scale=4.0, input_full_scale=1.0, microphone_sensitivities=(0.05,) * 6
)
PAIR = Chain(output_full_scale=4.0, input_full_scale=1.0, microphone_sensitivities=(0.05, 0.008))


def measured(key, bench, chain, conditions=None, **values):
    settings = make_settings(procedure(key).Settings, values)
    device = open_device(f"standin:{bench}", Wiring(RATE, chain.outputs, chain.inputs), conditions or {}, seed=5)
    recordings = play_and_record(key, settings, chain, device)
    return procedure(key).analyse(recordings, settings, chain)


def test_the_impulse_response_of_the_room_is_its_closed_form():
    """Allen, Berkley 1979: the sum over images, evaluated in the time and in the frequency domain."""
    source, place = HAVELMAR_DOME.loudspeakers[0], HAVELMAR_DOME.microphones[0]
    impulse = HAVELMAR_DOME.box.impulse(source, place, RATE)
    f = np.linspace(50, 15000, 60)
    times = np.arange(impulse.size) / RATE
    transformed = np.array([np.sum(impulse * np.exp(-2j * np.pi * one * times)) for one in f])
    closed = HAVELMAR_DOME.box.response(source, place, f)
    np.testing.assert_allclose(transformed, closed, atol=3e-3 * np.abs(closed).max())
    direct = math.dist(source, place) / SOUND
    assert np.argmax(np.abs(impulse)) / RATE == pytest.approx(direct, abs=2 / RATE)


@pytest.mark.slow
def test_seats_of_the_dome_differ_and_six_microphones_are_averaged():
    """The level at a seat against the closed form: pink noise through both loudspeakers, summed over frequency."""
    levels = {}
    for seat in ("1", "6"):
        result = measured("band-levels", "havelmar-dome", SEATS, {"seat": seat}, duration=6.0, background=2.0)
        assert {c.channel for c in result.curves if c.key == "levels"} == set(range(7))
        levels[seat] = result.curve("levels", AVERAGE)
        assert result.reading("background", AVERAGE).value < result.reading("level_a", AVERAGE).value - 20
    dome = HAVELMAR_DOME
    x = levels["1"].x
    for band in (200.0, 1000.0):
        number = int(np.argmin(np.abs(x - band)))
        f = np.exp(np.linspace(np.log(x[number] * 0.891), np.log(x[number] * 1.122), 400))
        pressures = []
        for place in dome.set_to({"seat": "1"}).microphones:
            both = sum(dome.box.response(source, place, f) for source in dome.loudspeakers)
            pressures.append(np.mean(np.abs(both * dome.source(f)) ** 2))
        # against the same of 1 kHz: the noise's own level cancels
        levels.setdefault("closed", []).append(10 * math.log10(np.mean(pressures)))
        levels.setdefault("found", []).append(levels["1"].y[number])
    closed, found = levels["closed"], levels["found"]
    assert found[0] - found[1] == pytest.approx(closed[0] - closed[1], abs=1.2)  # chance of 6 s of noise
    assert np.abs(levels["1"].y - levels["6"].y).max() > 1.0


def test_the_loudspeaker_before_the_wall():
    """A gate before the reflection gives the loudspeaker's formula; the wall is 4 m of detour away."""
    result = measured("response", "kelwin-t2", PAIR, gate="auto", level=-20.0, duration=4.0)
    level = result.curve("level", 1)
    length = result.reading("lowest_frequency", 1).at["gate_s"]
    assert length == pytest.approx(KELWIN_T2.detour / SOUND, rel=0.07)
    far = (level.x > 3 / length) & (level.x < 8000)
    expected = 20 * np.log10(np.abs(KELWIN_T2.response(level.x)) * KELWIN_T2.pascals_per_volt)
    np.testing.assert_allclose(level.y[far], expected[far], atol=0.25)


def test_the_cheap_microphone_differs_by_its_own_response():
    result = measured("response", "kelwin-t2", PAIR, gate="8ms", level=-20.0, duration=4.0)
    one, two = result.curve("level", 1), result.curve("level", 2)
    inside = (one.x > 400) & (one.x < 12000)
    truth = 20 * np.log10(np.abs(CHEAP.response(one.x) / MEASURING.response(one.x)))
    np.testing.assert_allclose((two.y - one.y)[inside], truth[inside], atol=0.25)


@pytest.mark.slow
def test_only_the_loose_loudspeaker_rattles():
    good = measured("impulsive-distortion", "kelwin-t2", PAIR, level="-6")
    assert good.reading("impulses", 1).value is None
    loose = measured("impulsive-distortion", "kelwin-t2", PAIR, {"state": "loose"}, level="-6")
    assert loose.reading("impulses", 1).value == 1
    assert 30 < loose.reading("worst_frequency", 1).value < 140
    assert "rubbing or a loose part" in loose.reading("impulses", 1).at["finding"]


def test_devices_say_how_many_inputs_they_have(run):
    listed = {d["name"]: d for d in json.loads(run("devices", "--json")[1])}
    assert listed["standin:havelmar-dome"]["inputs"] == 6
    assert listed["standin:wire"]["inputs"] == 2
