"""Ratios of distortion summed as powers over microphones, by hand."""

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.procedures.common.power_average import summed_ratios
from epidote.core.procedures.registry import procedure
from epidote.core.results.channels import AVERAGE
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.settings import make_settings
from epidote.measurement.playback import play_and_record
from tests.ideal_device import IdealDevice

X = np.array([100.0, 1000.0])
THREE = Chain(
    rate=48000,
    inputs=(1, 2, 3),
    outputs=(1, 2, 3),
    input_full_scale=1.0,
    output_full_scale=1.0,
    microphone_sensitivities=(0.05,) * 3,
)


def channel(number, ratios, levels, unit="dB SPL"):
    curves = (
        Curve("thd", number, X, np.array(ratios), "Hz", "dB"),
        Curve("output", number, X, np.array(levels), "Hz", unit),
    )
    return Result(curves, (Reading("thd", number, ratios[1], "dB"),))


def test_power_sum_by_hand():
    """-40 dB of 80 dB and -20 dB of 60 dB are 40 dB each: 43.01 dB together, over 80.04 dB."""
    together = summed_ratios(
        [channel(1, (-40.0, -30.0), (80.0, 70.0)), channel(2, (-20.0, -30.0), (60.0, 70.0))], ("thd",), "output"
    )
    found = together.curve("thd", AVERAGE)
    expected = 10 * np.log10((10**4 + 10**4) / (10**8 + 10**6))
    assert found.y[0] == pytest.approx(expected, abs=1e-9)
    assert found.y[1] == pytest.approx(-30.0, abs=1e-9)
    level = together.curve("output", AVERAGE)
    assert level.y[0] == pytest.approx(10 * np.log10((10**8 + 10**6) / 2), abs=1e-9)


def test_levels_of_different_kinds_are_not_summed():
    together = summed_ratios(
        [channel(1, (-40.0, -30.0), (80.0, 70.0)), channel(2, (-20.0, -30.0), (-20.0, -30.0), "dBFS")],
        ("thd",),
        "output",
    )
    assert together.curves == ()


def test_stepped_distortion_over_three_microphones():
    """The second harmonic of x + 0.02 x² at 1 V peak is 1 % (20 lg 0.01); one microphone hears it ten times as much."""
    gains, bends = np.array([0.1, 0.05, 0.1]), np.array([0.02, 0.2, 0.02])
    device = IdealDevice(lambda x: gains * (x + bends * x**2), rate=48000, channels=3)
    settings = make_settings(
        procedure("distortion-frequency").Settings,
        {"level": "-20", "points_per_octave": 1, "start_frequency": 250.0, "stop_frequency": 4000.0, "dwell": 0.2},
    )
    result = procedure("distortion-frequency").analyse(
        play_and_record("distortion-frequency", settings, THREE, device), settings, THREE
    )
    each = np.array([10 ** (result.curve("thd", n).y / 10) for n in (1, 2, 3)])
    weights = (gains**2)[:, None]
    expected = 10 * np.log10((each * weights).sum(axis=0) / weights.sum())
    np.testing.assert_allclose(result.curve("thd", AVERAGE).y, expected, atol=0.02)
    amplitude = 10 ** (-20 / 20)
    by_hand = 20 * np.log10(0.5 * amplitude) + 10 * np.log10((bends**2 * gains**2).sum() / (gains**2).sum())
    assert result.reading("thd", AVERAGE).value == pytest.approx(by_hand, abs=0.05)


def test_intermodulation_over_three_microphones():
    """Products of x + 0.02 x² re the upper tone: d2 = 2 · 0.02 · a1 in each microphone; one hears ten times as much."""
    gains, bends = np.array([0.1, 0.05, 0.1]), np.array([0.02, 0.2, 0.02])
    device = IdealDevice(lambda x: gains * (x + bends * x**2), rate=48000, channels=3)
    wanted = {"level": -20, "duration": 0.5, "sweep_from": 3000, "points_per_octave": 1}
    settings = make_settings(procedure("intermodulation").Settings, wanted)
    recordings = play_and_record("intermodulation", settings, THREE, device)
    result = procedure("intermodulation").analyse(recordings, settings, THREE)
    lower_peak = 0.1 * 0.8  # of the peak at -20 dBFS, four parts of five
    power = float((bends**2 * gains**2).sum() / (gains**2).sum())
    by_hand = 10 * np.log10((2 * lower_peak) ** 2 * power)
    assert result.reading("modulation_d2", AVERAGE).value == pytest.approx(by_hand, abs=0.02)
    np.testing.assert_allclose(result.curve("d2", AVERAGE).y, by_hand, atol=0.05)
    levels = [result.reading("level_2", n).value for n in (1, 2, 3)]
    assert result.reading("level_2", AVERAGE).value == pytest.approx(np.sqrt(np.mean(np.square(levels))), rel=1e-9)
