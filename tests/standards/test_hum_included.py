"""Mains hum where it cannot be told from what is measured: in a sweep's response, on a tone, on a harmonic.

Hum that is elsewhere is no reason to doubt. The truth is the recording without hum.
"""

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.measurement.playback import play_and_record
from tests.ideal_device import IdealDevice

RATE = 48000.0


def measured(key, settings, hum_amplitude, seed=0, frequency=50.01):
    """Through a unit of gain 1 with an H2 of -60 dB, hum added to what comes back."""

    def unit(x):
        t = np.arange(x.shape[0]) / RATE
        hum = hum_amplitude * (
            np.cos(2 * np.pi * frequency * t + 1)
            + 0.5 * np.cos(4 * np.pi * frequency * t)
            + 0.3 * np.cos(6 * np.pi * frequency * t)
        )
        return x + 2e-3 * x**2 + hum[:, None]

    chain, carried = Chain(rate=RATE), procedure(key)
    made = make_settings(carried.Settings, settings)
    recordings = play_and_record(key, made, chain, IdealDevice(unit, rate=RATE, noise=1e-6, seed=seed))
    return carried.analyse(recordings, made, chain)


@pytest.mark.parametrize("below", [100, 60, 54, 44, 34])
def test_in_a_sweeps_response(below):
    """Said where the response is wrong by more than 0.1 dB, and only there."""
    settings = {"duration": 2.0, "level": -20.0}
    hum = 0.1 * 10 ** (-below / 20)
    with_hum, without = measured("response", settings, hum), measured("response", settings, 0.0)
    error = np.abs(with_hum.curve("level", 1).y - without.curve("level", 1).y)
    worst = float(error[with_hum.curve("level", 1).x < 200].max())
    if worst > 0.15:
        assert Caution.HUM_INCLUDED in with_hum.cautions
    if worst < 0.07:
        assert Caution.HUM_INCLUDED not in with_hum.cautions
    assert worst > 0.15 or below > 44


@pytest.mark.parametrize(
    ("frequency", "hum", "included"),
    [(75.0, 1e-4, True), (75.0, 1e-7, False), (1000.0, 1e-3, False), (430.0, 1e-3, False)],
)
def test_on_a_tone_and_its_harmonics(frequency, hum, included):
    """H2 of 75 Hz lies on 150 Hz; of 1 kHz and 430 Hz none lies on the mains' first ten lines."""
    result = measured("tone", {"frequency": frequency, "duration": 2.0, "level": -6.0}, hum, frequency=50.0)
    assert (Caution.HUM_INCLUDED in result.cautions) == included


@pytest.mark.parametrize(("hum", "included"), [(1e-4, True), (1e-8, False)])
def test_on_the_harmonics_of_stepped_tones(hum, included):
    settings = {
        "points_per_octave": 3,
        "dwell": 0.3,
        "start_frequency": 50.0,
        "stop_frequency": 1000.0,
        "level": "-6 dBFS",
    }
    result = measured("distortion-frequency", settings, hum, frequency=50.0)
    assert (Caution.HUM_INCLUDED in result.cautions) == included
    assert ("hum_included_hz" in result.curve("thd", 1).meta) == included
    if included:
        clean = measured("distortion-frequency", settings, 0.0)
        named = [float(f) for f in result.curve("thd", 1).meta["hum_included_hz"].split()]
        wrong = np.abs(result.curve("thd", 1).y - clean.curve("thd", 1).y) > 0.3
        assert set(np.round(result.curve("thd", 1).x[wrong])) <= set(np.round(named))
        assert max(named) < 700  # what lies above meets no line


def test_the_mains_own_line_is_judged_by_the_other_steps():
    """At 100 Hz the second line is hidden by the tone; at 1 kHz it is seen."""
    settings = {"frequency": 100.0, "steps": 4, "dwell": 0.5, "start_level": -30.0, "stop_level": -6.0}
    assert Caution.HUM_INCLUDED in measured("distortion-level", settings, 1e-3, frequency=50.0).cautions
    assert Caution.HUM_INCLUDED not in measured("distortion-level", settings, 0.0).cautions


@pytest.mark.parametrize(("hum", "included"), [(5e-3, True), (1e-7, False)])
def test_on_a_tone_of_a_multitone(hum, included):
    """With 4 s a tone lies on 50 Hz; the second line, which none hides, shows the hum."""
    settings = {"duration": 4.0, "level": -6.0}
    result, clean = (measured("multitone", settings, size, frequency=50.0) for size in (hum, 0.0))
    assert (Caution.HUM_INCLUDED in result.cautions) == included
    assert Caution.HUM_INCLUDED not in clean.cautions
    moved = float(np.abs(result.curve("level", 1).y - clean.curve("level", 1).y).max())
    assert (moved > 0.1) == included
