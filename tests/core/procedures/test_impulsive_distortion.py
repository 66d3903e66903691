"""Sweeps with clicks once a period, and good units with harmonics, noise and clicks from elsewhere."""

import math

import numpy as np
import pytest

from epidote.core.analysis.acoustics.impulsive import SweepResidual
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.tone import tone

RATE = 48000
PROCEDURE = procedure("impulsive-distortion")
SETTINGS = make_settings(PROCEDURE.Settings, {"duration": 8.0})
STIMULUS = SETTINGS.played(Chain())
PEAK = 10 ** (-6 / 20)
TIME = (np.arange(STIMULUS.frames) - STIMULUS["lead"]) / RATE
SOUNDING = (TIME >= 0) & (TIME < 8.0)
CYCLES = STIMULUS["first"] * STIMULUS["length"] * np.exp(np.clip(TIME, 0, 8.0) / STIMULUS["length"])
FREQUENCY = CYCLES / STIMULUS["length"]


def unit(seed, *, orders=5, first_db=-40.0, slope_db=-6.0, noise_db=-70.0, foreign=0.0):
    """A good unit: harmonics from the second on, white noise re the fundamental, a click from elsewhere if wished."""
    rng = np.random.default_rng(seed)
    y = STIMULUS.samples().copy()
    inside = SOUNDING & (FREQUENCY > 20) & (FREQUENCY < 2000)
    for order in range(2, orders + 1):
        wave = np.sin(2 * np.pi * order * CYCLES + rng.uniform(0, 2 * np.pi))
        level = PEAK * 10 ** ((first_db + slope_db * (order - 2)) / 20)
        y += level * wave * (inside & (order * FREQUENCY < 0.45 * RATE))
    if foreign:
        place = int(rng.uniform(0.3, 0.7) * y.size)
        y[place : place + 4] += foreign
    y = np.concatenate([np.zeros(480), y])[: y.size]  # 10 ms late
    return y + PEAK / math.sqrt(2) * 10 ** (noise_db / 20) * rng.standard_normal(y.size)


def clicks(seed, width, low, high, height=1e-3, a_period=1):
    """Raised-cosine pulses of a width in s, at fixed phases of each period while the sweep passes from low to high."""
    rng = np.random.default_rng(seed)
    y = np.zeros(TIME.size)
    frames = math.ceil(width * RATE) + 2
    for part in range(a_period):
        phase = CYCLES - rng.uniform(0, 0.3 / a_period) - part / a_period
        places = np.flatnonzero(np.diff(np.floor(phase)) > 0)
        for place in places[(FREQUENCY[places] > low) & (FREQUENCY[places] < high)]:
            t = (np.arange(frames) - frames / 2) / RATE
            pulse = np.where(np.abs(t) < width / 2, 0.5 + 0.5 * np.cos(2 * np.pi * t / width), 0.0)
            y[place : place + frames] += height * PEAK * pulse
    return np.concatenate([np.zeros(480), y])[: y.size]


def analysed(x):
    return PROCEDURE.analyse([Recording(Signal(x[:, None], RATE), STIMULUS)], SETTINGS, Chain())


@pytest.mark.parametrize(("seed", "width"), [(0, 1e-4), (1, 3e-4)])
def test_clicks_of_a_thousandth_are_found_at_their_frequency(seed, width):
    """0.1 % of the fundamental's peak, noise 70 dB below it; the region is a third of an octave about 95 Hz."""
    result = analysed(unit(seed) + clicks(seed, width, 85.0, 107.0))
    impulses = result.reading("impulses")
    assert impulses.value == 1
    assert Caution.SUSPECT not in impulses.cautions
    assert abs(math.log2(result.reading("worst_frequency").value / 95.4)) < 1 / 6
    assert impulses.at["finding"].startswith("impulses once per period between")
    assert impulses.at["low_hz"] < 95.4 < impulses.at["high_hz"]


@pytest.mark.parametrize(
    "values",
    [
        {},
        {"orders": 29, "first_db": -40.0, "slope_db": -4.5},
        {"orders": 29, "first_db": -78.0, "slope_db": -1.0},
        {"orders": 9, "first_db": -30.0, "slope_db": -5.0, "foreign": 0.1},
        {"noise_db": -40.0},
        {"noise_db": -400.0},
    ],
    ids=["plain", "steep", "high orders", "foreign click", "noisy", "without noise"],
)
@pytest.mark.parametrize("seed", range(1))
def test_good_units_get_no_verdict(values, seed):
    impulses = analysed(unit(100 + seed, **values)).reading("impulses")
    assert impulses.value is None or Caution.SUSPECT in impulses.cautions


def test_strong_distortion_of_high_order_is_at_most_suspect():
    """Orders 20 to 29 at -78 to -87 dB stand far above the noise, but nothing does above the 30th."""
    impulses = analysed(unit(7, orders=29, first_db=-60.0, slope_db=-1.0)).reading("impulses")
    assert Caution.SUSPECT in impulses.cautions


def test_dull_clicks_are_suspect_or_beyond_reach():
    impulses = analysed(unit(3) + clicks(3, 1e-3, 85.0, 107.0, height=3e-3)).reading("impulses")
    assert impulses.value is None or Caution.SUSPECT in impulses.cautions
    assert "0.5 ms" in Caution.NOTHING_FOUND.words


def test_two_impulses_a_period_are_counted():
    result = analysed(unit(5) + clicks(5, 1e-4, 85.0, 107.0, height=4e-3, a_period=2))
    assert result.reading("impulses").value == 2
    assert "twice per period" in result.reading("impulses").at["finding"]


def test_peak_and_crest_factor_are_those_of_the_clicks():
    """A click of 1 % of the peak and 0.1 ms keeps more than 0.63 of its height above the 20th order at 95 Hz."""
    result = analysed(unit(2, noise_db=-100.0) + clicks(2, 1e-4, 85.0, 107.0, height=1e-2))
    level = result.curve("impulsive_level")
    there = np.abs(np.log2(level.x / 95.4)) < 1 / 12
    assert level.y[there] == pytest.approx(-40.0, abs=4.0)
    assert result.curve("crest_factor").y[there].min() > 15
    far = level.x > 200
    assert level.y[far].max() < -65
    period_map = result.curve("period_map")
    assert period_map.y.size == level.x.size * period_map.meta["phases"]


def test_residual_holds_the_clicks_and_not_the_tone():
    x = unit(2, noise_db=-100.0) + clicks(2, 1e-4, 85.0, 107.0, height=1e-2)
    recordings = [Recording(Signal(x[:, None], RATE), STIMULUS)]
    sound = procedure("impulsive-distortion").make_sound("residual", recordings, SETTINGS, Chain(), 1)
    residual = sound.samples[:, 0]
    assert np.sqrt(np.mean(residual**2)) < 1e-3 * np.sqrt(np.mean(x**2))
    assert np.abs(residual).max() > 0.6 * 1e-2 * PEAK


def test_high_pass_that_tracks_is_exact():
    """A single order is kept above its own weight's edge and gone below, to -100 dB."""
    inside = SOUNDING & (FREQUENCY > 25) & (FREQUENCY < 600)
    edge = np.sin(np.pi * np.clip((TIME - TIME[inside][0]) / (TIME[inside][-1] - TIME[inside][0]), 0, 1)) ** 2
    x = STIMULUS.samples() + 0.01 * edge * np.sin(2 * np.pi * 25 * CYCLES)
    residual = SweepResidual(x, RATE, STIMULUS)
    middle = inside & (FREQUENCY > 60) & (FREQUENCY < 300)
    kept = residual.above(20)[middle] - (0.01 * edge * np.sin(2 * np.pi * 25 * CYCLES))[middle]
    assert np.sqrt(np.mean(kept**2)) < 1e-5
    assert np.sqrt(np.mean(residual.above(30)[middle] ** 2)) < 1e-5


def test_what_is_no_sweep_is_told():
    noise = 0.1 * np.random.default_rng(0).standard_normal(STIMULUS.frames)
    result = analysed(noise)
    assert result.reading("impulses").value is None
    assert Caution.STIMULUS_NOT_FOUND in result.cautions
    played = tone(rate=RATE, frequency=100.0, level=-6.0, duration=3.0)
    with pytest.raises(UnusableInputError, match="sweep"):
        PROCEDURE.analyse([Recording(Signal(noise[:, None], RATE), played)], SETTINGS, Chain())
    with pytest.raises(SettingError, match="an octave below"):
        make_settings(PROCEDURE.Settings, {"start_frequency": 100.0, "stop_frequency": 150.0})
