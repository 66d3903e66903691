"""Differences, baselines, likeness, and what is read off curves."""

import numpy as np
import pytest

from epidote.core.comparison.baseline import against_baseline
from epidote.core.comparison.differences.difference import (
    difference_curve,
    differing_settings,
    greatest_deviation,
    reading_difference,
)
from epidote.core.results.caution import Caution
from epidote.core.results.curve_features import curve_at, cutoff_frequency, flatness, interpolate, level_crossing, slope
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result

F = np.geomspace(20, 20000, 400)


def level(y, x=F, key="level", unit="dB"):
    return Curve(key, 1, x, y, "Hz", unit)


def test_difference_on_one_grid_is_plain_subtraction():
    less = difference_curve(level(np.full(F.size, 3.0)), level(np.full(F.size, 1.0)))
    assert (less.y == 2).all()
    assert less.y_unit == "dB"


def test_difference_over_two_grids():
    """Second way: the difference of two known functions."""
    other = np.geomspace(30, 15000, 333)
    less = difference_curve(level(np.log10(F) ** 2), level(np.sin(np.log(other)), other))
    assert (less.x[0], less.x[-1]) >= (30, 0)
    assert less.x[-1] <= 15000
    assert less.y == pytest.approx(np.log10(less.x) ** 2 - np.sin(np.log(less.x)), abs=1e-5)


def test_phase_differences_stay_within_half_a_turn():
    less = difference_curve(level(np.full(F.size, 170.0), unit="°"), level(np.full(F.size, -170.0), unit="°"))
    assert less.y == pytest.approx(-20)


@pytest.mark.parametrize(
    "other",
    [
        level(np.zeros(5), np.geomspace(1, 10, 5)),
        level(np.zeros(F.size), unit="°"),
        Curve("level", 1, F, np.zeros(F.size), "s", "dB"),
    ],
)
def test_nothing_in_common(other):
    assert difference_curve(level(np.zeros(F.size)), other) is None


def test_spectra_of_different_lengths_are_not_compared():
    one, two = np.arange(1.0, 6001), np.arange(1.0, 6001) * 1.1
    assert difference_curve(level(np.zeros(6000), one), level(np.zeros(6000), two)) is None


def test_greatest_deviation_within_a_band():
    less = level(np.where(F < 100, 5.0, np.where(F > 10000, -2.0, 0.1)))
    assert greatest_deviation(less, 20, 20000).value == 5
    assert greatest_deviation(less, 200, 20000).value == -2
    assert greatest_deviation(less, 1, 2) is None


@pytest.mark.parametrize(
    ("unit", "value", "reference", "difference", "ratio"),
    [
        ("dB", -80, -90, 10, None),
        ("V", 2.0, 1.0, 1.0, 6.0206),
        ("dBFS", -3, -1, -2, None),
        ("Hz", 1000, 500, 500, 6.0206),
    ],
)
def test_reading_difference(unit, value, reference, difference, ratio):
    less = reading_difference(Reading("k", 1, value, unit, spread=0.3), Reading("k", 1, reference, unit, spread=0.4))
    assert less.value == pytest.approx(difference)
    assert less.ratio_db == (pytest.approx(ratio, abs=1e-4) if ratio else None)
    assert less.spread == pytest.approx(0.5)


def test_no_difference_of_what_is_missing():
    assert reading_difference(Reading("k", 1, None, "dB"), Reading("k", 1, 1.0, "dB")) is None
    assert reading_difference(Reading("k", 1, 1.0, "V"), Reading("k", 1, 1.0, "dBFS")) is None


def test_what_differs():
    one, two = (
        ({"level": -6, "duration": 2}, {"rate": 48000, "name": "a"}),
        ({"level": -20, "duration": 2}, {"rate": 96000, "name": "b"}),
    )
    assert differing_settings([one, two]) == ["level", "rate"]
    assert differing_settings([one, one]) == []


def test_baseline_is_taken_out_of_a_response_and_is_the_floor_of_distortion():
    result = Result(
        (level(np.full(F.size, -1.0)), level(np.full(F.size, -80.0), key="thd")),
        (
            Reading("gain_1k", 1, -1.0, "dB"),
            Reading("delay", 1, 0.012, "s"),
            Reading("thd", 1, -92.0, "dB"),
            Reading("noise", 1, 3e-6, "V"),
            Reading("frequency", 1, 1000.0, "Hz"),
        ),
    )
    chain = Result(
        (level(np.full(F.size, -0.25)), level(np.full(F.size, -95.0), key="thd")),
        (
            Reading("gain_1k", 1, -0.25, "dB"),
            Reading("delay", 1, 0.010, "s"),
            Reading("thd", 1, -95.0, "dB"),
            Reading("noise", 1, 2e-6, "V"),
            Reading("frequency", 1, 1000.0, "Hz"),
        ),
    )
    against = against_baseline(result, chain)
    assert against.curve("level").y == pytest.approx(-0.75)
    assert against.curve("thd").floor == pytest.approx(-95)
    assert against.reading("gain_1k").value == pytest.approx(-0.75)
    assert against.reading("delay").value == pytest.approx(0.002)
    assert against.reading("thd").floor == -95
    assert against.reading("thd").cautions == (Caution.NEAR_FLOOR,)
    assert against.reading("noise").cautions == (Caution.NEAR_FLOOR,)
    assert against.reading("frequency") == result.reading("frequency")
    far = against_baseline(Result((), (Reading("thd", 1, -60.0, "dB"),)), chain)
    assert far.reading("thd").cautions == ()


def test_reading_off_a_curve():
    curve = level(-20 * np.log10(np.sqrt(1 + (F / 1000) ** 2)))
    assert curve_at(curve, 1000) == pytest.approx(-3.0103, abs=1e-5)
    assert curve_at(curve, 30000) is None
    assert cutoff_frequency(curve, 3.0103, 20, upwards=True) == pytest.approx(
        1000 * np.sqrt(10 ** (0.3010300 + curve_shift(curve)) - 1), rel=0.01
    )
    assert slope(curve, 8000, 16000) == pytest.approx(-5.95, abs=0.03)
    assert slope(curve, 100, 100) is None
    assert flatness(level(np.linspace(-1, 1, F.size)), 20, 20000) == pytest.approx(1)


def curve_shift(curve) -> float:
    return -curve.y[0] / 10


def test_crossings_from_either_side():
    y = -np.abs(np.log2(F / 1000))
    assert level_crossing(F, y, -1, 1000, upwards=True) == pytest.approx(2000, rel=1e-3)
    assert level_crossing(F, y, -1, 1000, upwards=False) == pytest.approx(500, rel=1e-3)
    assert level_crossing(F, y, -20, 1000, upwards=True) is None
    assert level_crossing(F, y, 5, 1000, upwards=True) is None


def test_values_between_points_follow_a_smooth_curve():
    assert interpolate(F, np.sin(np.log(F)), 777.7) == pytest.approx(np.sin(np.log(777.7)), abs=1e-6)
    assert interpolate(np.array([1.0, 2.0]), np.array([0.0, 1.0]), 1.5, log_x=False) == 0.5
    assert interpolate(np.array([]), np.array([]), 1.0) is None
