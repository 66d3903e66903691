"""Intermodulation of polynomials, against closed forms (08_imd_metrics.csv, 08_imd_products.csv) and against numpy's
transform.
"""

import math

import numpy as np
import pytest

from epidote.core.analysis.sine.intermodulation import two_tones
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse
from tests.conftest import table
from tests.ideal_device import IdealDevice

KEY = "intermodulation"
CHAIN = Chain(rate=96000)


def settings(**values):
    return make_settings(procedure(KEY).Settings, {"level": 0, **values})


def run(unit, noise=1e-9, **values):
    chosen = settings(**values)
    recordings = play_and_record(KEY, chosen, CHAIN, IdealDevice(unit, noise=noise))
    return analyse(KEY, recordings, chosen, CHAIN)


def db(ratio):
    return 20 * math.log10(ratio)


@pytest.mark.parametrize("row", table("08_imd_metrics"), ids=lambda r: f"{r['case']}-{r['a2']}-{r['a3']}")
def test_the_figures_of_the_definitions(row):
    """The reference's definitions are from memory (its README, section 8); the sums and conventions are computed."""
    a2, a3 = float(row["a2"]), float(row["a3"])
    first, second = float(row["amplitude_f1_peak"]), float(row["amplitude_f2_peak"])
    tones = {
        "frequency_1": row["f1_hz"],
        "frequency_2": row["f2_hz"],
        "ratio": first / second,
        "level": db(first + second),
    }

    def unit(x):
        return x + a2 * x**2 + a3 * x**3

    if row["d_m2_ratio"]:
        expected = {"modulation_d2": row["d_m2_ratio"], "modulation_d3": row["d_m3_ratio"]}
        conventions = {
            "root of squares of d_m2 and d_m3": "mod_root_of_squares_of_dm2_dm3_ratio",
            "RMS sum of the sidebands": "sidebands_rms_sum_over_f2_ratio",
            "RMS of the envelope": "am_demodulated_rms_over_carrier_ratio",
        }
        for convention, column in conventions.items():
            reading = run(unit, convention=convention, **tones).reading("modulation_distortion")
            assert reading.value == pytest.approx(db(float(row[column])), abs=0.001)
            assert reading.at["convention"] == convention, "always named beside the figure"
    else:
        expected = {"difference_d2": row["d_d2_ratio"], "difference_d3": row["d_d3_ratio"]}
    result = run(unit, **tones)
    for key, text in expected.items():
        if float(text) > 0:
            assert result.reading(key).value == pytest.approx(db(float(text)), abs=0.001)
        else:
            assert result.reading(key).value < -150
            assert Caution.NOISE_DOMINATED in result.reading(key).cautions


def test_every_product_of_the_closed_form():
    """Tones that fall between bins, and other phases than the reference's."""
    rows = [
        r
        for r in table("08_imd_products")
        if r["case"] == "SMPTE_60_7000_4to1" and float(r["a3"]) > 0 and float(r["a2"]) > 0
    ]
    t = np.arange(2 * 96000) / 96000
    x = 0.8 * np.cos(2 * np.pi * 60.137 * t + 1) + 0.2 * np.cos(2 * np.pi * 7000.31 * t + 2)
    found = two_tones(x + 0.01 * x**2 + 0.005 * x**3, 96000, 60, 7000)
    names = {
        "f2+f1": (1, 1),
        "f2-f1": (-1, 1),
        "f2+2f1": (2, 1),
        "f2-2f1": (-2, 1),
        "2f2+f1": (1, 2),
        "2f2-f1": (-1, 2),
    }
    checked = 0
    for row in rows:
        if row["product"] in names:
            assert found.products[names[row["product"]]] == pytest.approx(float(row["amplitude_fft_peak"]), rel=1e-5)
            checked += 1
    assert checked == 6


def test_against_numpy_s_transform():
    """A second way of counting: whole periods in one second, bins of 1 Hz."""
    rng = np.random.default_rng(3)
    t = np.arange(96000) / 96000
    x = 0.4 * np.sin(2 * np.pi * 250 * t) + 0.1 * np.sin(2 * np.pi * 8000 * t)
    y = np.tanh(x) + 0.003 * x**2 + 1e-6 * rng.standard_normal(t.size)
    lines = 2 * np.abs(np.fft.rfft(y)) / t.size
    found = two_tones(np.tile(y, 2), 96000, 250, 8000)
    for (m, n), value in found.products.items():
        assert value == pytest.approx(lines[abs(m * 250 + n * 8000)], abs=3e-8)


def test_the_standards_pairs():
    for pair, tones in (
        ("60 Hz + 7 kHz, 4:1", (60, 7000, 4)),
        ("250 Hz + 8 kHz, 4:1", (250, 8000, 4)),
        ("19 + 20 kHz, 1:1", (19000, 20000, 1)),
    ):
        chosen = settings(pair=pair, frequency_1=100)
        assert (chosen.frequency_1, chosen.frequency_2, chosen.ratio) == tones
    played = procedure(KEY).plan(settings(), CHAIN)[0].samples()
    assert np.abs(played).max() == pytest.approx(1, abs=1e-3), "both together peak at the level"


def test_a_swept_second_tone():
    """A unit without memory makes the same of every pair; where a sideband would lie above half the rate nothing is
    given.
    """
    result = run(lambda x: x + 0.01 * x**2, sweep_from=1000, frequency_2=8000, duration=1)
    d2 = result.curve("d2")
    assert d2.x[0] == pytest.approx(1000, rel=0.05) and d2.x[-1] == pytest.approx(8000, rel=0.05)
    np.testing.assert_allclose(d2.y, db(0.016), atol=0.01)
    assert (result.curve("d3").y < -120).all()


def test_products_above_half_the_rate_are_said():
    result = run(lambda x: x + 0.01 * x**2, pair="19 + 20 kHz, 1:1", level=-6)
    assert result.reading("modulation_distortion").value is None
    assert Caution.OUTSIDE_BAND in result.reading("modulation_distortion").cautions
    assert procedure(KEY).headline(result).key == "difference_d3"


def test_unknown_start_and_another_clock():
    """Half a second of silence first, and a recorder that runs 100 ppm fast."""
    chosen = settings()
    stimulus = procedure(KEY).plan(chosen, CHAIN)[0]
    n = np.arange(round(3.2 * 96000)) * (1 - 100e-6)
    x = 0.8 * np.sin(2 * np.pi * 60 / 96000 * n) + 0.2 * np.sin(2 * np.pi * 7000 / 96000 * n)
    y = np.concatenate([np.zeros(48000), x + 0.01 * x**2, np.zeros(20000)])
    result = analyse(KEY, [Recording(Signal(y, 96000.0), stimulus)], chosen, CHAIN)
    assert result.reading("modulation_d2").value == pytest.approx(db(0.016), abs=0.002)
    assert result.reading("modulation_d2").at["frequency_2_hz"] == pytest.approx(7000 * (1 - 100e-6), rel=1e-7)


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"frequency_1": 8000}, "must be lower than frequency_2"),
        ({"frequency_1": 1000, "frequency_2": 2000}, "coincides with"),
        ({"frequency_2": 50000}, "Use less than 48000 Hz"),
        ({"sweep_from": 30}, "must be between"),
    ],
)
def test_settings_that_do_not_fit(values, words):
    with pytest.raises(SettingError, match=words):
        run(lambda x: x, **values)


def test_a_silent_recording_says_so():
    chosen = settings()
    stimulus = procedure(KEY).plan(chosen, CHAIN)[0]
    result = analyse(
        KEY,
        [Recording(Signal(1e-7 * np.random.default_rng(0).standard_normal(200000), 96000.0), stimulus)],
        chosen,
        CHAIN,
    )
    assert result.curves == ()
    assert Caution.STIMULUS_NOT_FOUND in result.cautions
