"""What the Routine page says about a pass, in a sentence or two."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from epidote.measurement.routine.outcome import StepOutcome, step_title

if TYPE_CHECKING:
    from epidote.core.routine.model import Routine
    from epidote.measurement.routine.runner import PassReport

_MOST_FAILURES = 3


def nearest_outcome(outcomes: Iterable[StepOutcome]) -> StepOutcome | None:
    """Return the outcome with the least room."""
    measured = [o for o in outcomes if o.margin is not None]
    return min(measured, key=lambda o: o.share if o.share is not None else 1.0, default=None)


def report_words(report: PassReport) -> str:
    """Return what a pass ended with."""
    bad = [o for o in report.outcomes if not o.good]
    parts = []
    for outcome in bad[:_MOST_FAILURES]:
        margin = f" {outcome.margin_words}," if outcome.margin is not None else ""
        parts.append(f"{outcome.title}:{margin} {outcome.where or outcome.words}".strip())
    if not bad:
        near = nearest_outcome(report.outcomes)
        if near is not None:
            parts.append(f"Smallest margin {near.margin_words}, {near.where}")
    if report.kept.words:
        parts.append(report.kept.words)
    return " · ".join(parts)


def progress_words(routine: Routine, running: int, outcomes: Iterable[StepOutcome], left: float | None) -> str:
    """Return how far a pass is. running: the step that sounds, from 1, or 0; left: seconds of the whole pass."""
    parts = []
    if running:
        parts.append(f"Step {running} of {len(routine.step)}: {step_title(routine.step[running - 1])}")
        if left is not None:
            parts.append(f"{max(1, round(left))} s remaining")
    near = nearest_outcome(outcomes)
    if near is not None:
        parts.append(f"smallest margin so far {near.margin_words}, {near.where}")
    return " · ".join(parts) or "Checking connections"
