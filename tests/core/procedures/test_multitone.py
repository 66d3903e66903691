"""Multitone through known filters, noise and polynomials, and on a clock that is not ours."""

import math

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.multitone import tones_of
from epidote.core.stimuli.tone import tone
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse
from tests.conftest import table, through
from tests.ideal_device import IdealDevice

KEY = "multitone"
CHAIN = Chain(rate=48000)


def settings(**values):
    return make_settings(procedure(KEY).Settings, {"duration": 2, **values})


def run(unit, noise=1e-9, **values):
    chosen = settings(**values)
    recordings = play_and_record(KEY, chosen, CHAIN, IdealDevice(unit, rate=48000, noise=noise))
    return analyse(KEY, recordings, chosen, CHAIN)


def filtered(x, response):
    return np.stack([through(x[:, c], 48000, response, 48000) for c in range(x.shape[1])], axis=1)


@pytest.mark.parametrize("row", table("10_rc_corner")[:2])
def test_a_low_pass_of_the_handbook(row):
    """First order: -3.0103 dB at the corner, f_c = 1/(2 pi R C) (reference README, section 10)."""
    corner = float(row["corner_frequency_hz"])
    result = run(lambda x: filtered(x, lambda f: 1 / (1 + 1j * f / corner)), per_octave=12)
    curve = result.curve("level")
    np.testing.assert_allclose(curve.y, -10 * np.log10(1 + (curve.x / corner) ** 2), atol=1e-4)


def test_tones_lie_on_exact_bins_with_a_low_crest():
    stimulus = procedure(KEY).plan(settings(per_octave=10, duration=4), CHAIN)[0]
    bins, peak = tones_of(stimulus)
    period = round(stimulus["period"])
    first = round(stimulus["lead"] + stimulus["settle"])
    x = stimulus.samples()[first : first + period]
    lines = 2 * np.abs(np.fft.rfft(x)) / period
    np.testing.assert_allclose(lines[bins], peak, rtol=1e-9)
    lines[bins] = 0
    assert lines.max() < 1e-12
    assert (np.diff(bins) >= 4).all()
    crest = 20 * math.log10(np.abs(x).max() / x.std())
    assert crest < 13, "noise of the same length has more than 14 dB"
    assert np.abs(stimulus.samples()).max() == pytest.approx(10 ** (-6 / 20), rel=1e-3)


@pytest.mark.parametrize("noise", [1e-3, 1e-5])
def test_noise_between_the_tones(noise):
    """White noise of known power: what lies from tone to tone, and all of it together."""
    result = run(lambda x: x, noise=noise)
    stimulus = procedure(KEY).plan(settings(), CHAIN)[0]
    bins, peak = tones_of(stimulus)
    density = noise**2 / 24000
    band = (bins[-1] - bins[0]) * 48000 / stimulus["period"]
    expected = 10 * math.log10(density * band / (bins.size * peak**2 / 2))
    reading = result.reading("distortion_noise")
    assert reading.value == pytest.approx(expected, abs=5 * reading.spread)
    floor = result.curve("floor")
    widths = np.diff(bins) * 48000 / stimulus["period"]
    wide = widths > 500
    np.testing.assert_allclose(floor.y[wide], (10 * np.log10(density * widths / (peak**2 / 2)))[wide], atol=1.0)


def test_distortion_between_the_tones_against_numpy():
    """A cubic: everything that numpy's transform of one period finds off the tones' bins."""
    a3 = 0.05
    result = run(lambda x: x + a3 * x**3)
    stimulus = procedure(KEY).plan(settings(), CHAIN)[0]
    bins, _ = tones_of(stimulus)
    first, period = round(stimulus["lead"] + stimulus["settle"]), round(stimulus["period"])
    x = stimulus.samples()[first : first + period]
    spectrum = 2 * np.square(np.abs(np.fft.rfft(x + a3 * x**3)) / period)
    tones = spectrum[bins].sum()
    spectrum[bins] = 0
    expected = 10 * math.log10(spectrum[bins[0] : bins[-1]].sum() / tones)
    assert result.reading("distortion_noise").value == pytest.approx(expected, abs=0.3), (
        "products beside a tone are counted by their neighbours"
    )


@pytest.mark.parametrize("ppm", [0.0, 3.0, -180.0])
def test_a_player_with_a_clock_of_its_own(ppm):
    """The recorder samples the tones' own formula at its own times; unknown start."""
    chosen = settings(duration=3)
    stimulus = procedure(KEY).plan(chosen, CHAIN)[0]
    bins, _ = tones_of(stimulus)
    period = round(stimulus["period"])
    first = round(stimulus["lead"] + stimulus["settle"])
    lines = 2 * np.fft.rfft(stimulus.samples()[first : first + period])[bins] / period
    gain = 1 / (1 + 1j * bins * 48000 / period / 5000)
    times = np.arange(stimulus.frames) / (1 + ppm * 1e-6)
    steady = sum(
        np.real(a * g * np.exp(2j * np.pi * b * (times - first) / period))
        for a, g, b in zip(lines, gain, bins, strict=True)
    )
    sounding = (times > stimulus["lead"]) & (times < stimulus.frames - stimulus["lead"])
    rng = np.random.default_rng(1)
    x = np.concatenate([np.zeros(31234), steady * sounding, np.zeros(9000)])
    x = x + 1e-6 * rng.standard_normal(x.size)
    result = analyse(KEY, [Recording(Signal(x, 48000.0), stimulus)], chosen, CHAIN)
    curve = result.curve("level")
    np.testing.assert_allclose(curve.y, 20 * np.log10(np.abs(gain)), atol=0.001)
    clock = result.reading("clock")
    assert clock.value == pytest.approx(ppm, abs=0.001)
    assert (Caution.OTHER_CLOCK in result.cautions) == (ppm != 0)
    assert result.reading("distortion_noise").value < -80


def test_a_short_period_takes_fewer_low_tones():
    short = tones_of(procedure(KEY).plan(settings(duration=0.3, per_octave=10), CHAIN)[0])[0]
    long = tones_of(procedure(KEY).plan(settings(duration=4, per_octave=10), CHAIN)[0])[0]
    assert short.size < long.size
    assert (np.diff(short) >= 4).all()


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"stop_frequency": 24000}, "too high for 48000"),
        ({"start_frequency": 990, "stop_frequency": 1010}, "Fewer than two tones"),
        ({"start_frequency": 500, "stop_frequency": 400}, "must be lower than"),
    ],
)
def test_settings_that_do_not_fit(values, words):
    with pytest.raises(SettingError, match=words):
        run(lambda x: x, **values)


def test_recordings_that_do_not_hold_it():
    chosen = settings()
    stimulus = procedure(KEY).plan(chosen, CHAIN)[0]
    cut = Recording(Signal(stimulus.samples()[: stimulus.frames // 2], 48000.0), stimulus)
    assert Caution.STIMULUS_NOT_FOUND in analyse(KEY, [cut], chosen, CHAIN).cautions
    noise = Recording(Signal(0.1 * np.random.default_rng(0).standard_normal(200000), 48000.0), stimulus)
    assert Caution.STIMULUS_NOT_FOUND in analyse(KEY, [noise], chosen, CHAIN).cautions
    with pytest.raises(UnusableInputError, match="not of a multitone"):
        other = tone(rate=48000, frequency=1000, duration=1, level=-6)
        analyse(KEY, [Recording(Signal(other.samples(), 48000.0), other)], chosen, CHAIN)
