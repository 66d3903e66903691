"""Band levels of noise whose spectrum is a formula, against IEC 61260-1 and IEC 61672-1 and sums by hand."""

import math

import numpy as np
import pytest

from epidote.core.analysis.acoustics.band_levels import bands_within
from epidote.core.analysis.spectral.fractional_octave import edges
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.results.channels import AVERAGE
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.silence import silence
from epidote.measurement.playback import play_and_record
from tests.conftest import table
from tests.ideal_device import IdealDevice

RATE = 48000
MICROPHONES = Chain(input_full_scale=1.0, microphone_sensitivities=(0.05, 0.05, 0.05), inputs=(1, 2, 3))


def levels_of(x, background=None, chain=None, **values):
    recordings = [Recording(Signal(x, RATE), None)]
    if background is not None:
        recordings.insert(0, Recording(Signal(background, RATE), silence(RATE, background.shape[0] / RATE)))
    settings = make_settings(procedure("band-levels").Settings, values)
    return procedure("band-levels").analyse(recordings, settings, chain or Chain())


def white(seconds, rms, channels=1, seed=0):
    return rms * np.random.default_rng(seed).standard_normal((round(seconds * RATE), channels))


def test_bands_are_those_of_iec_61260():
    """Midband frequencies and edges from the table computed by IEC 61260-1 (tests/data)."""
    rows = [r for r in table("04_third_octave_bands") if 20 <= float(r["frequency_nominal_hz"]) <= 20000]
    middle = bands_within(3, 20.0, 20000.0, RATE, 30 * RATE)
    np.testing.assert_allclose(middle, [float(r["frequency_exact_mid_hz"]) for r in rows], rtol=1e-9)
    low, high = edges(middle, 3)
    np.testing.assert_allclose(low, [float(r["lower_edge_hz"]) for r in rows], rtol=1e-9)
    np.testing.assert_allclose(high, [float(r["upper_edge_hz"]) for r in rows], rtol=1e-9)


@pytest.mark.parametrize(("bandwidth", "count"), [("1/1", 10), ("1/3", 31), ("1/24", 243)])
def test_number_of_bands(bandwidth, count):
    curve = levels_of(white(10, 0.1), bandwidth=bandwidth).curve("levels")
    assert abs(curve.x.size - count) <= 3
    low, _ = edges(curve.x, int(bandwidth[2:]))
    assert np.all(np.diff(curve.x) > 0)
    assert low[0] > 16


def test_white_noise_lies_where_its_density_says_within_the_stated_deviation():
    """RMS s over RATE/2: a band of width B holds s² B/(RATE/2), chi-square distributed."""
    inside, count, scores = 0, 0, []
    for seed in range(12):
        result = levels_of(white(30, 0.05, seed=seed))
        levels, deviation = result.curve("levels"), result.curve("level_deviation")
        low, high = edges(levels.x, 3)
        expected = 10 * np.log10(2 * 0.05**2 * (high - low) / (RATE / 2))
        score = (levels.y - expected) / deviation.y
        inside += int(np.sum(np.abs(score) < 2.5))
        count += score.size
        scores.append(score)
    assert inside / count >= 0.98  # 98.8 % of a normal distribution; 372 bands here
    assert np.std(scores) == pytest.approx(1.0, abs=0.15)


@pytest.mark.parametrize(("key", "column"), [("level_a", "a_analytic_db"), ("level_c", "c_analytic_db")])
@pytest.mark.parametrize("frequency", [100.0, 1000.0, 8000.0])
def test_weighted_levels_of_tones_are_those_of_iec_61672(key, column, frequency):
    row = next(r for r in table("01_weighting_acz_iec61672") if float(r["frequency_nominal_hz"]) == frequency)
    exact = float(row["frequency_exact_hz"])
    tone = 0.1 * np.sin(2 * np.pi * exact * np.arange(10 * RATE) / RATE)[:, None]
    result = levels_of(tone)
    assert result.reading("level").value == pytest.approx(-20.0, abs=0.002)
    assert result.reading(key).value == pytest.approx(-20 + float(row[column]), abs=0.01)


def test_a_weighted_level_is_what_the_samples_hold():
    """The sum over all of the record's own bins with the table's formula, computed here."""
    x = white(30, 0.05, seed=5)
    result = levels_of(x)
    spectrum = np.abs(np.fft.rfft(x[:, 0])) ** 2
    f = np.fft.rfftfreq(x.shape[0], 1 / RATE)
    f2 = f**2
    weight = (12194**2 * f2**2) / (
        (f2 + 20.6**2) * np.sqrt((f2 + 107.7**2) * (f2 + 737.9**2)) * (f2 + 12194**2)
    )  # IEC 61672-1 Annex E, from memory
    power = 2 * np.sum(spectrum * weight**2) / x.shape[0] ** 2
    expected = 10 * math.log10(2 * power) + 2.0
    assert result.reading("level_a").value == pytest.approx(expected, abs=0.05)


def test_average_is_the_mean_of_powers():
    x = white(10, 0.05, 4) * np.array([1.0, 0.5, 0.25, 0.8])
    result = levels_of(x)
    each = np.array([result.curve("levels", n).y for n in (1, 2, 3, 4)])
    np.testing.assert_allclose(
        result.curve("levels", AVERAGE).y, 10 * np.log10(np.mean(10 ** (each / 10), axis=0)), atol=1e-9
    )
    levels = np.array([result.reading("level_a", n).value for n in (1, 2, 3, 4)])
    expected = 10 * math.log10(float(np.mean(10 ** (levels / 10))))
    assert result.reading("level_a", AVERAGE).value == pytest.approx(expected, abs=1e-9)
    assert result.readings[0].channel == AVERAGE
    fewer = levels_of(x, left_out="2; 3")
    assert fewer.reading("level", AVERAGE).at["average_of"] == "1, 4"


def test_background_is_subtracted_where_it_may_be():
    """A source 6 dB above the background: 10 lg(10^0.6 - 1) remains; one that is 2 dB above keeps its level."""
    background = white(20, 0.01, seed=1)
    sound = white(30, 0.01 * 10 ** (6 / 20), seed=2)
    result = levels_of(sound, background)
    expected = 10 * math.log10(2 * 0.01**2 * (10**0.6 - 1))
    assert result.reading("level").value == pytest.approx(expected, abs=0.05)
    assert Caution.BACKGROUND not in result.reading("level").cautions
    kept = levels_of(sound, background, background_use="keep")
    assert kept.reading("level").value == pytest.approx(expected + 1.256, abs=0.05)
    near = levels_of(white(30, 0.01 * 10 ** (2 / 20), seed=2), background)
    assert Caution.BACKGROUND in near.reading("level").cautions
    assert Caution.BACKGROUND in near.cautions
    assert near.reading("level").value == pytest.approx(10 * math.log10(2 * 0.01**2) + 2, abs=0.05)
    np.testing.assert_array_equal(near.curve("levels").floor, near.curve("background").y)


def test_sound_pressure_level():
    """1 Pa is 94 dB (20 lg(1/20e-6) = 93.979); 50 mV/Pa, 1 V RMS at full scale."""
    tone = 0.05 * math.sqrt(1) * np.sin(2 * np.pi * 1000 * np.arange(10 * RATE) / RATE)
    result = levels_of(np.stack([tone] * 3, axis=1), chain=MICROPHONES)
    assert result.reading("level", 1).value == pytest.approx(93.979, abs=0.003)
    assert result.reading("level", 1).unit == "dB SPL"
    assert result.reading("level", AVERAGE).value == pytest.approx(93.979, abs=0.003)


def test_microphones_unlike_the_others_are_named():
    x = white(10, 0.05, 6)
    x[:, 2] = 0
    x[:, 4] *= 1e-3
    result = levels_of(x)
    named = [r.channel for r in result.readings if Caution.UNLIKE_OTHERS in r.cautions and r.channel != AVERAGE]
    assert named == [3, 5]
    assert result.reading("level", AVERAGE).value is None
    without = levels_of(x, left_out="3,5")
    assert without.reading("level", AVERAGE).value == pytest.approx(10 * math.log10(2 * 0.05**2), abs=0.1)


def test_same_noise_interferes_where_independent_noises_do_not():
    """Two outputs into one microphone: the same noise doubles the pressure (6.02 dB), others the power (3.01 dB)."""

    def mixed(x):
        return np.repeat(x.sum(axis=1, keepdims=True), 2, axis=1)

    def level(outputs):
        device = IdealDevice(mixed, rate=RATE)
        settings = make_settings(
            procedure("band-levels").Settings, {"outputs": outputs, "duration": 10.0, "background": 1.0}
        )
        recordings = play_and_record("band-levels", settings, Chain(), device)
        result = procedure("band-levels").analyse(recordings, settings, Chain())
        assert result.reading("delay", 1).value == pytest.approx(700 / RATE, abs=1e-6) or outputs == "independent"
        return result.reading("level", 1).value

    assert level("same") - level("independent") == pytest.approx(10 * math.log10(2), abs=0.1)


def test_length_follows_from_the_uncertainty():
    """4.343/sqrt(B T): 0.2 dB in the third octave at 20 Hz (4.604 Hz wide) need 102 s."""
    settings = make_settings(
        procedure("band-levels").Settings, {"length_by": "uncertainty", "uncertainty": 0.2, "band_low": 20.0}
    )
    assert settings.seconds() == pytest.approx((4.343 / 0.2) ** 2 / 4.604, rel=0.01)


class TestDisturbances:
    SETTINGS = make_settings(procedure("band-levels").Settings, {"duration": 20.0, "background": 0.0})

    def heard(self, seconds, height, seed=3):
        """The run's noise, with a knock of white noise 8 s after its beginning."""
        stimulus = procedure("band-levels").plan(self.SETTINGS, Chain())[-1]
        x = stimulus.samples().copy()
        quiet = x[10 * RATE : 11 * RATE].std()
        frames = round(seconds * RATE)
        knock = np.random.default_rng(seed).standard_normal(frames) * np.hanning(frames)
        x[8 * RATE : 8 * RATE + frames] += height * quiet * knock
        result = procedure("band-levels").analyse(
            [Recording(Signal(x[:, None], RATE), stimulus)], self.SETTINGS, Chain()
        )
        return result, stimulus

    def test_a_knock_is_told_with_its_time_and_left_out(self):
        """Left in, a knock of ten times the noise for 0.5 s would raise the level by 10 lg(1 + 100·0.375·0.5/20)."""
        plain, _ = self.heard(0.5, 0.0)
        result, _ = self.heard(0.5, 10.0)
        disturbed = result.reading("disturbed")
        assert 0.5 <= disturbed.value < 1.5
        begin = float(str(disturbed.at["times"]).split(" to ")[0])
        # the analysed part begins 0.5 s after the noise, which begins 0.1 s after the stimulus
        assert begin == pytest.approx(8.0 - 0.62, abs=0.3)
        assert Caution.DISTURBED in result.cautions
        assert result.reading("level").value == pytest.approx(plain.reading("level").value, abs=0.1)
        assert plain.reading("disturbed") is None

    def test_of_a_recording_nobody_played_nothing_is_left_out(self):
        x = white(20, 0.02)
        x[5 * RATE : 6 * RATE] *= 10
        result = levels_of(x)
        assert Caution.DISTURBED in result.cautions
        assert result.reading("level").value == pytest.approx(10 * math.log10(2 * np.mean(x**2)), abs=0.05)

    @pytest.mark.parametrize("seed", range(6))
    def test_noise_alone_is_not_disturbed(self, seed):
        assert Caution.DISTURBED not in levels_of(white(20, 0.02, seed=seed)).cautions

    def test_where_too_little_would_be_left_all_of_it_counts(self):
        result, _ = self.heard(9.0, 10.0)
        assert Caution.DISTURBED in result.cautions
        plain, _ = self.heard(0.5, 0.0)
        assert result.reading("level").value > plain.reading("level").value + 5


def test_settings_that_cannot_be_are_refused():
    with pytest.raises(SettingError, match="numbers separated by commas"):
        make_settings(procedure("band-levels").Settings, {"left_out": "left"})
    with pytest.raises(SettingError, match="names channel 9"):
        levels_of(white(2, 0.1, 2), left_out="9")
    with pytest.raises(SettingError, match="No band"):
        levels_of(white(1, 0.1), bandwidth="1/24", band_low=1.0, band_high=1.2)
    with pytest.raises(UnusableInputError, match="differ in number of channels"):
        levels_of(white(2, 0.1, 2), white(2, 0.1, 1))


def test_command_line_takes_the_background_from_a_file(run, tmp_path):
    import json

    import soundfile

    soundfile.write(tmp_path / "s.wav", white(10, 0.05, 3), RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "b.wav", white(5, 0.005, 3, seed=4), RATE, subtype="FLOAT")
    status, out, _ = run(
        "analyse",
        "band-levels",
        tmp_path / "s.wav",
        "--background",
        tmp_path / "b.wav",
        "--set",
        "bandwidth=1/3",
        "--json",
    )
    assert status == 0
    data = json.loads(out)
    assert {c["channel"] for c in data["curves"] if c["key"] == "levels"} == {"average", 1, 2, 3}
    background = [r for r in data["readings"] if r["key"] == "background" and r["channel"] == "average"]
    assert background[0]["unit"] == "dBFS"
    status, _, error = run("analyse", "tone", tmp_path / "s.wav", "--background", tmp_path / "b.wav")
    assert status != 0
    assert "does not use a recording of the background" in error
