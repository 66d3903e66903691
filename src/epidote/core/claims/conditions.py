"""Conditions of a measurement as data: what differs from a claim's, and what the claim left open."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Condition(StrEnum):
    """What a condition is about."""

    FREQUENCY = "frequency"
    RANGE = "frequency range"
    TONES = "tones"
    LEVEL = "level"
    REFERENCE_LEVEL = "reference level"
    OUTPUT_LEVEL = "output level"
    LOAD = "load"
    BANDWIDTH = "bandwidth"
    WEIGHTING = "weighting"
    DISTORTION_LIMIT = "distortion limit"
    CHANNELS = "channels"
    BUFFER = "buffer"
    RATE = "rate"


@dataclass(frozen=True)
class ConditionValue:
    """The value of a condition: numbers in a unit (two for a range, for a pair of tones, or for so many of so many),
    or a text as it was typed; neither where it is not specified.
    """

    numbers: tuple[float, ...] = ()
    unit: str = ""
    text: str = ""

    def to_json(self) -> dict[str, object]:
        if self.numbers:
            return {"numbers": list(self.numbers), "unit": self.unit}
        return {"text": self.text}


def hertz(*values: float) -> ConditionValue:
    """Frequencies as the value of a condition."""
    return ConditionValue(tuple(map(float, values)), "Hz")


@dataclass(frozen=True)
class ConditionMismatch:
    """A condition under which a run was measured, and the claim's other one; measured None: the chain cannot tell."""

    condition: Condition
    measured: ConditionValue | None
    claimed: ConditionValue

    def to_json(self) -> dict[str, object]:
        measured = None
        if self.measured is not None:
            measured = self.measured.to_json()
        return {"condition": str(self.condition), "measured": measured, "claimed": self.claimed.to_json()}


@dataclass(frozen=True)
class Assumption:
    """A condition that a claim does not name, and the value that was assumed."""

    condition: Condition
    value: ConditionValue

    def to_json(self) -> dict[str, object]:
        return {"condition": str(self.condition), **self.value.to_json()}
