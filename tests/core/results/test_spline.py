"""The few-point spline against SciPy's."""

import numpy as np
import pytest
from scipy.interpolate import CubicSpline

from epidote.core.results.curve_features import level_crossing
from epidote.core.results.spline import Spline


@pytest.mark.parametrize("points", [4, 5, 8, 24])
def test_is_scipys(points):
    """Source: scipy.interpolate.CubicSpline, not-a-knot."""
    rng = np.random.default_rng(points)
    x, y = np.cumsum(0.1 + rng.random(points)), rng.standard_normal(points)
    own, theirs = Spline.through(x, y), CubicSpline(x, y)
    for at in np.linspace(x[0], x[-1], 57):
        assert own.at(float(at)) == pytest.approx(float(theirs(at)), abs=1e-10)


def test_places_of_a_value_are_scipys():
    x = np.arange(8.0)
    y = np.array([3.0, 2.0, 2.5, 1.0, -1.0, -0.5, -2.0, -3.0])
    own, theirs = Spline.through(x, y), CubicSpline(x, y)
    for segment in range(7):
        expected = [r for r in theirs.solve(0.2, extrapolate=False) if segment <= r <= segment + 1]
        assert own.places_of(0.2, segment) == pytest.approx(expected, abs=1e-9)


def test_a_crossing_between_two_points_lies_on_the_spline():
    """Closed form: a first-order low-pass is 3 dB below its beginning at sqrt(10^0.3 - 1) of its corner."""
    f = np.geomspace(10, 40000, 400)
    level = -10 * np.log10(1 + (f / 8000) ** 2)
    assert level_crossing(f, level, -3.0, 1000.0, upwards=True) == pytest.approx(8000 * np.sqrt(10**0.3 - 1), rel=1e-7)
