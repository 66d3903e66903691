"""Sound levels set by bursts through a room whose gain is known, and what stands in the way."""

import json
import math

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import MeasurementError, SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.measurement.device_setup import not_cancelled
from epidote.measurement.playback import play_and_record
from epidote.measurement.request import RunPlan
from epidote.measurement.sound_level import parse_sound_level, with_sound_level
from tests.ideal_device import IdealDevice

RATE = 48000
CHAIN = Chain(
    rate=RATE,
    input_full_scale=1.0,
    microphone_sensitivities=(0.05, 0.05),
    output_full_scale=2.0,
    output_ceiling=-6.0,
)


def room(x, seed=1):
    """A path of gain 0.1, with reverberation of 0.7 s as strong as the direct sound."""
    rng = np.random.default_rng(seed)
    t = np.arange(round(0.7 * RATE)) / RATE
    tail = rng.standard_normal(t.size) * 10 ** (-3 * t / 0.7)
    impulse = 0.1 * tail / np.sqrt(np.sum(tail**2))
    impulse[0] += 0.1
    size = x.shape[0] + impulse.size
    spectrum = np.fft.rfft(x, size, axis=0) * np.fft.rfft(impulse, size)[:, None]
    return np.fft.irfft(spectrum, size, axis=0)[: x.shape[0]]


def plan(key="band-levels", chain=CHAIN, **values):
    usual = {"duration": 3.0, "background": 1.0} if key == "band-levels" else {}
    return RunPlan(0, 0, key, make_settings(procedure(key).Settings, {**usual, **values}), chain)


@pytest.mark.parametrize(
    ("text", "value", "letter"),
    [
        ("80 dB(A)", 80, "A"),
        ("75,5 dB SPL", 75.5, "Z"),
        ("70dBC", 70, "C"),
        ("62 dB SPL(A)", 62, "A"),
        ("60 dBZ", 60, "Z"),
    ],
)
def test_typed_levels(text, value, letter):
    level = parse_sound_level(text)
    assert (level.value, level.letter) == (value, letter)


@pytest.mark.parametrize("text", ["-20", "-20 dBFS", "2 V", "3 dBV", "80 dB", ""])
def test_what_is_no_sound_level(text):
    assert parse_sound_level(text) is None


@pytest.mark.parametrize("text", ["80 dB(A)", "65 dB(A)", "83 dB(C)", "80 dB SPL"])
@pytest.mark.parametrize("key", ["band-levels", "tone"])
def test_the_run_has_the_level_within_three_tenths(text, key):
    device = IdealDevice(room, rate=RATE, noise=3e-6)
    wanted = parse_sound_level(text)
    order, found = with_sound_level(plan(key), wanted, device, not_cancelled)
    assert sum(device.played) < 2.0
    recordings = play_and_record(key, order.settings, order.chain, device)
    result = procedure(key).analyse(recordings, order.settings, order.chain)
    if key == "tone":
        levels = [20 * math.log10(result.reading("level", n).value / 20e-6) for n in (1, 2)]
    else:
        name = {"A": "level_a", "C": "level_c", "Z": "level"}[wanted.letter]
        levels = [result.reading(name, n).value for n in (1, 2)]
    mean = 10 * math.log10(np.mean(10 ** (np.array(levels) / 10)))
    assert mean == pytest.approx(wanted.value, abs=0.3)
    assert found.reached == pytest.approx(wanted.value, abs=0.3)


def test_never_above_the_ceiling():
    device = IdealDevice(room, rate=RATE, noise=3e-6)
    with pytest.raises(MeasurementError, match="out of reach: the chain's maximum output level of -6 dBFS gives"):
        with_sound_level(plan(), parse_sound_level("110 dB(A)"), device, not_cancelled)


def test_noise_in_the_way_is_told():
    device = IdealDevice(lambda x: 0 * x, rate=RATE, noise=3e-4)
    with pytest.raises(MeasurementError, match="nothing rises over the background"):
        with_sound_level(plan(), parse_sound_level("80 dB(A)"), device, not_cancelled)


def test_a_source_that_does_not_follow_is_told():
    """Its automatic volume brings everything to the same level."""

    def steady(x):
        y = 0.1 * x
        loud = np.abs(y) > 1e-6
        return y * (2e-4 / np.sqrt(np.mean(y[loud] ** 2))) if loud.any() else y

    with pytest.raises(MeasurementError, match="does not follow|out of reach"):
        with_sound_level(plan(), parse_sound_level("80 dB(A)"), IdealDevice(steady, rate=RATE), not_cancelled)


def test_it_needs_microphones_and_a_level():
    device = IdealDevice(room, rate=RATE)
    with pytest.raises(SettingError, match="needs microphones"):
        with_sound_level(plan(chain=Chain(rate=RATE)), parse_sound_level("80 dB(A)"), device, not_cancelled)
    with pytest.raises(SettingError, match="has no level of its own"):
        with_sound_level(plan("noise"), parse_sound_level("80 dB(A)"), device, not_cancelled)


def test_on_the_command_line_and_as_a_condition_of_the_row(run, tmp_path):
    """The wire stands for the path: 4 V at full scale out, 8 V in, 0.05 V/Pa."""
    from epidote.core.chain.chain_toml import chain_to_toml

    path = tmp_path / "Air.epidote"
    run("study", "new", path)
    run("study", "add", path, "--maker", "Havelmar", "--model", "Dome", "--device", "standin:wire")
    run(
        *("study", "add", path, "--maker", "Havelmar", "--model", "Dome", "--device", "standin:wire"),
        *("--condition", "level=75 dB(A)"),
    )
    chain = tmp_path / "air.toml"
    chain.write_text(
        chain_to_toml(
            Chain(name="Air", device="standin:wire", input_full_scale=8.0, microphone_sensitivities=(0.05, 0.05))
        )
    )
    common = ("--chain", chain, "--set", "duration=2", "--set", "background=1", "--seed", "1", "--full-level", "--json")
    for subject, more, expected in (
        ("Havelmar Dome, level 75 dB(A)", (), 75.0),
        ("1", ("--set", "level=85 dB(A)"), 85.0),
    ):
        row = subject if subject != "1" else "2"
        code, out, err = run("measure", "band-levels", "--study", path, "--subject", row, *more, *common)
        assert code == 0, err
        data = json.loads(out)
        level = next(r for r in data["readings"] if r["key"] == "level_a" and r["channel"] == "average")
        assert level["value"] == pytest.approx(expected, abs=0.3)
        assert f"{expected:.1f} dB(A) at" in data["device"]
    # a procedure that has no level of its own is measured in such a row as in any other
    row = ("--subject", "Havelmar Dome, level 75 dB(A)", "--chain", chain, "--full-level")
    code, _, err = run("measure", "noise", "--study", path, *row, "--set", "duration=1", "--seed", "1")
    assert code == 0, err
