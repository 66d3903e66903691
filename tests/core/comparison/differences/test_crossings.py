"""Where two curves change places, against filters whose crossing is known in closed form."""

import math

import numpy as np
import pytest

from epidote.core.comparison.differences.crossings import ranges
from epidote.core.comparison.differences.difference import difference_curve
from epidote.core.results.curve_features import noise_uncertainty
from epidote.core.results.result import Curve
from epidote.core.wording.differences import ranges_words

F = np.geomspace(20, 20000, 241)


def level(y, x=F, unit="Hz", floor=None):
    return Curve("level", 1, x, np.asarray(y, float), unit, "dB", floor)


def first_order(corner, gain=0.0):
    """A first-order low-pass: -10 lg(1 + (f/fc)²), any textbook of filters."""
    return level(gain - 10 * np.log10(1 + (F / corner) ** 2))


def test_two_low_passes_cross_where_algebra_says():
    """-1 dB with its corner at 4 kHz against 0 dB at 1 kHz: equal where (1 + f²) = 10^0.1 (1 + f²/16), f in kHz."""
    a, b = first_order(4000, -1), first_order(1000)
    k = 10**0.1
    at = 1000 * math.sqrt((k - 1) / (1 - k / 16))
    difference = difference_curve(a, b)
    low, high = ranges(difference, np.zeros(F.size))
    assert (low.sign, high.sign) == (-1, 1)
    assert low.high == high.low == pytest.approx(at, rel=1e-3)
    words = ranges_words("A", "B", difference, np.zeros(F.size))
    assert words == f"A vs. B: lower below {at:.0f} Hz, higher above {at:.0f} Hz."


def test_power_on_a_staircase():
    """THD 6 dB lower up to 10 W, then 6 dB higher: a straight line over log power passes 0 in the middle of the two
    steps.
    """
    watts = np.array([1, 2, 4, 8, 16, 32, 64.0])
    difference = level(np.where(watts < 10, -6.0, 6.0), watts, "W")
    low, high = ranges(difference, np.zeros(7))
    assert low.high == high.low == pytest.approx(math.sqrt(8 * 16))


def test_what_lies_inside_the_uncertainty_is_left_out():
    y = np.where(F < 1000, 0.5, -0.05)
    words = ranges_words("A", "B", level(y), np.full(F.size, 0.03))
    last = F[F < 1000][-1]
    assert words.startswith("A vs. B: higher below ")
    assert ranges(level(y), np.full(F.size, 0.03))[0].high == pytest.approx(last)
    assert "no measurable difference" in ranges_words("A", "B", level(0 * F + 0.004), np.zeros(F.size))
    assert (
        ranges_words("A", "B", level(0 * F + 1), np.zeros(F.size))
        == "A vs. B: higher throughout (20.0 Hz to 20.0 kHz)."
    )


def test_a_single_point_is_chance():
    y = np.full(F.size, 0.2)
    y[100] = -3
    (one,) = ranges(level(y), np.zeros(F.size))
    assert (one.low, one.high, one.sign) == (20, pytest.approx(20000), 1)


def test_uncertainty_grows_towards_the_floor():
    """A floor as loud as the curve may double its voltage: 6.02 dB; 40 dB below, 0.086 dB."""
    curve = level(0 * F, floor=np.where(F < 1000, -40.0, 0.0))
    doubt = noise_uncertainty(curve, np.array([100.0, 10000.0]))
    assert doubt == pytest.approx([20 * math.log10(1.01), 20 * math.log10(2)], abs=1e-6)
    assert noise_uncertainty(level(0 * F), F).max() == 0
