"""Statistics of listening tests against scipy.stats, 12_abx_binomial.csv and simulated listeners."""

import json
import math

import numpy as np
import pytest
from scipy import optimize, stats

from epidote.core.analysis.listening.trials import (
    bradley_terry,
    clopper_pearson,
    holm,
    judge_forced_choice,
    judge_grades,
    least_right,
    trials_needed,
)
from epidote.core.errors import SettingError
from tests.conftest import table


@pytest.mark.parametrize("row", table("12_abx_binomial")[::4], ids=lambda r: r["trials"])
def test_least_right_answers_of_the_table(row):
    trials, least = int(row["trials"]), int(row["min_correct_p_below_0p05"])
    assert least_right(trials) == least
    assert judge_forced_choice(least, trials).p == pytest.approx(float(row["p_value_at_min_0p05"]), abs=1e-9)
    assert least_right(trials, 0.01) == int(row["min_correct_p_below_0p01"])


@pytest.mark.parametrize(("correct", "trials"), [(0, 8), (12, 16), (16, 16), (55, 100)])
def test_binomial_and_interval_against_scipy(correct, trials):
    found = judge_forced_choice(correct, trials)
    reference = stats.binomtest(correct, trials, 0.5, alternative="greater")
    assert found.p == pytest.approx(reference.pvalue, abs=1e-9)
    exact = stats.binomtest(correct, trials).proportion_ci(0.95, method="exact")
    assert clopper_pearson(correct, trials) == pytest.approx((exact.low, exact.high), abs=1e-9)


def test_words():
    """14 of 16: p = 137/65536 = 0.00209; 12 of 16 are needed, which 8 of 10 reach with 79.8 %."""
    assert judge_forced_choice(14, 16).words == "audible difference demonstrated (14 of 16, p = 0.002)"
    words = judge_forced_choice(9, 16).words
    assert words.startswith("no audible difference demonstrated in 16 trials")
    assert "8 times out of 10 would have been detected with a probability of 80 %" in words
    assert "stopped before its end" in judge_forced_choice(9, 10, stopped_early=True).words


@pytest.mark.parametrize("trials", [10, 16, 25])
def test_simulated_guessers_are_rarely_believed(trials):
    """10,000 guessers: the share said to hear it is at most 5 %, and what theory says within its own chance."""
    rng = np.random.default_rng(trials)
    told_apart = np.array([judge_forced_choice(c, trials).told_apart for c in range(trials + 1)])
    said = np.mean(told_apart[rng.binomial(trials, 0.5, 10_000)])
    theory = stats.binom.sf(least_right(trials) - 1, trials, 0.5)
    assert said <= 0.05 + 0.006
    assert said == pytest.approx(theory, abs=4 * math.sqrt(theory * (1 - theory) / 10_000))
    power = np.mean(told_apart[rng.binomial(trials, 0.8, 10_000)])
    assert power == pytest.approx(judge_forced_choice(0, trials).power, abs=0.015)


def test_trials_that_a_wished_certainty_needs():
    needed = trials_needed(0.8, 0.8)
    for trials in range(needed, needed + 12):
        assert stats.binom.sf(least_right(trials) - 1, trials, 0.8) >= 0.8
    before = needed - 1
    assert stats.binom.sf(least_right(before) - 1, before, 0.8) < 0.8
    with pytest.raises(SettingError, match="above 0.5"):
        trials_needed(0.5, 0.8)


@pytest.mark.parametrize(("correct", "trials"), [(5, 4), (-1, 4), (0, 0), (1, 20000)])
def test_numbers_that_cannot_be(correct, trials):
    with pytest.raises(SettingError):
        judge_forced_choice(correct, trials)


def test_grades_against_scipy():
    rng = np.random.default_rng(5)
    reference = rng.normal(95, 3, 12)
    grades = {"A": reference, "B": reference - rng.normal(20, 6, 12), "C": reference - rng.normal(45, 8, 12)}
    judged = judge_grades(grades)
    assert judged.p == pytest.approx(stats.friedmanchisquare(*grades.values()).pvalue, abs=1e-9)
    assert judged.medians["B"] == pytest.approx(np.median(grades["B"]))
    low, high = judged.intervals["B"]
    assert low <= judged.medians["B"] <= high
    first = judged.pairs[0]
    assert first.p == pytest.approx(stats.wilcoxon(grades["A"] - grades["B"]).pvalue, abs=1e-9)
    assert first.corrected >= first.p
    with pytest.raises(SettingError, match="same number"):
        judge_grades({"A": [1, 2], "B": [1]})


def test_holm_by_hand():
    """Holm 1979: 0.01, 0.04, 0.03 become 3 x 0.01, then 2 x 0.03, then the greater of that and 0.04."""
    assert holm([0.01, 0.04, 0.03]) == pytest.approx([0.03, 0.06, 0.06])
    assert holm([0.6, 0.7]) == [1.0, 1.0]


def test_bradley_terry_is_the_maximum_of_the_likelihood():
    wins = np.array([[0, 7, 9], [3, 0, 6], [1, 4, 0]])

    def loss(logs):
        s = np.exp(np.concatenate([[0.0], logs]))
        share = s[:, None] / (s[:, None] + s[None, :])
        return -float((wins * np.log(share)).sum())

    logs = optimize.minimize(loss, [0.0, 0.0], tol=1e-12).x
    expected = np.exp(np.concatenate([[0.0], logs]))
    np.testing.assert_allclose(bradley_terry(wins), expected / expected.sum(), atol=1e-5)
    sure = bradley_terry(np.array([[0, 5], [0, 0]]))
    assert 0.5 < sure[0] < 1
    with pytest.raises(SettingError):
        bradley_terry(np.zeros((2, 2)))


def test_the_commands(run):
    code, out, err = run("listen", "statistics", "--correct", "12", "--trials", "16", "--json")
    assert code == 0, err
    found = json.loads(out)
    assert found["p"] == pytest.approx(2517 / 65536, abs=1e-12)
    assert found["told_apart"]
    assert found["interval"] == pytest.approx(list(clopper_pearson(12, 16)))
    code, out, _ = run("listen", "plan", "--skill", "0.8", "--certainty", "0.8", "--json")
    assert json.loads(out)["trials"] == trials_needed(0.8, 0.8)
    code, _, err = run("listen", "statistics", "--correct", "17", "--trials", "16")
    assert code == 2 and "cannot be" in err
