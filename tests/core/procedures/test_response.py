"""The response procedure on paths of known truth."""

import numpy as np
import pytest

from epidote.core.analysis.spectral.smoothing import Smoothing
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from tests.conftest import UNCALIBRATED, dithered, recording, through

RATE = 48000.0
RESPONSE = Response()
FOUR = ResponseSettings(duration=4)
SWEEP = FOUR.played(RATE)


def high_pass(f, corner=10.0):
    s = 1j * f / corner
    return s**2 / (s**2 + 1.4142 * s + 1)


def delayed(samples):
    return lambda f: np.exp(-2j * np.pi * f * samples / RATE)


def analysed(y, settings=FOUR, chain=UNCALIBRATED, stimulus=SWEEP):
    return RESPONSE.analyse([recording(y, RATE, stimulus)], settings, chain)


@pytest.mark.parametrize("window", ["fixed", "by frequency"])
@pytest.mark.parametrize(
    "path",
    [np.ones_like, high_pass, lambda f: high_pass(f) / (1 + 1j * f / 15000)],
    ids=["wire", "high-pass", "band-pass"],
)
def test_exact_without_noise(window, path):
    """Figures: docs/methods.md, 0.00001 dB without noise."""
    y = through(SWEEP.samples(), RATE, path)
    level = analysed(y, FOUR.model_copy(update={"window": window})).curve("level")
    exact = 20 * np.log10(np.abs(path(level.x)))
    assert np.abs(level.y - exact).max() < 2e-5
    assert level.x[0] == 20
    assert level.x[-1] == 20000


@pytest.mark.parametrize(("window", "figure"), [("fixed", 0.002), ("by frequency", 0.0005)])
def test_with_noise_at_minus_90_dbfs(window, figure):
    """Figures: docs/methods.md."""
    noise = np.random.default_rng(1).standard_normal(SWEEP.frames) * 10 ** (-90 / 20) / 2**0.5
    y = through(SWEEP.samples(), RATE, high_pass) + noise
    level = analysed(y, FOUR.model_copy(update={"window": window})).curve("level")
    assert np.abs(level.y - 20 * np.log10(np.abs(high_pass(level.x)))).max() < figure


def test_stated_floor_is_the_noise_there_is():
    """The floor is the level of the noise in the response; the scatter of the response must agree with it within a
    few dB.
    """
    noise = np.random.default_rng(2).standard_normal(SWEEP.frames) * 1e-3
    level = analysed(SWEEP.samples() + noise).curve("level")
    inside = (level.x > 200) & (level.x < 15000)
    scatter = 20 * np.log10(np.sqrt(2) * np.std(10 ** (level.y[inside] / 20)))
    assert np.mean(level.floor[inside]) == pytest.approx(scatter, abs=4)


@pytest.mark.parametrize("samples", [0.0, 123.0, 123.4, 5000.75])
def test_delay(samples):
    y = through(SWEEP.samples(), RATE, delayed(samples))
    result = analysed(y)
    assert result.reading("delay").value * RATE == pytest.approx(samples, abs=1e-6)
    assert result.reading("polarity").value == 1
    assert analysed(-y).reading("polarity").value == -1


def test_delay_scatter_against_the_bound():
    """Source: Knapp, Carter 1976; Quazi 1981: for a known reference var = 1 / sum (w² |X|² 2 / (N sigma²)). 40
    trials.
    """
    settings = ResponseSettings(duration=0.5)
    stimulus = settings.played(RATE)
    x, sigma = stimulus.samples(), 0.05
    spectrum = np.fft.rfft(x)
    w = 2 * np.pi * np.arange(spectrum.size) / x.size
    bound = 1 / np.sqrt(2 * np.sum(w**2 * np.abs(spectrum) ** 2) / (x.size * sigma**2))
    rng = np.random.default_rng(3)
    y = through(x, RATE, delayed(50.3))
    found = [
        analysed(y + sigma * rng.standard_normal(y.size), settings, stimulus=stimulus).reading("delay").value * RATE
        - 50.3
        for _ in range(40)
    ]
    assert np.sqrt(np.mean(np.square(found))) < 1.4 * bound


def test_a_recording_that_began_at_another_time():
    """Made elsewhere: seconds of silence before and after, or the first moments missing."""
    y = through(SWEEP.samples(), RATE, high_pass)
    late = np.concatenate([np.zeros(100_000), y, np.zeros(50_000)])
    early = y[2000:]
    for shifted in (late, early):
        level = analysed(shifted).curve("level")
        inside = level.x > 40
        assert np.abs(level.y - 20 * np.log10(np.abs(high_pass(level.x))))[inside].max() < 0.01
    assert analysed(late).reading("delay").value * RATE == pytest.approx(100_000, abs=5)
    assert analysed(early).reading("delay").value * RATE == pytest.approx(-2000, abs=5)


def test_direct_voltage_in_the_recording_does_not_matter():
    y = through(SWEEP.samples(), RATE, high_pass)
    plain, shifted = analysed(y).curve("level"), analysed(y + 0.005).curve("level")
    assert np.abs(plain.y - shifted.y).max() < 1e-4


def test_even_distortion_does_not_bend_the_low_end():
    """Even orders leave a direct voltage while the sweep sounds; divided by the little there is below the band it
    must not come back.
    """
    x = SWEEP.samples()
    level = analysed(x + 0.004 * x**2).curve("level")
    assert np.abs(level.y).max() < 0.01


def test_averages_lower_the_noise():
    settings = FOUR.model_copy(update={"averages": 8, "window": "fixed"})
    rng = np.random.default_rng(4)
    takes = [recording(SWEEP.samples() + 1e-3 * rng.standard_normal(SWEEP.frames), RATE, SWEEP) for _ in range(8)]
    one = RESPONSE.analyse(takes[:1], settings, UNCALIBRATED).curve("level")
    eight = RESPONSE.analyse(takes, settings, UNCALIBRATED).curve("level")
    assert np.std(one.y) / np.std(eight.y) == pytest.approx(8**0.5, rel=0.25)
    assert len(list(_stimuli(settings))) == 8


def _stimuli(settings):
    conduct = RESPONSE.conduct(settings, Chain())
    stimulus = next(conduct)
    try:
        while True:
            yield stimulus
            stimulus = conduct.send(recording(stimulus.samples(), RATE, stimulus))
    except StopIteration:
        return


def test_repeats_at_different_delays_are_brought_together():
    settings = FOUR.model_copy(update={"averages": 2})
    takes = [recording(through(SWEEP.samples(), RATE, delayed(d)), RATE, SWEEP) for d in (100.0, 100.5)]
    level = RESPONSE.analyse(takes, settings, UNCALIBRATED).curve("level")
    assert np.abs(level.y).max() < 0.001  # left half a sample apart they would lose 1 dB at 15 kHz


@pytest.mark.parametrize("smoothing", [s for s in Smoothing if s is not Smoothing.NONE])
def test_smoothing_is_the_mean_power_over_its_width(smoothing):
    """Second way: the mean of |H|² of a comb over the band, by a dense sum."""
    y = through(SWEEP.samples(), RATE, lambda f: 1 + 0.8 * np.exp(-2j * np.pi * f * 0.001))
    curve = analysed(y, FOUR.model_copy(update={"smoothing": smoothing, "window": "fixed"})).curve("level")
    for target in (300.0, 1000.0, 5000.0):
        i = int(np.argmin(np.abs(curve.x - target)))
        half = 2 ** (smoothing.octaves / 2)
        f = np.linspace(curve.x[i] / half, curve.x[i] * half, 20001)
        exact = 10 * np.log10(np.mean(np.abs(1 + 0.8 * np.exp(-2j * np.pi * f * 0.001)) ** 2))
        assert curve.y[i] == pytest.approx(exact, abs=0.05)


def test_smoothing_moves_no_reading():
    y = through(SWEEP.samples(), RATE, lambda f: high_pass(f, 60) / (1 + 1j * f / 12000))
    plain, smooth = analysed(y), analysed(y, ResponseSettings(duration=4, smoothing="1/3"))
    assert [r.value for r in plain.readings] == [r.value for r in smooth.readings]
    assert not np.array_equal(plain.curve("level").y, smooth.curve("level").y)


def test_bandwidth_outside_the_sweep_is_not_invented():
    reading = analysed(SWEEP.samples()).reading("bandwidth_high")
    assert reading.value is None
    assert reading.cautions == (Caution.OUTSIDE_BAND,)


def test_gain_in_volts_through_a_calibrated_chain():
    chain = Chain(output_full_scale=4.0, input_full_scale=8.0, probe_ratio=2.0)
    result = analysed(0.25 * SWEEP.samples(), FOUR, chain)
    assert result.reading("gain_1k").value == pytest.approx(20 * np.log10(0.25 * 16 / 4), abs=1e-4)


def test_thd_ends_where_the_third_harmonic_leaves_the_band():
    x = SWEEP.samples()
    thd = analysed(x + 0.01 * x**3).curve("thd")
    assert thd.x[-1] <= 20000 / 3
    assert thd.meta["orders"] == "2 to 5"


@pytest.mark.parametrize(
    "x",
    [
        np.zeros(200_000),
        np.random.default_rng(0).standard_normal(200_000) * 0.1,
        0.5 * np.sin(np.arange(200_000) * 0.13),
    ],
    ids=["silence", "noise", "tone"],
)
def test_no_sweep_in_it(x):
    result = analysed(x)
    assert Caution.STIMULUS_NOT_FOUND in result.cautions
    assert result.reading("gain_1k").value is None


def test_heavy_noise_still_shows_the_sweep():
    y = SWEEP.samples() + np.random.default_rng(1).standard_normal(SWEEP.frames) * 0.5
    assert Caution.STIMULUS_NOT_FOUND not in analysed(y).cautions


def test_response_still_ringing_is_cautioned():
    """A resonance at 30 Hz that decays with 0.6 s has not died away within the window; a path that ends at 1 Hz has,
    for the band.
    """
    y = through(SWEEP.samples(), RATE, lambda f: 1 + 5 / (1 + 1j * 60 * (f / 30 - 30 / np.maximum(f, 1e-3))))
    assert Caution.UNSETTLED in analysed(y).cautions
    assert Caution.UNSETTLED not in analysed(SWEEP.samples()).cautions
    assert Caution.UNSETTLED not in analysed(through(SWEEP.samples(), RATE, lambda f: high_pass(f, 1.0))).cautions


def test_another_rate_is_refused():
    with pytest.raises(UnusableInputError, match="its stimulus 48000 Hz"):
        RESPONSE.analyse([Recording(Signal(SWEEP.samples(), 44100.0), SWEEP)], FOUR, UNCALIBRATED)


def test_without_a_description_the_settings_make_the_stimulus():
    result = RESPONSE.analyse([Recording(Signal(SWEEP.samples(), RATE))], FOUR, UNCALIBRATED)
    assert result.reading("gain_1k").value == pytest.approx(0, abs=1e-5)


def test_a_clipped_sweep_is_cautioned_and_a_16_bit_one_is_not():
    assert Caution.CLIPPED in analysed(np.clip(2.2 * SWEEP.samples(), -1, 1)).cautions
    result = analysed(dithered(SWEEP.samples(), 16))
    assert result.cautions == (Caution.UNCALIBRATED,)


def test_the_sweep_fades_outside_the_band_only():
    x = SWEEP.samples()
    rate_of = SWEEP["length"] * RATE
    begin = SWEEP["lead"] + rate_of * np.log(20 / SWEEP["first"])
    end = SWEEP["lead"] + rate_of * np.log(20000 / SWEEP["first"])
    inside = np.abs(x[int(begin) + 10 : int(end) - 10])
    assert np.lib.stride_tricks.sliding_window_view(inside, 2400)[::1200].max(axis=1).min() > 0.999 * 10 ** (-6 / 20)
    assert x[0] == x[-1] == 0


@pytest.mark.parametrize(
    "values", [{"start_frequency": 15000, "stop_frequency": 16000}, {"averages": 0}, {"smoothing": "1/5"}, {"level": 3}]
)
def test_settings_refuse_nonsense(values):
    with pytest.raises(SettingError, match=next(iter(values))):
        make_settings(ResponseSettings, values)


def test_a_band_that_does_not_fit_the_rate_is_refused():
    with pytest.raises(SettingError, match="too high for 48000 Hz"):
        next(RESPONSE.conduct(ResponseSettings(stop_frequency=40000), Chain()))
