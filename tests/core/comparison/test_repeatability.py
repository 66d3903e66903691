"""Statistics against scipy.stats; rates of error against simulation."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from epidote.core.comparison.repeatability import (
    Significance,
    Spread,
    SwapConclusion,
    compare,
    spread_curve,
    spreads,
    swap_conclusion,
)
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.wording.differences import comparison_words


def readings(values, spread=0.0, cautions=(), unit="dB"):
    return [Reading("thd", 1, float(v), unit, spread=spread, cautions=cautions) for v in values]


@pytest.mark.parametrize("seed", range(8))
def test_agrees_with_welch(seed):
    """Interval and verdict. Source: scipy.stats.ttest_ind(equal_var=False)."""
    rng = np.random.default_rng(seed)
    a, b = rng.normal(-80, 0.1, rng.integers(2, 9)), rng.normal(-80 + 0.12 * (seed % 3), 0.3, rng.integers(2, 9))
    found = compare(readings(a), readings(b))
    test = stats.ttest_ind(a, b, equal_var=False)
    interval = test.confidence_interval(0.95)
    assert found.degrees == pytest.approx(test.df, rel=1e-9)
    assert found.difference - found.interval == pytest.approx(interval.low, rel=1e-9, abs=1e-12)
    assert found.difference + found.interval == pytest.approx(interval.high, rel=1e-9, abs=1e-12)
    assert (found.finding is Significance.DIFFERENT) == (test.pvalue < 0.05)


def test_equal_units_are_called_different_in_one_of_twenty():
    """The rate of false alarms is what the rule promises. Source: the definition of a 95 % test."""
    rng = np.random.default_rng(1)
    alarms = [
        compare(readings(rng.normal(0, 0.05, 5)), readings(rng.normal(0, 0.05, 5))).finding is Significance.DIFFERENT
        for _ in range(2000)
    ]
    assert 0.03 < np.mean(alarms) < 0.065


def test_a_single_run_borrows_the_other_side_s_scatter():
    """One run against five: the pooled variance is the five's.

    Source: Student's t with 4 degrees of freedom, two variances added.
    """
    five = np.array([0.02, -0.01, 0.03, 0.00, -0.02])
    found = compare(readings([0.2]), readings(five))
    expected = stats.t.ppf(0.975, found.degrees) * np.sqrt(five.var(ddof=1) * (1 + 1 / 5))
    assert found.interval == pytest.approx(expected, rel=1e-9)
    assert found.finding is Significance.DIFFERENT
    assert "one row measured only once" in comparison_words(found)


def test_what_is_known_of_other_cells():
    alone = compare(readings([1.0], 0.001), readings([1.01], 0.001))
    assert alone.finding is Significance.DIFFERENT
    assert alone.interval == pytest.approx(stats.norm.ppf(0.975) * 0.001 * np.sqrt(2), rel=1e-9)
    assert "uncertainty from noise only" in comparison_words(alone)
    informed = compare(readings([1.0], 0.001), readings([1.01], 0.001), Spread(0.0, 0.05, 6))
    assert informed.finding is Significance.NO_DIFFERENCE
    assert comparison_words(informed).startswith("no measurable difference")


def test_both_at_the_chain_s_floor_say_nothing():
    near = (Caution.NEAR_FLOOR,)
    assert (
        compare(readings([-98, -98.1], cautions=near), readings([-97, -97.1], cautions=near)).finding
        is Significance.CHAIN_LIMITED
    )
    assert compare(readings([-98, -98.1], cautions=near), readings([-90, -90.1])).finding is Significance.DIFFERENT


def test_what_cannot_be_compared():
    assert compare([], readings([1])) is None
    assert compare(readings([1]), readings([1], unit="V")) is None
    assert compare([Reading("thd", 1, None, "dB")], readings([1])) is None


def test_spreads_over_runs():
    """Source: numpy's standard deviation of a sample."""
    found = spreads([readings([v]) for v in (1.0, 2.0, 4.0)])["thd", 1]
    assert (found.mean, found.count) == (pytest.approx(7 / 3), 3)
    assert found.deviation == pytest.approx(np.std([1, 2, 4], ddof=1))
    assert spreads([readings([1.0])]) == {}


def test_spread_per_frequency():
    """Curves of known scatter, one on another grid; where one ends there is no spread."""
    x = np.geomspace(20, 20000, 400)
    rng = np.random.default_rng(2)
    curves = [Curve("level", 1, x, np.full(x.size, v), "Hz", "dB") for v in rng.normal(0, 0.1, 30)]
    short = np.geomspace(40, 20000, 77)
    curves.append(Curve("level", 1, short, np.zeros(short.size), "Hz", "dB"))
    found = spread_curve(curves)
    assert found.x[0] >= 40
    assert found.y == pytest.approx(np.std([c.y[0] for c in curves], ddof=1), rel=1e-6)
    assert spread_curve(curves[:1]) is None


def test_what_a_difference_between_channels_follows():
    assert swap_conclusion({1: -80.0, 2: -70.0}, {1: -70.1, 2: -80.2}, 0.5) is SwapConclusion.UNIT
    assert swap_conclusion({1: -80.0, 2: -70.0}, {1: -80.1, 2: -69.8}, 0.5) is SwapConclusion.CHAIN
    assert swap_conclusion({1: -80.0, 2: -80.1}, {1: -80.1, 2: -80.0}, 0.5) is SwapConclusion.NO_DIFFERENCE
    assert swap_conclusion({1: -80.0}, {1: -80.1, 2: -69.8}, 0.5) is SwapConclusion.INCOMPLETE
