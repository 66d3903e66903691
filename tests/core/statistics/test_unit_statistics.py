"""Statistics over units against worked examples of the NIST/SEMATECH e-Handbook (numbers from memory of its pages),
scipy.stats and statsmodels.
"""

import math

import numpy as np
import pytest
import statsmodels.api
from scipy import stats
from statsmodels.stats.proportion import proportion_confint

from epidote.core.errors import UnusableInputError
from epidote.core.statistics.capability import capability
from epidote.core.statistics.control_chart import ChartRule, individuals_chart, western_electric
from epidote.core.statistics.outliers import generalised_esd
from epidote.core.statistics.overall import value_statistics
from epidote.core.statistics.proportion import clopper_pearson, yield_of
from epidote.core.statistics.relations import correlation, drift, histogram, normal_plot
from epidote.core.statistics.tolerance import one_sided_factor, two_sided_factor

# Rosner's data, as in 1.3.5.17.3
ROSNER = np.array(
    [
        *(-0.25, 0.68, 0.94, 1.15, 1.20, 1.26, 1.26, 1.34, 1.38, 1.43, 1.49, 1.49, 1.55, 1.56, 1.58, 1.65, 1.69, 1.70),
        *(1.76, 1.77, 1.81, 1.91, 1.94, 1.96, 1.99, 2.06, 2.09, 2.10, 2.14, 2.15, 2.23, 2.24, 2.26, 2.35, 2.37, 2.40),
        *(2.47, 2.54, 2.62, 2.64, 2.90, 2.92, 2.92, 2.93, 3.21, 3.26, 3.30, 3.59, 3.68, 4.30, 4.64, 5.34, 5.42, 6.01),
    ]
)
# flow rates, as in 6.3.2.2
FLOW = np.array([49.6, 47.6, 49.9, 51.3, 47.8, 51.2, 52.6, 52.4, 53.6, 52.1])


def test_two_sided_tolerance_factor_of_7_2_6_3():
    """43 wafers, 90 % of the population with 99 % confidence: k = 2.217."""
    assert two_sided_factor(43, 0.90, 0.99) == pytest.approx(2.217, abs=5e-4)


def test_one_sided_tolerance_factor_of_7_2_6_3():
    """The same by the noncentral t distribution: k = 1.8740."""
    assert one_sided_factor(43, 0.90, 0.99) == pytest.approx(1.8740, abs=2e-4)


@pytest.mark.parametrize("units", [3, 10, 40, 400])
def test_a_one_sided_limit_holds_its_share(units):
    """Against scipy's noncentral t, and by drawing populations."""
    k = one_sided_factor(units)
    expected = stats.nct.ppf(0.95, units - 1, stats.norm.ppf(0.95) * math.sqrt(units)) / math.sqrt(units)
    assert k == pytest.approx(expected, rel=1e-6)
    rng = np.random.default_rng(units)
    drawn = rng.standard_normal((4000, units))
    covered = stats.norm.cdf(drawn.mean(axis=1) + k * drawn.std(axis=1, ddof=1))
    assert np.mean(covered >= 0.95) == pytest.approx(0.95, abs=0.012)


@pytest.mark.parametrize("units", [5, 20, 60])
def test_two_sided_limits_hold_their_share(units):
    """Howe's formula is approximate: the confidence comes out within 2 %."""
    k = two_sided_factor(units)
    rng = np.random.default_rng(units)
    drawn = rng.standard_normal((4000, units))
    mean, s = drawn.mean(axis=1), drawn.std(axis=1, ddof=1)
    covered = stats.norm.cdf(mean + k * s) - stats.norm.cdf(mean - k * s)
    assert np.mean(covered >= 0.95) == pytest.approx(0.95, abs=0.02)


def test_fewer_than_three_units_have_no_tolerance_limits():
    with pytest.raises(UnusableInputError, match="at least 3 good units; 2 selected"):
        two_sided_factor(2)


def test_outliers_of_rosner_s_data():
    """1.3.5.17.3: three outliers, with these statistics and critical values."""
    found = generalised_esd(ROSNER, 10)
    assert sorted(ROSNER[list(found.places)]) == [5.34, 5.42, 6.01]
    statistics = [3.118, 2.942, 3.179, 2.810, 2.815, 2.848, 2.279, 2.310, 2.101, 2.067]
    critical = [3.158, 3.151, 3.143, 3.136, 3.128, 3.120, 3.111, 3.103, 3.094, 3.085]
    assert [step.statistic for step in found.steps] == pytest.approx(statistics, abs=1.5e-3)
    assert [step.critical for step in found.steps] == pytest.approx(critical, abs=1.5e-3)
    assert found.reliable


def test_a_normal_line_has_an_outlier_once_in_twenty():
    rng = np.random.default_rng(1)
    lines = [generalised_esd(rng.standard_normal(50)).places for _ in range(600)]
    assert np.mean([bool(places) for places in lines]) == pytest.approx(0.05, abs=0.025)


def test_equal_values_and_few_values_have_no_outliers():
    assert generalised_esd(np.ones(30)).places == ()
    few = generalised_esd(np.array([1.0, 2.0, 90.0]))
    assert few.places == ()
    assert not few.reliable


def test_individuals_and_moving_ranges_of_6_3_2_2():
    chart = individuals_chart(FLOW)
    assert chart.centre == pytest.approx(50.81)
    assert chart.mean_range == pytest.approx(1.8778, abs=1e-4)
    assert (chart.lower, chart.upper) == (pytest.approx(45.8159, abs=2e-3), pytest.approx(55.8041, abs=2e-3))
    assert chart.upper_range == pytest.approx(3.267 * 1.8778, abs=1e-3)
    assert [s for s in chart.signals if s.rule is ChartRule.ONE_BEYOND_THREE] == [], "the process is in control"
    assert individuals_chart(FLOW[:2]) is None


@pytest.mark.parametrize(
    ("values", "rule", "place"),
    [
        ([0, 0, 3.1], ChartRule.ONE_BEYOND_THREE, 2),
        ([0, 2.1, 0, 2.2], ChartRule.TWO_OF_THREE, 3),
        ([0, -1.1, -1.2, 0, -1.3, -1.4], ChartRule.FOUR_OF_FIVE, 5),
        ([0.1] * 8, ChartRule.EIGHT_ON_A_SIDE, 7),
        ([0, 2.1, -2.2], None, 0),
        ([0.1] * 7 + [-0.1] * 7, None, 0),
    ],
)
def test_western_electric_rules(values, rule, place):
    """6.3.2, each rule by an example made for it; two points on different sides are no pair."""
    found = western_electric(np.array(values, dtype=float), 0.0, 1.0)
    assert [(s.rule, s.place) for s in found] == ([(rule, place)] if rule is not None else [])


def test_capability_of_6_1_6():
    """USL 20, LSL 8, mean 16, s 2: Cp 1.0, Cpk 0.6667; its interval by the handbook's formula."""
    found = capability(16.0, 2.0, 50, 8.0, 20.0)
    assert found.cp == pytest.approx(1.0)
    assert found.cpk == pytest.approx(0.6667, abs=1e-4)
    half = 1.96 * math.sqrt(1 / (9 * 50) + 0.6667**2 / (2 * 49))
    assert found.cpk_interval == pytest.approx((0.6667 - half, 0.6667 + half), abs=1e-3)
    low, high = (math.sqrt(stats.chi2.ppf(p, 49) / 49) for p in (0.025, 0.975))
    assert found.cp_interval == pytest.approx((low, high), rel=1e-9)
    one_side = capability(16.0, 2.0, 50, None, 20.0)
    assert (one_side.cp, one_side.cpk) == (None, pytest.approx(2 / 3))
    assert capability(16.0, 2.0, 50, None, None) is None
    assert capability(16.0, 0.0, 50, 8.0, 20.0) is None


@pytest.mark.parametrize(("passed", "counted"), [(0, 12), (5, 12), (12, 12), (203, 216)])
def test_yield_s_interval_is_statsmodels_own(passed, counted):
    expected = proportion_confint(passed, counted, method="beta")
    expected = [0.0 if math.isnan(expected[0]) else expected[0], 1.0 if math.isnan(expected[1]) else expected[1]]
    assert clopper_pearson(passed, counted) == pytest.approx(expected, abs=1e-9)
    assert yield_of(passed, counted).share == passed / counted
    assert yield_of(0, 0) is None


def test_drift_is_the_slope_of_scipy_s_line():
    rng = np.random.default_rng(2)
    days = np.sort(rng.uniform(0, 9, 40))
    values = 3 + 0.02 * days + rng.normal(0, 0.01, 40)
    found, line = drift(days, values), stats.linregress(days, values)
    assert found.per_day == pytest.approx(line.slope, rel=1e-9)
    assert found.interval == pytest.approx(stats.t.ppf(0.975, 38) * line.stderr, rel=1e-9)
    assert found.significant
    assert drift(np.zeros(5), values[:5]) is None, "measured all at once: no slope"


def test_correlation_is_pearson_s_with_scipy_s_interval():
    rng = np.random.default_rng(3)
    x = rng.standard_normal(30)
    y = 0.6 * x + rng.standard_normal(30)
    found, expected = correlation(x, y), stats.pearsonr(x, y)
    assert found.r == pytest.approx(expected.statistic)
    assert found.interval == pytest.approx(tuple(expected.confidence_interval(0.95)), rel=1e-6)
    assert correlation(x[:3], y[:3]) is None
    assert correlation(x, np.ones(30)) is None


def test_normal_plot_is_scipy_s():
    """Filliben's medians and the correlation of the plot, as scipy.stats.probplot has them."""
    (expected, ordered), (_, _, r) = stats.probplot(ROSNER)
    plot = normal_plot(ROSNER)
    np.testing.assert_allclose(plot.expected, expected, atol=1e-9)
    np.testing.assert_array_equal(ROSNER[plot.order], ordered)
    assert plot.fit == pytest.approx(r)
    assert normal_plot(np.ones(9)) is None


def test_histogram_counts_every_value():
    found = histogram(ROSNER)
    assert found.counts.sum() == ROSNER.size
    assert (found.edges[0], found.edges[-1]) == (ROSNER.min(), ROSNER.max())
    assert 5 <= found.counts.size <= 60
    assert histogram(np.ones(4)) is None


def test_the_line_of_a_drift_and_its_band_are_statsmodels_own():
    rng = np.random.default_rng(7)
    days = np.sort(rng.uniform(0, 12, 30))
    values = 18.0 + 0.02 * days + rng.normal(0, 0.05, 30)
    at = np.linspace(-1, 14, 9)
    fitted = statsmodels.api.OLS(values, statsmodels.api.add_constant(days)).fit()
    predicted = fitted.get_prediction(statsmodels.api.add_constant(at))
    found = drift(days, values)
    line, half = found.line(at)
    assert line == pytest.approx(predicted.predicted_mean, rel=1e-9)
    low, high = predicted.conf_int(alpha=0.05).T
    assert line - half == pytest.approx(low, rel=1e-9)
    assert line + half == pytest.approx(high, rel=1e-9)
    assert (found.per_day - found.interval, found.per_day + found.interval) == pytest.approx(
        tuple(fitted.conf_int(alpha=0.05)[1]), rel=1e-9
    )


def test_everything_of_one_reading():
    found = value_statistics(ROSNER, np.arange(54.0), 0.0, 5.0)
    assert (found.mean, found.s) == (pytest.approx(ROSNER.mean()), pytest.approx(ROSNER.std(ddof=1)))
    assert found.within.passed == 50
    assert found.drift.per_day > 0
    with pytest.raises(UnusableInputError, match="No values"):
        value_statistics(np.zeros(0))
    single = value_statistics(np.array([1.0]), None, 0.5, None)
    assert (single.s, single.capability, single.within.share) == (None, None, 1.0)
