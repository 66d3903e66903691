"""The runs that a graph shows, and their rows' short names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from epidote.core.results.result import Curve
from epidote.study.models import RunSummary, Subject


@dataclass(frozen=True, eq=False)
class Chosen:
    """One chosen run with its curves of the view."""

    subject: Subject
    run: RunSummary
    curves: tuple[Curve, ...]
    is_reference: bool


def short_names(subjects: Sequence[Subject]) -> dict[int, str]:
    """By row: the unit's name, or what tells it from the same unit under other conditions."""
    same_name: dict[str, list[Subject]] = {}
    for subject in subjects:
        same_name.setdefault(subject.name, []).append(subject)
    return {
        s.id: name if len(twins) == 1 else _told_apart(s, twins) for name, twins in same_name.items() for s in twins
    }


def _told_apart(subject: Subject, twins: Sequence[Subject]) -> str:
    telling = [f"{k} {v}" for k, v in subject.conditions.items() if any(o.conditions.get(k) != v for o in twins)]
    return f"{subject.unit.model if subject.unit else subject.name} {', '.join(telling)}"


LEVEL_UNITS = {"dB", "dBFS", "dBV"}
