"""The tone procedure on recordings of known truth."""

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from tests.conftest import UNCALIBRATED, dithered, recording, sine

RATE = 48000.0
TONE = Tone()


def analysed(x, settings=None, chain=UNCALIBRATED, rate=RATE):
    return TONE.analyse([recording(x, rate)], settings or ToneSettings(), chain)


def band_level(noise: np.ndarray, low: float, high: float) -> float:
    """Level of the very samples in a band, re a full-scale sine, by numpy's transform: the second way of counting."""
    spectrum = np.fft.rfft(noise)
    f = np.fft.rfftfreq(noise.size, 1 / RATE)
    return 10 * np.log10(2 * 2 / noise.size**2 * np.sum(np.abs(spectrum[(f >= low) & (f <= high)]) ** 2))


@pytest.mark.parametrize("frequency", [20.3, 997.123, 1000.0, 6000.7, 19997.0])
@pytest.mark.parametrize("level", [0.9, 0.01])
def test_level_and_frequency_of_a_24_bit_tone(frequency, level):
    """Figures: docs/methods.md, 0.0001 dB for 1 s."""
    result = analysed(dithered(sine(frequency, level, 48000, RATE), 24))
    assert result.reading("level").value == pytest.approx(20 * np.log10(level), abs=1e-4)
    assert result.reading("frequency").value == pytest.approx(frequency, abs=1e-4)


@pytest.mark.parametrize("noise_db", [-60, -100, -135])
@pytest.mark.parametrize("frequency", [63.7, 997.0, 7001.3])
def test_noise_and_thd_n_are_those_of_the_samples(noise_db, frequency):
    """Figures: docs/methods.md, 0.002 dB of what the very samples hold, 1 s."""
    noise = np.random.default_rng(7).standard_normal(48000) * 10 ** (noise_db / 20)
    x = sine(frequency, 0.5, 48000, RATE) + sine(2 * frequency, 1e-4, 48000, RATE) + noise
    result = analysed(x)
    own = band_level(noise, 20, 20000)
    # what the fit takes along of the noise (two values per fitted component) is put back on average, not sample by
    # sample
    assert result.reading("noise").value == pytest.approx(own, abs=0.004)
    harmonic = 10 ** (result.reading("thd").value / 10)
    total = 10 * np.log10(harmonic + 10 ** ((own + 6.0206) / 10))
    assert result.reading("thd_n").value == pytest.approx(total, abs=0.004)
    assert result.reading("snr").value == pytest.approx(-own - 6.0206, abs=0.004)
    assert result.reading("sinad").value == pytest.approx(-result.reading("thd_n").value)


def test_strong_hum_below_the_band_does_not_leak_into_it():
    """A 15 Hz component at -60 dBFS would add 40 dB to a plain sum at -140 dBFS (docs/methods.md)."""
    noise = np.random.default_rng(1).standard_normal(48000) * 1e-7
    x = sine(997.0, 0.5, 48000, RATE) + sine(15.3, 1e-3, 48000, RATE) + noise
    result = analysed(x)
    assert result.reading("noise").value == pytest.approx(band_level(noise, 20, 20000), abs=0.3)
    assert Caution.DRIFT not in result.cautions


@pytest.mark.parametrize("ppm", [0.001, 0.01, 1.0])
def test_a_drifting_source_is_followed(ppm):
    """Figures: docs/methods.md: a plain fit would read -87 dB after 0.01 ppm of drift over 10 s."""
    n = 480000
    t = np.arange(n) / RATE
    phase = 2 * np.pi * 997.0 * (t + ppm * 1e-6 * t**2 / 20)
    noise = np.random.default_rng(3).standard_normal(n) * 1e-7
    x = 0.5 * np.cos(phase) * (1 + 1e-5 * np.sin(2 * np.pi * t / 25)) + noise
    result = analysed(x)
    assert result.reading("noise").value == pytest.approx(band_level(noise, 20, 20000), abs=0.01)
    assert Caution.DRIFT not in result.cautions


def test_a_wandering_source_is_cautioned():
    t = np.arange(480000) / RATE
    wander = 1e-3 * np.cumsum(np.random.default_rng(5).standard_normal(t.size)) / np.sqrt(t.size)
    result = analysed(0.5 * np.cos(2 * np.pi * 997.0 * t + wander))
    assert Caution.DRIFT in result.cautions
    assert Caution.DRIFT in result.reading("thd_n").cautions


def test_a_tone_that_nobody_announced():
    """Recordings whose tone is at no particular frequency and not coherent: the strongest line is taken."""
    result = analysed(dithered(sine(4321.987, 0.3, 50000, RATE), 24), ToneSettings(frequency=1000))
    assert result.reading("frequency").value == pytest.approx(4321.987, abs=1e-4)


def test_the_announced_tone_under_a_stronger_one():
    x = sine(1000.0, 0.1, 48000, RATE) + sine(50.0, 0.3, 48000, RATE)
    assert analysed(x, ToneSettings(frequency=1000)).reading("frequency").value == pytest.approx(1000.0, abs=1e-3)


def test_harmonics_outside_the_band_are_marked_not_summed():
    x = sine(6000, 0.5, 48000, RATE) + sine(12000, 1e-3, 48000, RATE) + sine(18000, 1e-3, 48000, RATE)
    result = analysed(x)
    assert result.reading("thd").value == pytest.approx(20 * np.log10(2e-3 * 2**0.5), abs=1e-4)
    assert Caution.OUTSIDE_BAND in result.reading("thd").cautions
    assert result.reading("h4").value is None
    assert result.reading("h4").cautions == (Caution.OUTSIDE_BAND,)


def test_distortion_below_the_noise_says_so():
    result = analysed(sine(997, 0.5, 48000, RATE) + np.random.default_rng(2).standard_normal(48000) * 1e-4)
    assert Caution.NOISE_DOMINATED in result.reading("thd").cautions
    assert result.reading("thd").value == pytest.approx(result.reading("thd").floor, abs=3)


@pytest.mark.parametrize("mains", [50.0, 60.0])
def test_hum(mains):
    """Hum: the root of the sum of squares of the mains lines; 49.98 Hz is as good as 50."""
    noise = np.random.default_rng(4).standard_normal(96000) * 1e-6
    x = (
        sine(997, 0.5, 96000, RATE)
        + sine(mains * 0.9996, 1e-4, 96000, RATE)
        + sine(2 * mains * 0.9996, 2e-4, 96000, RATE)
        + noise
    )
    reading = analysed(x).reading("hum")
    assert reading.value == pytest.approx(10 * np.log10(1e-8 + 4e-8), abs=0.1)
    assert reading.at["mains_hz"] == mains
    assert Caution.NOISE_DOMINATED in analysed(sine(997, 0.5, 96000, RATE) + noise).reading("hum").cautions


def test_calibrated_chain_gives_volts():
    chain = Chain(input_full_scale=2.0, probe_ratio=10.0)
    result = analysed(sine(997, 0.5, 48000, RATE) + 0.01, ToneSettings(), chain)
    assert (result.reading("level").unit, result.curve("spectrum").y_unit) == ("V", "dBV")
    assert result.reading("level").value == pytest.approx(10.0, rel=1e-5)
    assert result.reading("dc").value == pytest.approx(0.01 * 2 * 2**0.5 * 10, rel=1e-3)
    assert Caution.UNCALIBRATED not in result.cautions
    assert Caution.UNCALIBRATED in analysed(sine(997, 0.5, 48000, RATE)).cautions


def test_spectrum_reads_a_lines_level_and_the_residual_is_what_is_left():
    x = sine(1000, 0.5, 48000, RATE) + sine(3000, 5e-4, 48000, RATE)
    result = analysed(x)
    spectrum = result.curve("spectrum")
    assert spectrum.y[np.argmin(np.abs(spectrum.x - 1000))] == pytest.approx(-6.0206, abs=0.001)
    assert spectrum.y[np.argmin(np.abs(spectrum.x - 3000))] == pytest.approx(20 * np.log10(5e-4), abs=0.001)
    residual = result.curve("residual")
    assert np.abs(residual.y).max() == pytest.approx(5e-4, rel=0.01)
    assert np.ptp(result.curve("waveform").y) == pytest.approx(1.0, rel=0.01)


def test_channels_are_analysed_apart():
    x = np.column_stack([sine(997, 0.5, 48000, RATE), sine(997, 0.25, 48000, RATE)])
    result = analysed(x)
    assert result.reading("level", 2).value - result.reading("level", 1).value == pytest.approx(-6.0206, abs=1e-4)


@pytest.mark.parametrize(
    "x", [np.zeros(48000), np.random.default_rng(0).standard_normal(48000) * 0.1], ids=["silence", "noise"]
)
def test_nothing_to_find(x):
    result = analysed(x)
    assert Caution.STIMULUS_NOT_FOUND in result.cautions
    assert result.reading("thd").value is None
    assert result.curves == ()


def test_played_and_recorded_on_other_frequencies():
    stimulus = next(TONE.conduct(ToneSettings(frequency=1000), Chain()))
    result = TONE.analyse(
        [Recording(Signal(sine(3000, 0.5, 96000, RATE), RATE), stimulus)], ToneSettings(), UNCALIBRATED
    )
    assert Caution.STIMULUS_NOT_FOUND in result.cautions


def test_the_played_tone_holds_whole_cycles_and_is_reported():
    settings = ToneSettings(frequency=997.3, duration=0.5)
    stimulus = next(TONE.conduct(settings, Chain()))
    cycles = stimulus["frequency"] * settings.duration
    assert cycles == pytest.approx(round(cycles), abs=1e-9)
    assert stimulus["frequency"] == pytest.approx(997.3, abs=1.0)
    result = TONE.analyse([Recording(Signal(stimulus.samples(), RATE), stimulus)], settings, UNCALIBRATED)
    assert result.reading("frequency").value == pytest.approx(stimulus["frequency"], abs=1e-6)


def test_the_tone_begins_and_ends_softly():
    samples = next(TONE.conduct(ToneSettings(), Chain())).samples()
    assert np.abs(np.diff(samples)).max() < 1.05 * 2 * np.pi * 1000 / RATE * 10 ** (-6 / 20)
    assert samples[0] == samples[-1] == 0


@pytest.mark.parametrize(
    "values",
    [
        {"band_low": 20000, "band_high": 100},
        {"frequency": 1},
        {"duration": 1e9},
        {"weighting": "Q"},
        {"harmonics": 1},
        {"colour": 3},
    ],
)
def test_settings_refuse_nonsense_by_name(values):
    with pytest.raises(SettingError, match=next(iter(values))):
        make_settings(ToneSettings, values)


def test_a_tone_above_half_the_rate_is_refused():
    with pytest.raises(SettingError, match="less than 24000 Hz"):
        next(TONE.conduct(ToneSettings(frequency=30000), Chain()))


def test_recordings_of_different_shapes_do_not_go_together():
    with pytest.raises(UnusableInputError, match="differ in number of channels or sample rate"):
        TONE.analyse([recording(np.zeros(1000)), recording(np.zeros((1000, 2)))], ToneSettings(), UNCALIBRATED)
    with pytest.raises(UnusableInputError, match="no recording"):
        TONE.analyse([], ToneSettings(), UNCALIBRATED)


def test_same_recording_same_result():
    x = dithered(sine(997, 0.5, 48000, RATE), 16)
    one, two = analysed(x), analysed(x)
    assert [r.to_json() for r in one.readings] == [r.to_json() for r in two.readings]
