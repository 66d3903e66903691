"""A limit of a routine's step, and what a result does at it.

Guard bands by ISO 14253-1: conformity is shown only where the margin exceeds the expanded uncertainty (k = 2), and
that a limit is not met only where it is exceeded by more than that.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from epidote.core.comparison.limits import Corners, Limit, LimitCheck, check_curve, check_reading, line_at
from epidote.core.results.caution import Weight
from epidote.core.results.curve_features import curve_at
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.routine.verdict import RoutineVerdict

COVERAGE_FACTOR = 2.0


class StepLimit(BaseModel):
    """Of a reading or a curve of the step's procedure.

    upper, lower: corners (x, y), one number for a reading or for a line that is the same everywhere. golden: the row
    from whose latest run the lines are distances; "" for none. floating: only the shape counts, the curve may lie at
    any height. uncertainty: expanded (k = 2), in the limit's unit. nominal: of a reading, where good units lie.
    channel: 0 for all.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    key: str = Field(min_length=1, max_length=80)
    unit: str = ""
    x_unit: str = ""
    upper: Corners = ()
    lower: Corners = ()
    channel: int = Field(0, ge=0)
    golden: str = Field("", max_length=400)
    floating: bool = False
    uncertainty: float = Field(0.0, ge=0)
    nominal: float | None = None
    source: str = Field("", max_length=400)

    @field_validator("upper", "lower", mode="before")
    @classmethod
    def _one_number(cls, value: object) -> object:
        """Take a number as a line that is the same everywhere."""
        if isinstance(value, (int, float)) and not isinstance(value, bool):
            return ((1.0, value),)
        return value

    @model_validator(mode="after")
    def _fits_together(self) -> StepLimit:
        self.as_limit("", self.key)  # which checks the lines themselves
        if self.floating and not (self.upper and self.lower):
            raise ValueError("a floating limit needs upper and lower points")
        if self.floating and not self.x_unit:
            raise ValueError("only the limit of a curve can float")
        if not self.x_unit and max(len(self.upper), len(self.lower)) > 1:
            raise ValueError("a limit with several points needs x_unit, such as Hz")
        return self

    def as_limit(self, procedure: str, name: str) -> Limit:
        """Return the same lines as the matrix knows limits."""
        return Limit(
            name=name,
            procedure=procedure,
            key=self.key,
            unit=self.unit,
            x_unit=self.x_unit,
            upper=self.upper,
            lower=self.lower,
            source=self.source,
        )


@dataclass(frozen=True)
class JudgedLimit:
    """What a result does at one limit.

    margin: the least distance on the good side, negative beyond; unit: of the margin; at: where on the curve; share:
    the margin as a share of the room that the nominal value, or the middle, has. why: what is missing where nothing
    could be judged.
    """

    limit: StepLimit
    verdict: RoutineVerdict
    channel: int
    margin: float | None = None
    unit: str = ""
    at: float | None = None
    side: str = ""
    share: float | None = None
    value: float | None = None
    uncertainty: float = 0.0
    why: str = ""


def judge_limit(limit: StepLimit, result: Result, golden: Result | None, *, guard: bool) -> list[JudgedLimit]:
    """Return what a result does at a limit, for each channel that it concerns; never nothing."""
    if limit.golden and golden is None:
        return [_unjudged(limit, f"“{limit.golden}” was not measured with these settings. Measure it first.")]
    if limit.x_unit:
        judged = [one for curve in _curves(limit, result) for one in _judged_curve(limit, curve, golden, guard=guard)]
    else:
        judged = [_judged_reading(limit, r, golden, guard=guard) for r in _readings(limit, result)]
    return judged or [_unjudged(limit, _missing(limit, result))]


def _curves(limit: StepLimit, result: Result) -> list[Curve]:
    """Return the curves that a limit concerns."""
    return [
        c
        for c in result.curves
        if c.key == limit.key and c.x_unit == limit.x_unit and limit.channel in (0, c.channel) and c.x.size
    ]


def _readings(limit: StepLimit, result: Result) -> list[Reading]:
    """Return the readings that a limit concerns."""
    return [r for r in result.readings if r.key == limit.key and limit.channel in (0, r.channel)]


def _missing(limit: StepLimit, result: Result) -> str:
    """Return why a limit could not be judged."""
    axes = sorted({c.x_unit for c in result.curves if c.key == limit.key})
    if limit.x_unit and axes:
        return f"The curve has no axis in {limit.x_unit} but in {', '.join(axes)}. Correct the limit's x_unit."
    return "The result has no such value. Correct the limit, or measure again."


def _unjudged(limit: StepLimit, why: str, channel: int = 0) -> JudgedLimit:
    return JudgedLimit(limit, RoutineVerdict.NOT_MEASURED, channel or limit.channel, why=why)


def _judged_curve(limit: StepLimit, curve: Curve, golden: Result | None, *, guard: bool) -> list[JudgedLimit]:
    if limit.golden and golden is not None:
        theirs = golden.curve(curve.key, curve.channel, curve.x_unit)
        relative = _less(curve, theirs)
        if relative is None:
            return [_unjudged(limit, f"The curve of “{limit.golden}” covers another range.", curve.channel)]
        curve = relative
    lines = limit.as_limit("", limit.key)
    if lines.unit != curve.y_unit and not limit.golden:
        words = f"The curve is in {curve.y_unit}, the limit in {lines.unit or 'no unit'}. Correct the limit's unit."
        return [_unjudged(limit, words, curve.channel)]
    lines = lines.model_copy(update={"unit": curve.y_unit})
    if limit.floating:
        curve = _centred(lines, curve)
    check = check_curve(lines, curve)
    if check is None:
        words = "The curve and the limit have no part of their x axis in common. Correct the limit's points."
        return [_unjudged(limit, words, curve.channel)]
    half = None
    if limit.upper and limit.lower and check.at is not None:
        at = np.array([check.at])
        high, low = (float(line_at(line, at, limit.x_unit)[0]) for line in (limit.upper, limit.lower))
        half = (high - low) / 2
    value = curve_at(curve, check.at) if check.at is not None else None
    uncertainty = limit.uncertainty if guard else 0.0
    unit = _margin_unit(curve.y_unit)
    return [_outcome(limit, check, unit, room=half, uncertainty=uncertainty, value=value)]


def _judged_reading(limit: StepLimit, reading: Reading, golden: Result | None, *, guard: bool) -> JudgedLimit:
    invalid = [c for c in reading.cautions if c.weight is Weight.INVALID]
    if reading.value is None or invalid:
        words = " ".join(c.words for c in (invalid or reading.cautions)) or "The reading has no value. Measure again."
        return _unjudged(limit, words, reading.channel)
    lines = limit.as_limit("", limit.key)
    if limit.golden and golden is not None:
        theirs = golden.reading(reading.key, reading.channel)
        if theirs is None or theirs.value is None:
            return _unjudged(limit, f"“{limit.golden}” has no such value. Measure it again.", reading.channel)
        reading = replace(reading, value=reading.value - theirs.value)
    elif lines.unit != reading.unit:
        words = f"The reading is in {reading.unit or 'no unit'}, the limit in {lines.unit or 'no unit'}."
        return _unjudged(limit, f"{words} Correct the limit's unit.", reading.channel)
    lines = lines.model_copy(update={"unit": reading.unit})
    check = check_reading(lines, reading)
    assert check is not None
    uncertainty = 0.0
    if guard:
        uncertainty = math.hypot(limit.uncertainty, COVERAGE_FACTOR * (reading.spread or 0.0))
    unit, room = _margin_unit(reading.unit), _room_of_reading(limit)
    return _outcome(limit, check, unit, room=room, uncertainty=uncertainty, value=reading.value)


def _room_of_reading(limit: StepLimit) -> float | None:
    """Return how far good units lie from the limit: half of what two limits leave, or from the nominal value."""
    if limit.upper and limit.lower:
        return (limit.upper[0][1] - limit.lower[0][1]) / 2
    line = limit.upper or limit.lower
    if limit.nominal is None:
        return None
    return abs(line[0][1] - limit.nominal)


def _outcome(
    limit: StepLimit,
    check: LimitCheck,
    unit: str,
    *,
    room: float | None,
    uncertainty: float,
    value: float | None,
) -> JudgedLimit:
    verdict = RoutineVerdict.NOT_DECIDED
    if check.margin >= uncertainty:
        verdict = RoutineVerdict.PASSED
    elif check.margin < -uncertainty:
        verdict = RoutineVerdict.FAILED
    share = None
    if room is not None and room > 0:
        share = check.margin / room
    return JudgedLimit(
        limit, verdict, check.channel, check.margin, unit, check.at, check.side, share, value, uncertainty
    )


def _margin_unit(unit: str) -> str:
    """Return the unit of a distance between two values: of two levels it is dB."""
    if unit.startswith("dB"):
        return "dB"
    return unit


def _less(curve: Curve, theirs: Curve | None) -> Curve | None:
    """Return a curve less another one, where both have values; None where they have nothing in common."""
    if theirs is None:
        return None
    inside = (curve.x >= theirs.x[0]) & (curve.x <= theirs.x[-1])
    if int(inside.sum()) < 2:
        return None
    x = curve.x[inside]
    y = curve.y[inside] - np.interp(x, theirs.x, theirs.y)
    return Curve(curve.key, curve.channel, x, y, curve.x_unit, curve.y_unit)


def _centred(lines: Limit, curve: Curve) -> Curve:
    """Return the curve moved to the height at which it has as much room above as below."""
    above = check_curve(lines.model_copy(update={"lower": ()}), curve)
    below = check_curve(lines.model_copy(update={"upper": ()}), curve)
    if above is None or below is None:
        return curve
    return replace(curve, y=curve.y + (above.margin - below.margin) / 2)


def nearest(judged: Sequence[JudgedLimit]) -> JudgedLimit | None:
    """Return the limit that decides: by its verdict, then by the least share of its room, then by its margin."""
    order = list(reversed((RoutineVerdict.PASSED, RoutineVerdict.NOT_DECIDED, RoutineVerdict.FAILED)))

    def rank(one: JudgedLimit) -> tuple[int, float, float]:
        if one.margin is None:
            return (-1, 0.0, 0.0)
        share = one.share if one.share is not None else math.inf
        return (order.index(one.verdict), share, one.margin)

    return min(judged, key=rank, default=None)
