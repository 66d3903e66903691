"""The four verdicts on a step and on a unit."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class RoutineVerdict(StrEnum):
    """What one pass over a unit ends with."""

    PASSED = "passed"
    FAILED = "failed"
    NOT_DECIDED = "not decided"
    NOT_MEASURED = "not measured"


# what decides where steps differ; a pass that is not whole says nothing about the unit
_ORDER = (RoutineVerdict.NOT_MEASURED, RoutineVerdict.FAILED, RoutineVerdict.NOT_DECIDED, RoutineVerdict.PASSED)
EXIT_CODES = {
    RoutineVerdict.PASSED: 0,
    RoutineVerdict.FAILED: 5,
    RoutineVerdict.NOT_DECIDED: 6,
    RoutineVerdict.NOT_MEASURED: 4,
}


def together(verdicts: Iterable[RoutineVerdict]) -> RoutineVerdict:
    """Return the verdict of all steps; of no step at all: not measured."""
    there = set(verdicts)
    return next((verdict for verdict in _ORDER if verdict in there), RoutineVerdict.NOT_MEASURED)
