"""Statistics of listening tests: forced choice, grades and pairs.

Exact binomial test and Clopper-Pearson interval (Clopper, Pearson 1934); Friedman and Wilcoxon tests with Holm's
correction (Holm 1979); Bradley-Terry strengths by Hunter's iteration (Hunter 2004). All from memory.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy import stats

from epidote.core.errors import SettingError
from epidote.core.signals.signal import Samples
from epidote.core.statistics.proportion import clopper_pearson

SIGNIFICANT = 0.05
_CONFIDENCE = 0.95
_SKILL = 0.8  # share of correct answers in the listener that a test without a finding speaks of
_MOST_TRIALS = 10_000
_RESAMPLES, _SEED = 9999, 7


@dataclass(frozen=True)
class ForcedChoice:
    """p: chance of so many right answers, or more, by guessing; interval: of the share of right answers, 95 %.

    criterion: right answers from which on p is below the level; power: chance that a listener who answers right 8
    times of 10 reaches it.
    """

    correct: int
    trials: int
    p: float
    interval: tuple[float, float]
    criterion: int | None
    power: float
    stopped_early: bool = False

    @property
    def told_apart(self) -> bool:
        return self.p < SIGNIFICANT

    @property
    def words(self) -> str:
        """The finding in a sentence."""
        early = ", stopped before its end" if self.stopped_early else ""
        if self.told_apart:
            return f"audible difference demonstrated ({self.correct} of {self.trials}, p = {rounded_p(self.p)}{early})"
        return (
            f"no audible difference demonstrated in {self.trials} trials ({self.correct} correct, p ="
            f" {rounded_p(self.p)}{early}); a"
            f" listener who hears it {round(10 * _SKILL)} times out of 10 would have been detected with a"
            " probability of"
            f" {100 * self.power:.0f} %"
        )


def rounded_p(p: float) -> str:
    """Return p in as many digits as are of use."""
    if p > 0.9995:
        return "1"
    if p >= 0.001:
        return f"{p:.3f}"
    return f"{p:.1g}"


def judge_forced_choice(correct: int, trials: int, *, stopped_early: bool = False) -> ForcedChoice:
    """Return what so many correct answers in so many trials say. Raises SettingError for numbers that cannot be."""
    if not 1 <= trials <= _MOST_TRIALS:
        raise SettingError(f"{trials} trials cannot be judged; use 1 to {_MOST_TRIALS}.")
    if not 0 <= correct <= trials:
        raise SettingError(f"{correct} correct answers in {trials} trials cannot be; use 0 to {trials}.")
    p = float(stats.binom.sf(correct - 1, trials, 0.5))
    interval = clopper_pearson(correct, trials)
    return ForcedChoice(correct, trials, p, interval, least_right(trials), power_of(trials), stopped_early)


def power_of(trials: int, skill: float = _SKILL) -> float:
    """Return the chance that a listener with a share ``skill`` of right answers is found out in so many trials."""
    criterion = least_right(trials)
    if criterion is None:
        return 0.0
    return float(stats.binom.sf(criterion - 1, trials, skill))


def least_right(trials: int, level: float = SIGNIFICANT) -> int | None:
    """Return the least number of right answers whose p is below a level; None where even all would not do."""
    for correct in range(trials // 2, trials + 1):
        if stats.binom.sf(correct - 1, trials, 0.5) < level:
            return correct
    return None


def trials_needed(skill: float, power: float, level: float = SIGNIFICANT) -> int:
    """Return the least number of trials in which a listener with a share ``skill`` of right answers is found out with a
    probability ``power``, and in all longer tests, too.

    Raises SettingError for a skill that is no better than guessing.
    """
    if not 0.5 < skill <= 1 or not 0 < power < 1:
        raise SettingError(
            "The proportion of correct answers must be above 0.5, up to 1, and the required power between 0 and"
            " 1. Use other values."
        )
    failed = 0
    for trials in range(1, _MOST_TRIALS + 1):
        criterion = least_right(trials, level)
        if criterion is None or stats.binom.sf(criterion - 1, trials, skill) < power:
            failed = trials
        elif trials > failed + 12:  # the power of longer tests goes up and down by steps of a few trials
            return failed + 1
    raise SettingError(f"More than {_MOST_TRIALS} trials would be needed. Use a greater skill or less certainty.")


@dataclass(frozen=True)
class GradeComparison:
    """Two letters: p of the Wilcoxon test as it is, and corrected for how many pairs are compared (Holm)."""

    first: str
    second: str
    p: float
    corrected: float


@dataclass(frozen=True)
class Grades:
    """medians and intervals (95 %, bootstrap) by letter; p: of the Friedman test, None for fewer than three letters or
    two graders; pairs: every two letters compared.
    """

    medians: dict[str, float]
    intervals: dict[str, tuple[float, float]]
    p: float | None
    pairs: tuple[GradeComparison, ...]


def judge_grades(grades: Mapping[str, Sequence[float]]) -> Grades:
    """Return what grades by letter say; each letter's grades are in the order of the same trials.

    Raises SettingError where letters have different numbers of grades.
    """
    counts = {len(g) for g in grades.values()}
    if len(grades) < 2 or len(counts) != 1 or counts == {0}:
        raise SettingError(
            "Every letter needs the same number of grades. Enter the missing ones, or leave a letter out."
        )
    table = {letter: np.asarray(g, dtype=np.float64) for letter, g in grades.items()}
    medians = {letter: float(np.median(g)) for letter, g in table.items()}
    intervals = {letter: _median_interval(g) for letter, g in table.items()}
    p = None
    if len(table) > 2 and counts.pop() > 1:
        p = float(stats.friedmanchisquare(*table.values()).pvalue)
    letters = list(table)
    every = [(a, b) for i, a in enumerate(letters) for b in letters[i + 1 :]]
    plain = [_wilcoxon(table[a] - table[b]) for a, b in every]
    corrected = holm(plain)
    pairs = [GradeComparison(a, b, p, c) for (a, b), p, c in zip(every, plain, corrected, strict=True)]
    return Grades(medians, intervals, p, tuple(pairs))


def _median_interval(grades: Samples) -> tuple[float, float]:
    if grades.size < 2 or np.ptp(grades) == 0:
        return float(grades.min()), float(grades.max())
    found = stats.bootstrap(
        (grades,),
        np.median,
        n_resamples=_RESAMPLES,
        confidence_level=_CONFIDENCE,
        method="percentile",
        rng=np.random.default_rng(_SEED),
    ).confidence_interval
    return float(found.low), float(found.high)


def _wilcoxon(differences: Samples) -> float:
    """Return p of the signed-rank test; 1 where nothing differs."""
    if not np.any(differences):
        return 1.0
    return float(stats.wilcoxon(differences).pvalue)


def holm(p_values: Sequence[float]) -> list[float]:
    """Return p values corrected by Holm's step-down method, in their own order."""
    order = sorted(range(len(p_values)), key=lambda i: p_values[i])
    corrected = [1.0] * len(p_values)
    greatest = 0.0
    for rank, index in enumerate(order):
        greatest = max(greatest, min(1.0, (len(p_values) - rank) * p_values[index]))
        corrected[index] = greatest
    return corrected


def bradley_terry(wins: Samples) -> Samples:
    """Return the strengths (letters,) of letters, their sum 1, from wins (letters, letters) of row over column.

    By Hunter's iteration, with half a win of each over each added where one never won or never lost, which would have
    no finite strength. Raises SettingError for a table that is none.
    """
    count = wins.shape[0]
    if wins.ndim != 2 or count < 2 or wins.shape != (count, count) or np.any(wins < 0) or not wins.any():
        raise SettingError("Preferences need a square table of wins. Enter the answers of at least one trial.")
    table = wins.astype(np.float64).copy()
    np.fill_diagonal(table, 0.0)
    if np.any(table.sum(axis=1) == 0) or np.any(table.sum(axis=0) == 0):
        table = table + 0.5 * (1 - np.eye(count))
    strength = np.full(count, 1.0 / count)
    games = table + table.T
    for _ in range(10_000):
        shared = strength[:, None] + strength[None, :]
        new = table.sum(axis=1) / (games / shared).sum(axis=1)
        new /= new.sum()
        if np.abs(new - strength).max() < 1e-12:
            return np.asarray(new)
        strength = new
    return strength
