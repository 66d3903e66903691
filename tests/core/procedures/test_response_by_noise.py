"""The response by noise, by a sound file and between two channels, through known filters."""

import math

import numpy as np
import pytest
import scipy.signal
import soundfile

import epidote.audio.files.sound_file  # noqa: F401  the response to a sound file reads it through this
from epidote.core.analysis.spectral.transfer_function import estimate_transfer_function
from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.every import stimulus_from_json
from epidote.core.stimuli.noise import Colour, noise
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse
from tests.conftest import through
from tests.ideal_device import IdealDevice

KEY, RATE = "response", 48000
CHAIN = Chain(rate=RATE)


def settings(**values):
    return make_settings(procedure(KEY).Settings, {"stimulus": "noise", "duration": 8, "level": -3, **values})


def run(unit, noise_level=1e-9, **values):
    chosen = settings(**values)
    recordings = play_and_record(KEY, chosen, CHAIN, IdealDevice(unit, rate=RATE, noise=noise_level))
    return analyse(KEY, recordings, chosen, CHAIN), recordings


def filtered(x, response):
    return np.stack([through(x[:, c], RATE, response, RATE) for c in range(x.shape[1])], axis=1)


def high_and_low(f):
    return (1j * f / 50) / (1 + 1j * f / 50) / (1 + 1j * f / 6000)


@pytest.mark.parametrize("colour", ["white", "pink"])
def test_a_band_pass_of_the_handbook(colour):
    """First-order corners: -3.0103 dB at f_c (reference README, section 10)."""
    result, _ = run(lambda x: filtered(x, high_and_low), colour=colour)
    curve = result.curve("level")
    expected = 20 * np.log10(np.abs(high_and_low(curve.x)))
    np.testing.assert_allclose(curve.y[curve.x > 80], expected[curve.x > 80], atol=0.01)
    np.testing.assert_allclose(
        curve.y[curve.x > 30], expected[curve.x > 30], atol=0.06
    )  # a second's segments blur what happens within 2 Hz
    middle = abs(high_and_low(1000.0))
    assert result.reading("gain_1k").value == pytest.approx(20 * math.log10(middle), abs=0.003)
    assert result.reading("bandwidth_high").value == pytest.approx(
        6000 * math.sqrt((middle * (1 + 0)) ** -2 * 10**0.3 - 1), rel=0.01
    )
    assert result.reading("delay").value * RATE == pytest.approx(700, abs=8), (
        "the low-pass delays by up to 1.3 samples, the high-pass advances"
    )


def test_coherence_and_spread_are_those_of_the_theory():
    """Noise at the output: coherence = S/(S+N); the level scatters by sqrt((1-c)/(2cn)) (Bendat, Piersol, from
    memory).
    """
    result, recordings = run(lambda x: x, noise_level=0.05, colour="white", duration=20)
    played = recordings[0].stimulus.samples()
    power = np.square(played[played != 0]).mean() / 0.96  # the noise ends at 0.48 of the rate
    expected = power / (power + 0.05**2)
    assert result.reading("coherence").value == pytest.approx(expected, abs=0.01)
    curve = result.curve("level")
    reading = result.reading("gain_1k")
    scatter = curve.y[(curve.x > 100) & (curve.x < 15000)].std()
    assert reading.spread == pytest.approx(scatter, rel=0.3)


def test_against_scipy():
    """The same H1 by scipy.signal, segment by segment."""
    rng = np.random.default_rng(2)
    x = rng.standard_normal(10 * RATE)
    y = scipy.signal.lfilter([1, 0.5], [1, -0.3], x) + 0.1 * rng.standard_normal(x.size)
    found = estimate_transfer_function(x, y, RATE)
    size = round(RATE / found.width)
    kind = {"fs": RATE, "nperseg": size, "noverlap": size - round(size / 4), "detrend": False}
    _, sxy = scipy.signal.csd(x, y, **kind)
    _, sxx = scipy.signal.welch(x, **kind)
    inner = slice(20, -20)
    assert found.delay == 0
    np.testing.assert_allclose(np.abs(found.response)[inner], np.abs(sxy / sxx)[inner], rtol=0.02)
    np.testing.assert_allclose(found.coherence[inner], scipy.signal.coherence(x, y, **kind)[1][inner], atol=0.01)


def test_a_sound_file_is_played_and_travels_with_the_recording(tmp_path):
    """The material may be deleted afterwards: what was played is the recording's last channel."""
    rng = np.random.default_rng(5)
    music = scipy.signal.lfilter([1], [1, -0.9], rng.standard_normal((6 * 44100, 2)), axis=0) * 0.05
    path = tmp_path / "song.wav"
    soundfile.write(path, music, 44100)
    chosen = settings(stimulus="file", material=str(path), duration=5)
    recordings = play_and_record(
        KEY, chosen, CHAIN, IdealDevice(lambda x: filtered(x, high_and_low) * np.array([1.0, -0.5]), rate=RATE)
    )
    path.unlink()
    assert recordings[0].signal.channels == 3
    result = analyse(KEY, recordings, chosen, CHAIN)
    assert {r.channel for r in result.readings} == {1, 2}
    curve = result.curve("level")
    good = (curve.x > 60) & (curve.x < 18000)
    np.testing.assert_allclose(curve.y[good], 20 * np.log10(np.abs(high_and_low(curve.x[good]))), atol=0.03)
    assert [result.reading("polarity", n).value for n in (1, 2)] == [1, -1]


def test_between_two_channels():
    """Material from anywhere: channel 1 listens before the unit, channel 2 behind it."""
    rng = np.random.default_rng(7)
    x = 0.1 * rng.standard_normal(6 * RATE)
    y = np.concatenate([np.zeros(321), through(x, RATE, high_and_low)])[: x.size]
    chosen = settings(stimulus="file", reference_channel=1)
    result = analyse(KEY, [Recording(Signal(np.column_stack([x, y]), float(RATE)))], chosen, CHAIN)
    assert {r.channel for r in result.readings} == {2}
    curve = result.curve("level", 2)
    good = curve.x > 40
    np.testing.assert_allclose(curve.y[good], 20 * np.log10(np.abs(high_and_low(curve.x[good]))), atol=0.05)
    assert result.reading("delay", 2).at["samples"] == pytest.approx(321, abs=8)


def test_a_recording_with_unknown_start():
    chosen = settings()
    stimulus = procedure(KEY).plan(chosen, CHAIN)[0]
    y = np.concatenate([np.zeros(77777), through(stimulus.samples(), RATE, high_and_low), np.zeros(4000)])
    result = analyse(KEY, [Recording(Signal(y, float(RATE)), stimulus)], chosen, CHAIN)
    assert result.reading("gain_1k").value == pytest.approx(20 * math.log10(abs(high_and_low(1000.0))), abs=0.005)


def test_noise_is_the_same_again_and_has_its_colour():
    a = noise(rate=RATE, colour=Colour.PINK, duration=10, level=-6)
    b = stimulus_from_json(a.to_json())
    assert np.array_equal(a.samples(), b.samples())
    assert np.abs(a.samples()).max() == pytest.approx(10 ** (-6 / 20))
    f, power = scipy.signal.welch(a.samples(), RATE, nperseg=1 << 14)
    octaves = [10 * math.log10(power[(f > c / 1.41) & (f < c * 1.41)].sum()) for c in (125, 500, 2000, 8000)]
    assert np.ptp(octaves) < 0.5, "pink: the same power in each octave"


def test_what_it_refuses(tmp_path):
    with pytest.raises(SettingError, match="Set it in “material”"):
        run(lambda x: x, stimulus="file")
    with pytest.raises(EpidoteError, match="cannot be read"):
        run(lambda x: x, stimulus="file", material=str(tmp_path / "none.wav"))
    soundfile.write(tmp_path / "short.wav", np.zeros(100), 48000)
    with pytest.raises(SettingError, match="less than 1 s"):
        run(lambda x: x, stimulus="file", material=str(tmp_path / "short.wav"))
    other = Recording(
        Signal(0.1 * np.random.default_rng(0).standard_normal(10 * RATE), float(RATE)),
        procedure(KEY).plan(settings(), CHAIN)[0],
    )
    assert Caution.STIMULUS_NOT_FOUND in analyse(KEY, [other], settings(), CHAIN).cautions
