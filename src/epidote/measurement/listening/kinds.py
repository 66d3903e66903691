"""Kinds of listening test: what each trial plays, what is answered, and what the answers say. A new kind goes here.

A test names its clips by codes, A, B, C…, which nobody but the key knows. What a listener sees are labels, which a kind
lays over the codes anew for each trial. An answer is a text: a label, or one grade for each letter.
"""

from __future__ import annotations

import random
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations
from typing import Any

import numpy as np
from scipy import stats

from epidote.core.analysis.listening.trials import (
    SIGNIFICANT,
    bradley_terry,
    holm,
    judge_forced_choice,
    judge_grades,
    rounded_p,
)
from epidote.core.errors import SettingError
from epidote.measurement.listening.clips import ORIGINAL

LETTERS = "ABCDEFGH"
UNKNOWN = "?"
REFERENCE = "Reference"
_HIDDEN_LEAST, _HIDDEN_SHARE = 90.0, 0.15  # ITU-R BS.1534-3, 4.1.2 (from memory)


@dataclass(frozen=True)
class GradeScale:
    """A scale of grades. marks: grades with the words that stand beside them."""

    key: str
    title: str
    low: float
    high: float
    decimals: int
    marks: tuple[tuple[float, str], ...]

    def grade(self, text: str) -> float:
        """Return a grade from text. Raises ValueError, in words that go on after “trial 3 has”."""
        try:
            value = float(text.strip().replace(",", "."))
        except ValueError:
            value = float("nan")
        if not self.low <= value <= self.high:
            raise ValueError(f"“{text.strip()}”, which is no grade from {self.low:g} to {self.high:g}")
        return round(value, self.decimals)


SCALES = {
    scale.key: scale
    for scale in (
        GradeScale(
            "quality",
            "Quality, 0 to 100 (ITU-R BS.1534)",
            0,
            100,
            0,
            ((90, "Excellent"), (70, "Good"), (50, "Fair"), (30, "Poor"), (10, "Bad")),
        ),
        GradeScale(
            "impairment",
            "Impairment, 1 to 5 (ITU-R BS.1116)",
            1,
            5,
            1,
            (
                (5, "Imperceptible"),
                (4, "Perceptible, but not annoying"),
                (3, "Slightly annoying"),
                (2, "Annoying"),
                (1, "Very annoying"),
            ),
        ),
    )
}
QUALITY = SCALES["quality"]


@dataclass(frozen=True)
class Target:
    """What can be played in a trial: its label, and the code of the clip under it. fixed: the same in all trials."""

    label: str
    code: str
    fixed: bool = False


@dataclass(frozen=True)
class Judged:
    """What answers say: sentences, and the same in numbers."""

    words: tuple[str, ...]
    figures: dict[str, Any]


Answered = Sequence[tuple[str, str]]  # key and answer of each trial


class ListeningKind(ABC):
    """One kind of test. question: what is asked in each trial; choice_words: of a button that answers it. least, most:
    number of clips. needs_original, anchored: whether original and low anchor are among them; scaled: whether grades
    are given; answered: whether anything is.
    """

    key: str
    title: str
    about: str
    question: str
    choice_words = "It is {}"
    least = 2
    most = len(LETTERS)
    needs_original = False
    anchored = False
    scaled = False
    answered = True
    usual_trials = 16

    @abstractmethod
    def draw(self, codes: Sequence[str], trials: int, chance: random.Random) -> list[str]:
        """Return the key of each trial. Raises SettingError for a number of trials that does not fit."""

    @abstractmethod
    def targets(self, key: str, letters: Mapping[str, str]) -> tuple[Target, ...]:
        """Return what can be played in a trial. letters: name of each code."""

    def answer_labels(self, count: int) -> tuple[str, ...]:
        """Return the labels that an answer names, or grades, with so many clips."""
        return tuple(LETTERS[:count])

    def read_answer(self, cells: Sequence[str], count: int, scale: str) -> str:
        """Return an answer from the cells of a sheet. Raises ValueError, in words that go on after “trial 3 has”."""
        answer = cells[0].strip().upper() if cells else ""
        allowed = self.answer_labels(count)
        if answer not in allowed:
            raise ValueError(f"the answer “{answer}” instead of {' or '.join(allowed)}")
        return answer

    def columns(self, count: int) -> tuple[str, ...]:
        """Return the columns of an answer sheet after that of the trial."""
        return ("answer",)

    @abstractmethod
    def judge(
        self, answered: Answered, letters: Mapping[str, str], scale: str, *, stopped_early: bool = False
    ) -> Judged:
        """Return what the answers of all trials say."""


class ForcedChoiceKind(ListeningKind):
    """Two clips, and an unknown one that is one of the two."""

    key = "forced-choice"
    title = "Forced choice"
    about = "Blind ABX test: is the unknown clip A or B? Shows whether a difference is audible."
    question = "Is the unknown clip A or B?"
    most = 2

    def draw(self, codes: Sequence[str], trials: int, chance: random.Random) -> list[str]:
        return [chance.choice(codes) for _ in range(trials)]

    def targets(self, key: str, letters: Mapping[str, str]) -> tuple[Target, ...]:
        first, second = letters
        return Target(first, first, fixed=True), Target(UNKNOWN, key), Target(second, second, fixed=True)

    def judge(
        self, answered: Answered, letters: Mapping[str, str], scale: str, *, stopped_early: bool = False
    ) -> Judged:
        correct = sum(key == answer for key, answer in answered)
        found = judge_forced_choice(correct, len(answered), stopped_early=stopped_early)
        figures = {
            "correct": correct,
            "trials": len(answered),
            "p": found.p,
            "interval": list(found.interval),
            "criterion": found.criterion,
            "power": found.power,
        }
        return Judged((found.words,), figures)


class GradingKind(ListeningKind):
    """All clips graded against a reference that is hidden among them, with a low anchor."""

    key = "grading"
    title = "Grading"
    about = (
        "Grade each clip relative to the reference; one clip is the hidden reference, one a low-pass anchor (3.5 kHz)."
    )
    question = "Grade each clip relative to the reference."
    needs_original = anchored = scaled = True
    usual_trials = 6

    def draw(self, codes: Sequence[str], trials: int, chance: random.Random) -> list[str]:
        return ["".join(chance.sample(list(codes), len(codes))) for _ in range(trials)]

    def targets(self, key: str, letters: Mapping[str, str]) -> tuple[Target, ...]:
        reference = next(code for code, name in letters.items() if name == ORIGINAL)
        return Target(REFERENCE, reference, fixed=True), *(Target(LETTERS[n], code) for n, code in enumerate(key))

    def columns(self, count: int) -> tuple[str, ...]:
        return self.answer_labels(count)

    def read_answer(self, cells: Sequence[str], count: int, scale: str) -> str:
        if len(cells) < count or not all(cell.strip() for cell in cells[:count]):
            raise ValueError(f"{sum(bool(c.strip()) for c in cells)} grades instead of {count}")
        return " ".join(f"{SCALES[scale].grade(cell):g}" for cell in cells[:count])

    def judge(
        self, answered: Answered, letters: Mapping[str, str], scale: str, *, stopped_early: bool = False
    ) -> Judged:
        grades: dict[str, list[float]] = {name: [] for name in letters.values()}
        missed = highest_missed = 0
        for key, answer in answered:
            given = dict(zip(key, map(float, answer.split()), strict=True))
            for code, grade in given.items():
                grades[letters[code]].append(grade)
            hidden = next(grade for code, grade in given.items() if letters[code] == ORIGINAL)
            highest_missed += hidden < max(given.values())
            missed += hidden < _HIDDEN_LEAST
        found = judge_grades(grades)
        order = sorted(grades, key=lambda name: -found.medians[name])
        words = [
            f"{name}: median {found.medians[name]:g}, 95 % interval {found.intervals[name][0]:g} to"
            f" {found.intervals[name][1]:g}"
            for name in order
        ]
        words += [
            _pair_words(pair.first, pair.second, pair.corrected, "were graded differently") for pair in found.pairs
        ]
        if highest_missed:
            words.append(
                f"The hidden reference did not receive the highest grade in {highest_missed} of {len(answered)} trials."
            )
        if scale == QUALITY.key and missed > _HIDDEN_SHARE * len(answered):
            words.append(
                f"The hidden reference was graded below {_HIDDEN_LEAST:g} in {missed} of {len(answered)} trials: by"
                " ITU-R BS.1534-3 these grades would be excluded."
            )
        figures = {
            "trials": len(answered),
            "grades": {
                name: {"median": found.medians[name], "interval": list(found.intervals[name])} for name in order
            },
            "p": found.p,
            "pairs": [{"rows": [q.first, q.second], "p": q.p, "corrected": q.corrected} for q in found.pairs],
            "hidden_reference_missed": highest_missed,
        }
        return Judged(_with_stop(words, len(answered), stopped_early=stopped_early), figures)


class PreferenceKind(ListeningKind):
    """Two clips at a time, all pairs alike often."""

    key = "preference"
    title = "Preference"
    about = "Which of two clips is preferred? All pairs, equally often, in random order."
    question = "Which one is preferred?"
    choice_words = "I prefer {}"
    usual_trials = 12

    def draw(self, codes: Sequence[str], trials: int, chance: random.Random) -> list[str]:
        pairs = list(combinations(codes, 2))
        if trials % len(pairs):
            raise SettingError(
                f"{len(codes)} clips have {len(pairs)} pairs; {trials} trials do not cover them equally often. Use"
                f" {len(pairs) * max(1, round(trials / len(pairs)))} trials."
            )
        drawn: list[str] = []
        for turn in range(trials // len(pairs)):
            once = ["".join(pair[::-1] if turn % 2 else pair) for pair in pairs]
            chance.shuffle(once)
            drawn += once
        # which of two comes first is drawn as well, once for each pair; the second time it is the other way round
        turned = {frozenset(pair): chance.random() < 0.5 for pair in pairs}
        return [key[::-1] if turned[frozenset(key)] else key for key in drawn]

    def targets(self, key: str, letters: Mapping[str, str]) -> tuple[Target, ...]:
        return Target(LETTERS[0], key[0]), Target(LETTERS[1], key[1])

    def answer_labels(self, count: int) -> tuple[str, ...]:
        return tuple(LETTERS[:2])

    def judge(
        self, answered: Answered, letters: Mapping[str, str], scale: str, *, stopped_early: bool = False
    ) -> Judged:
        codes = list(letters)
        wins = np.zeros((len(codes), len(codes)))
        for key, answer in answered:
            first, second = (codes.index(code) for code in key)
            if answer == LETTERS[0]:
                wins[first, second] += 1
            else:
                wins[second, first] += 1
        strength = bradley_terry(wins)
        pairs = [(a, b) for a, b in combinations(range(len(codes)), 2) if wins[a, b] + wins[b, a] > 0]
        plain = [_two_sided(int(wins[a, b]), int(wins[a, b] + wins[b, a])) for a, b in pairs]
        corrected = holm(plain)
        words, listed = [], []
        for (a, b), p, by_holm in zip(pairs, plain, corrected, strict=True):
            more, less = (a, b) if wins[a, b] >= wins[b, a] else (b, a)
            counted = f"{int(wins[more, less])} of {int(wins[a, b] + wins[b, a])}"
            better, worse = letters[codes[more]], letters[codes[less]]
            if by_holm < SIGNIFICANT:
                words.append(f"{better} was preferred to {worse} ({counted}, p = {rounded_p(by_holm)})")
            else:
                words.append(
                    f"no significant preference between {better} and {worse} shown ({counted}, p ="
                    f" {rounded_p(by_holm)})"
                )
            listed.append({"rows": [better, worse], "preferred": counted, "p": p, "corrected": by_holm})
        figures = {
            "trials": len(answered),
            "strengths": {letters[code]: float(s) for code, s in zip(codes, strength, strict=True)},
            "pairs": listed,
        }
        return Judged(_with_stop(words, len(answered), stopped_early=stopped_early), figures)


class FreeListeningKind(ListeningKind):
    """All clips under letters, with notes; nothing is judged."""

    key = "free"
    title = "Free listening"
    about = "All clips under random letters, for notes. No questions, no statistics."
    question = "Listen as long as you like; write notes on each letter."
    answered = False
    usual_trials = 1

    def draw(self, codes: Sequence[str], trials: int, chance: random.Random) -> list[str]:
        return ["".join(chance.sample(list(codes), len(codes)))]

    def targets(self, key: str, letters: Mapping[str, str]) -> tuple[Target, ...]:
        return tuple(Target(LETTERS[n], code) for n, code in enumerate(key))

    def judge(
        self, answered: Answered, letters: Mapping[str, str], scale: str, *, stopped_early: bool = False
    ) -> Judged:
        return Judged(("Free listening: no answers to evaluate.",), {"trials": 0})


KINDS: dict[str, ListeningKind] = {
    kind.key: kind for kind in (ForcedChoiceKind(), GradingKind(), PreferenceKind(), FreeListeningKind())
}


@dataclass(frozen=True)
class ListeningDesign:
    """How a test is made. strict: 0.1 dB asked for in the level match; overruled: why unequal levels are fair."""

    kind: str = ForcedChoiceKind.key
    trials: int = 16
    scale: str = QUALITY.key
    strict: bool = False
    overruled: str = field(default="")


def kind_named(key: str) -> ListeningKind:
    """Return a kind of test. Raises SettingError."""
    if key not in KINDS:
        raise SettingError(f"“{key}” is not a type of listening test. Available: {', '.join(KINDS)}.")
    return KINDS[key]


def _two_sided(wins: int, trials: int) -> float:
    """Return p of an exact binomial test for either direction."""
    return float(stats.binomtest(wins, trials, 0.5).pvalue)


def _pair_words(first: str, second: str, p: float, differ: str) -> str:
    if p < SIGNIFICANT:
        return f"{first} and {second} {differ} (p = {rounded_p(p)})"
    return f"{first} and {second}: no significant difference (p = {rounded_p(p)})"


def _with_stop(words: Sequence[str], trials: int, *, stopped_early: bool) -> tuple[str, ...]:
    if not stopped_early:
        return tuple(words)
    return (*words, f"The test was stopped before its end, after {trials} trials.")
