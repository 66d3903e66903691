"""Noise as it is heard: 468 weighting and quasi-peak, third-octave bands, dynamic range; against the standards'
values.
"""

import numpy as np
import pytest
from scipy import signal as scipy_signal

from epidote.core.analysis.spectral.fractional_octave import band_powers, centres, edges
from epidote.core.analysis.spectral.quasi_peak import indication, quasi_peak, steady_sine
from epidote.core.analysis.spectral.weighting import AES17_DB, Weighting, power_weight
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.noise.procedure import Noise, NoiseSettings
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from tests.conftest import dithered, sine, table

RATE = 48000
CHAIN = Chain(rate=RATE, input_full_scale=8.0, probe_ratio=4.0, load_ohms=8.0, load_confirmed=True)


@pytest.mark.parametrize("row", table("02_bs468_weighting"), ids=lambda r: r["frequency_hz"])
def test_468_weighting(row):
    """Source: ITU-R BS.468-4 table (from memory; 0.06 dB), and the published polynomial (0.005 dB)."""
    level = 10 * np.log10(power_weight(np.array([float(row["frequency_hz"])]), Weighting.ITU_468)[0])
    assert level == pytest.approx(float(row["bs468_table_db"]), abs=0.06)
    assert level == pytest.approx(float(row["polynomial_re_1khz_db"]), abs=0.005)
    assert level + AES17_DB == pytest.approx(float(row["polynomial_re_2khz_db"]), abs=0.005)


@pytest.mark.parametrize(
    ("milliseconds", "share"), [(1, 17.0), (2, 26.6), (5, 40), (10, 48), (20, 52), (50, 59), (100, 68), (200, 80)]
)
def test_single_bursts(milliseconds, share):
    """Source: ITU-R BS.468-4, response to single 5 kHz bursts in % of the steady tone (from memory; its tolerance is
    1 dB and more).
    """
    n = round(milliseconds * RATE / 1000)
    burst = np.concatenate([np.abs(np.sin(2 * np.pi * 5000 / RATE * (np.arange(n) + 0.25))), np.zeros(2400)])
    assert indication(burst, RATE).max() / steady_sine() == pytest.approx(share / 100, rel=0.03)


@pytest.mark.parametrize(("per_second", "share"), [(2, 48), (10, 77), (100, 97)])
def test_repeated_bursts(per_second, share):
    """Source: the same, bursts of 5 ms."""
    period = np.zeros(RATE // per_second)
    period[:240] = np.abs(np.sin(2 * np.pi * 5000 / RATE * (np.arange(240) + 0.25)))
    assert indication(np.tile(period, max(3, per_second)), RATE).max() / steady_sine() == pytest.approx(
        share / 100, rel=0.03
    )


def test_a_steady_tone_indicates_its_rms():
    for rate in (48000, 96000):
        x = sine(1000.0, 0.1, 2 * rate, rate)
        found = quasi_peak(x, rate)
        assert found.mean == pytest.approx(0.1 / np.sqrt(2), rel=2e-3)
        assert found.greatest == pytest.approx(0.1 / np.sqrt(2), rel=0.02)


@pytest.mark.parametrize(("per_second", "share"), [(1, 40), (2, 48), (10, 77), (100, 97)])
@pytest.mark.parametrize("rate", [48000, 96000])
def test_bursts_through_the_whole_meter(per_second, share, rate):
    """Source: ITU-R BS.468-4, bursts of 5 ms of 5 kHz, in % of the steady tone (from memory); one a second is a
    single burst. Weighting, detector and reading together, as the noise procedure reads them: the meter's maximum
    indication.
    """
    t = np.arange(3 * rate) / rate
    tone = 0.1 * np.sin(2 * np.pi * 5000 * t)
    bursts = tone * ((t % (1 / per_second)) < 0.005)
    steady = quasi_peak(tone, rate).greatest
    found = quasi_peak(bursts, rate)
    assert found.greatest / steady == pytest.approx(share / 100, rel=0.06)
    assert found.mean < found.greatest


def test_quasi_peak_of_noise_lies_above_its_rms():
    """Common practice, no source: 4 to 5 dB for white noise."""
    x = 1e-3 * np.random.default_rng(1).standard_normal(3 * RATE)
    result = analysed(x)
    above = 20 * np.log10(result.reading("noise_468").value / result.reading("noise_468_rms").value) + AES17_DB
    assert 3.5 < above < 5.5


def test_third_octave_bands():
    """Source: IEC 61260-1:2014, base ten, exact midbands and edges."""
    rows = [r for r in table("04_third_octave") if 20 < float(r["frequency_exact_mid_hz"]) < 19000]
    found = centres(3, 20.0, 22000.0)
    wanted = np.array([float(r["frequency_exact_mid_hz"]) for r in rows])
    inside = found[(found > 20) & (found < 19000)]
    assert inside == pytest.approx(wanted[wanted >= inside[0] * 0.999], rel=1e-9)
    low, high = edges(wanted, 3)
    assert low == pytest.approx([float(r["lower_edge_hz"]) for r in rows], rel=1e-9)
    assert high == pytest.approx([float(r["upper_edge_hz"]) for r in rows], rel=1e-9)


def test_bands_share_the_bins_at_their_edges():
    """White power: each band holds its width, and neighbours lose nothing between them."""
    power = np.ones(24001)
    middle = centres(3, 25, 20000)
    found = band_powers(power, 1.0, middle, 3)
    low, high = edges(middle, 3)
    assert found == pytest.approx(high - low, rel=1e-9)
    assert found.sum() == pytest.approx(high[-1] - low[0], rel=1e-9)


def analysed(x, tone=None, chain=CHAIN, **settings):
    recordings = [Recording(Signal(x, RATE))] + ([Recording(Signal(tone, RATE))] if tone is not None else [])
    return Noise().analyse(recordings, NoiseSettings(**settings), chain)


def test_white_noise_in_a_band():
    """Second way: scipy's Butterworth of order 16 as the band, RMS in time. 32 V are full scale at the unit."""
    x = 1e-4 * np.random.default_rng(2).standard_normal(6 * RATE)
    result = analysed(x, band_high=10000)
    band = scipy_signal.sosfilt(scipy_signal.butter(16, [20, 10000], "bandpass", fs=RATE, output="sos"), x)[RATE:]
    reading = result.reading("noise")
    assert 20 * np.log10(reading.value / (32 * np.sqrt(2) * np.sqrt(np.square(band).mean()))) == pytest.approx(
        0, abs=0.08
    )
    assert reading.unit == "V"
    density = result.curve("density")
    expected = 20 * np.log10(32 * np.sqrt(2) * 1e-4) - 10 * np.log10(RATE / 2)
    assert np.median(density.y[density.x > 500]) == pytest.approx(expected, abs=0.1)
    thirds = result.curve("third_octave")
    at_1k = int(np.argmin(np.abs(thirds.x - 1000)))
    assert thirds.y[at_1k] == pytest.approx(expected + 10 * np.log10(230.77), abs=0.4)


def test_hum_is_told_from_the_rest():
    t = np.arange(5 * RATE) / RATE
    noise = 1e-6 * np.random.default_rng(3).standard_normal(t.size)
    result = analysed(noise + 1e-4 * np.sin(2 * np.pi * 50 * t) + 5e-5 * np.sin(2 * np.pi * 150 * t))
    assert result.reading("hum").value == pytest.approx(32 * np.hypot(1e-4, 5e-5), rel=1e-3)
    expected = 32 * np.sqrt(2) * 1e-6 * np.sqrt((20000 - 20) / 24000)
    assert result.reading("noise_without_hum").value == pytest.approx(expected, rel=0.1)


@pytest.mark.parametrize(
    ("text", "volts"), [("2 V", 2.0), ("6 dBV", 1.9953), ("4 W", np.sqrt(32)), ("0 dBFS", 32.0), ("-10 dBFS", 10.119)]
)
def test_snr_to_a_stated_level(text, volts):
    x = 1e-5 * np.random.default_rng(4).standard_normal(3 * RATE)
    result = analysed(x, reference_level=text)
    assert result.reading("snr").value == pytest.approx(20 * np.log10(volts / result.reading("noise").value), abs=1e-3)
    assert result.reading("noise_share").value == pytest.approx(-result.reading("snr").value)


def test_hiss_is_said_above_a_thousandth():
    loud, quiet = (
        analysed(a * np.random.default_rng(5).standard_normal(3 * RATE), reference_level="1 V") for a in (1e-4, 1e-6)
    )
    assert Caution.HISS in loud.reading("noise_share").cautions
    assert Caution.HISS not in quiet.reading("noise_share").cautions


def test_volts_without_a_calibrated_chain_are_not_guessed():
    result = analysed(
        1e-5 * np.random.default_rng(4).standard_normal(3 * RATE), chain=Chain(rate=RATE), reference_level="2 V"
    )
    assert result.reading("snr").value is None
    assert Caution.UNCALIBRATED in result.reading("snr").cautions
    assert result.reading("noise").unit == "dBFS"


def test_dynamic_range_of_an_ideal_converter():
    """AES17's method on 16 bits with triangular dither: noise LSB²/4 (Lipshitz, Wannamaker, Vanderkooy 1992), white,
    so that the weightings' noise bandwidths decide. Second way: the weighted share of a flat spectrum, computed here.
    """
    tone = dithered(sine(997.0, 1e-3, 3 * RATE, RATE), 16, seed=7)
    result = analysed(tone[:RATE], tone)
    noise = 0.25 * (2.0**-15) ** 2
    f = np.arange(20.0, 20000.0)
    for key, weighting, offset in (
        ("dynamic_range_a", Weighting.A, 0.0),
        ("dynamic_range", Weighting.ITU_468, AES17_DB),
    ):
        weighted = noise * power_weight(f, weighting).sum() / (RATE / 2) * 10 ** (offset / 10)
        assert result.reading(key).value == pytest.approx(10 * np.log10(0.5 / weighted), abs=0.2), key


def test_dynamic_range_needs_the_tone():
    x = 1e-5 * np.random.default_rng(6).standard_normal(2 * RATE)
    assert analysed(x).reading("dynamic_range").value is None
    assert Caution.STIMULUS_NOT_FOUND in analysed(x, np.zeros(2 * RATE)).reading("dynamic_range").cautions


@pytest.mark.parametrize("text", ["loud", "5 s", ""])
def test_a_reference_that_is_no_level_is_refused(text):
    with pytest.raises(SettingError, match="reference_level"):
        make_settings(NoiseSettings, {"reference_level": text})


def test_plain_noise_has_no_hum_that_is_not_cautioned():
    for seed in range(20):
        x = 1e-3 * np.random.default_rng(seed).standard_normal(2 * RATE)
        hum = analysed(x).reading("hum")
        assert Caution.NOISE_DOMINATED in hum.cautions
