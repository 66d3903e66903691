"""Upper and lower limits of curves and readings: made by hand, from a reference, or from a set of good units.

Passed or not, where and by how much.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from epidote.core.comparison.repeatability import spread_curve
from epidote.core.errors import UnusableInputError
from epidote.core.results.curve_features import LOGARITHMIC, curve_at
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.signals.signal import Samples
from epidote.core.statistics.tolerance import two_sided_factor

Corners = tuple[tuple[float, float], ...]
_MOST_CORNERS, _FEW_CORNERS = 400, 32


class Limit(BaseModel):
    """Of a curve: corners (x, y) of an upper and a lower line, straight between them (over log x where ratios count).

    Of a reading: one corner each, whose x says nothing. x_unit "" marks a reading's.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: str = Field(min_length=1, max_length=80)
    procedure: str
    key: str
    unit: str
    x_unit: str = ""
    upper: Corners = ()
    lower: Corners = ()
    source: str = Field("", max_length=400)

    @model_validator(mode="after")
    def _has_a_line(self) -> Limit:
        if not self.upper and not self.lower:
            raise ValueError("a limit needs upper or lower points")
        for line in (self.upper, self.lower):
            if [x for x, _ in line] != sorted(x for x, _ in line):
                raise ValueError("the points must be in ascending order of x")
        return self

    @property
    def of_a_reading(self) -> bool:
        return self.x_unit == ""


@dataclass(frozen=True)
class LimitCheck:
    """What a curve or reading did at its limits.

    margin: the least distance on the good side, negative beyond; at: where that is.
    """

    limit: Limit
    channel: int
    passed: bool
    margin: float
    at: float | None
    side: str


def line_at(corners: Corners, x: Samples, x_unit: str) -> Samples:
    """Return a limit line at x (points,); NaN where it has none."""
    places, values = np.array([c[0] for c in corners]), np.array([c[1] for c in corners])
    if places.size == 1:
        return np.full(x.size, values[0])
    log = x_unit in LOGARITHMIC and places[0] > 0
    if log:
        at, along = (np.log(np.maximum(x, 1e-300)), np.log(places))
    else:
        at, along = (x, places)
    return np.asarray(np.interp(at, along, values, left=np.nan, right=np.nan))


def check_curve(limit: Limit, curve: Curve) -> LimitCheck | None:
    """Return a curve against a limit of its kind; None where the two have nothing in common.

    The limit's own corners are looked at, too.
    """
    if limit.of_a_reading or (limit.key, limit.x_unit, limit.unit) != (curve.key, curve.x_unit, curve.y_unit):
        return None
    worst: LimitCheck | None = None
    for side, corners, sign in (("upper", limit.upper, 1.0), ("lower", limit.lower, -1.0)):
        if not corners:
            continue
        between = np.array([x for x, _ in corners if curve.x[0] < x < curve.x[-1] and x not in curve.x])
        x = np.union1d(curve.x, between)
        y = np.interp(x, curve.x, curve.y)
        if 0 < between.size <= _FEW_CORNERS:  # a line of many corners has next to none of its own
            at_corner = np.isin(x, between)
            y[at_corner] = [v if (v := curve_at(curve, float(p))) is not None else np.nan for p in x[at_corner]]
        room = sign * (line_at(corners, x, limit.x_unit) - y)
        known = np.flatnonzero(np.isfinite(room))
        if known.size == 0:
            continue
        i = int(known[int(np.argmin(room[known]))])
        check = LimitCheck(limit, curve.channel, bool(room[i] >= 0), float(room[i]), float(x[i]), side)
        if worst is None or check.margin < worst.margin:
            worst = check
    return worst


def check_reading(limit: Limit, reading: Reading) -> LimitCheck | None:
    """Return a reading against a limit of its kind; None where it has no value."""
    if not limit.of_a_reading or (limit.key, limit.unit) != (reading.key, reading.unit) or reading.value is None:
        return None
    rooms = [
        (sign * (corners[0][1] - reading.value), side)
        for side, corners, sign in (("upper", limit.upper, 1), ("lower", limit.lower, -1))
        if corners
    ]
    margin, side = min(rooms)
    return LimitCheck(limit, reading.channel, margin >= 0, margin, None, side)


def _corners(x: Samples, y: Samples) -> Corners:
    """Return a curve as corners, thinned to what a limit needs."""
    step = max(1, -(-x.size // _MOST_CORNERS))
    index = np.unique(np.append(np.arange(0, x.size, step), x.size - 1))
    return tuple((float(a), float(b)) for a, b in zip(x[index], y[index], strict=True))


def around_curve(
    name: str, procedure: str, curve: Curve, above: float | None, below: float | None, *, source: str = ""
) -> Limit:
    """Limits so much above and below a curve; None: open on that side. Raises UnusableInputError when both are."""
    if above is None and below is None:
        raise UnusableInputError("Enter a tolerance above or below the reference.")
    return Limit(
        name=name,
        procedure=procedure,
        key=curve.key,
        unit=curve.y_unit,
        x_unit=curve.x_unit,
        source=source,
        upper=() if above is None else _corners(curve.x, curve.y + above),
        lower=() if below is None else _corners(curve.x, curve.y - below),
    )


def from_reference_units(
    name: str, procedure: str, curves: Sequence[Curve], times: float | None = None, least: float = 0.1
) -> Limit:
    """Limits ``times`` the standard deviation of a set of good units about their mean, ``least`` at least.

    times None: the tolerance factor for 95 % of units with 95 % confidence (NIST/SEMATECH e-Handbook, 7.2.6.3). Raises
    UnusableInputError for fewer than three.
    """
    if len(curves) < 3:
        raise UnusableInputError(
            f"At least three rows are needed for limits from their scatter; {len(curves)} given. Select more measured"
            " rows."
        )
    spread = spread_curve(curves)
    if spread is None or spread.x.size < 2:
        raise UnusableInputError("The curves do not overlap along the x axis. Select curves over the same range.")
    if times is None:
        times = two_sided_factor(len(curves))
    values = np.array([[curve_at(c, float(x)) for x in spread.x] for c in curves], dtype=float)
    mean, reach = values.mean(axis=0), np.maximum(times * spread.y, least)
    return Limit(
        name=name,
        procedure=procedure,
        key=curves[0].key,
        unit=curves[0].y_unit,
        x_unit=curves[0].x_unit,
        source=f"mean of {len(curves)} rows ±{times:.3g} standard deviations, at least ±{least:g}",
        upper=_corners(spread.x, mean + reach),
        lower=_corners(spread.x, mean - reach),
    )
