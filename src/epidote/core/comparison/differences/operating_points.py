"""Operating points: what curves say at an x (1 W, 1 kHz), or where they reach a y (1 %, -3 dB)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from enum import StrEnum

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from epidote.core.quantities.units import QuantityError, parse, parse_as
from epidote.core.results.curve_features import LOGARITHMIC, curve_at, cutoff_frequency, last_x_below
from epidote.core.results.kinds import CurveRole, curve_kind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve

_REFERENCE = 1000.0
HALF_POWER, HALF_POWER_DB = "half power", 10 * math.log10(2)  # -3 dB, in words, is 3.00 dB
LONGEST_NAME = 80  # characters


class PointAxis(StrEnum):
    """Which side of a curve a point names."""

    X = "x"
    Y = "y"
    DROP = "drop"  # of a response: so far below its value at 1 kHz


class OperatingPoint(BaseModel):
    """A named operating point of the curves ``curve``; value in ``unit`` (of x, or of y)."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: str = Field(max_length=LONGEST_NAME)
    curve: str
    by: PointAxis
    value: float
    unit: str


def parse_point(text: str, key: str, x_units: Sequence[str], y_unit: str) -> OperatingPoint:
    """Return a typed point on curves ``key`` that stand against ``x_units`` in ``y_unit``.

    Raises QuantityError that says what would do.
    """
    name = text.strip()
    if name.lower() == HALF_POWER and curve_kind(key).role is CurveRole.RESPONSE:
        return OperatingPoint(name=name, curve=key, by=PointAxis.DROP, value=HALF_POWER_DB, unit="dB")
    quantity = parse(text, x_units[0] if x_units else "Hz")
    if len(name) > LONGEST_NAME:
        raise QuantityError(
            f"“{name[:20]}…” is too long ({len(name)} characters, at most {LONGEST_NAME}). Enter a value and a unit, as"
            " in “1 kHz”."
        )
    role = curve_kind(key).role
    ratio = y_unit == "dB" and role not in (CurveRole.RESPONSE, CurveRole.GAIN)
    if quantity.unit in ("%", "ppm") and ratio:
        return OperatingPoint(name=name, curve=key, by=PointAxis.Y, value=parse_as(text, "dB"), unit="dB")
    if quantity.unit == "dB" and role is CurveRole.RESPONSE and quantity.value < 0:
        return OperatingPoint(name=name, curve=key, by=PointAxis.DROP, value=-quantity.value, unit="dB")
    if quantity.unit == y_unit and quantity.unit not in x_units:
        return OperatingPoint(name=name, curve=key, by=PointAxis.Y, value=quantity.value, unit=y_unit)
    if quantity.unit in x_units:
        return OperatingPoint(name=name, curve=key, by=PointAxis.X, value=quantity.value, unit=quantity.unit)
    raise QuantityError(
        f"“{name}” does not fit these curves. Enter an x value ({', '.join(x_units)}) or a y value"
        f" ({y_unit}{', %' if ratio else ''})."
    )


def at_point(curves: Sequence[Curve], point: OperatingPoint) -> list[Reading]:
    """Return what curves of one run say at a point: one reading per channel, two (below and above) where a response has
    fallen so far; readings without a value where a curve does not get there.
    """
    of_key = [c for c in curves if c.key == point.curve]
    if point.by is PointAxis.X:
        fitting = [c for c in of_key if c.x_unit == point.unit]
        return [
            Reading(point.name, c.channel, curve_at(c, point.value), c.y_unit, {"at": f"{point.value:g} {point.unit}"})
            for c in fitting
        ]
    readings = []
    for c in of_key:
        if c.y_unit != point.unit:
            continue
        if point.by is PointAxis.DROP:
            readings += [
                Reading(f"{point.name}, {side}", c.channel, cutoff_frequency(c, point.value, _REFERENCE, up), c.x_unit)
                for side, up in (("low", False), ("high", True))
            ]
            continue
        readings.append(Reading(point.name, c.channel, x_where_reached(c, point.value), c.x_unit))
    return readings


def x_where_reached(curve: Curve, y: float) -> float | None:
    """Return the x at which a curve passes y: of distortion along a staircase where it does so for good, else the first
    place.
    """
    if curve.x_unit in ("W", "V", "FS", "dBFS"):
        if curve.x[0] > 0:
            crossing = last_x_below(curve, y)
        else:
            crossing = None
        if crossing is not None and crossing[1]:
            return crossing[0]
        return None
    passes = np.flatnonzero(np.diff(np.signbit(curve.y - y)))
    if passes.size == 0:
        return None
    i = int(passes[0])
    share = float((y - curve.y[i]) / (curve.y[i + 1] - curve.y[i]))
    if curve.x_unit in LOGARITHMIC and curve.x[i] > 0:
        return float(curve.x[i] * (curve.x[i + 1] / curve.x[i]) ** share)
    return float(curve.x[i] + share * (curve.x[i + 1] - curve.x[i]))
