"""Limits of a step from good units, or from one run with a margin.

From good units: mean ± k·s, where k is the tolerance factor for 95 % of units with 95 % confidence
(NIST/SEMATECH e-Handbook, 7.2.6.3).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from epidote.core.comparison.limits import Corners, around_curve, from_reference_units
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.quantities.units import QuantityError, from_db, parse_as
from epidote.core.results.kinds import ChainShare, CurveRole, curve_kind, reading_kind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.routine.step_limit import StepLimit
from epidote.core.statistics.tolerance import one_sided_factor, two_sided_factor

USUAL_MARGIN = 1.0  # dB
_LEAST_SHARE = 1e-3  # of the mean, that limits from units leave where these do not scatter
_LEAST_DB = 0.05
_BOTH, _UPPER, _LOWER = (True, True), (True, False), (False, True)
_LEVELS = ("V", "W", "A", "Pa", "FS", "Ω")


def sides_of(key: str) -> tuple[bool, bool]:
    """Whether a reading has an upper and a lower limit: noise and distortion only an upper one, a quality a lower."""
    share = reading_kind(key).chain
    if share is ChainShare.ADDS:
        return _UPPER
    if share is ChainShare.LIMITS:
        return _LOWER
    return _BOTH


def parse_bands(text: str) -> Corners:
    """Return margins by band from "20 Hz 2; 100 Hz 1; 10 kHz 3": points of the x axis, each with a distance of 0 or
    more, straight between them; () for an empty text. Raises SettingError.
    """
    made = []
    for part in text.split(";"):
        words = part.split()
        if not words:
            continue
        try:
            place = parse_as(" ".join(words[:-1]), "Hz")
            distance = float(words[-1].replace(",", "."))
        except (QuantityError, ValueError) as error:
            raise SettingError(
                f"“{part.strip()}” is not a frequency with a margin. Enter, for example, 20 Hz 2; 100 Hz 1."
            ) from error
        if not 0 <= distance < np.inf:
            raise SettingError(f"“{part.strip()}” has no margin of 0 or more. Enter 20 Hz 2; 100 Hz 1.")
        made.append((place, distance))
    if len(made) == 1 or any(after <= before for (before, _), (after, _) in pairwise(made)):
        raise SettingError("Margins by band need two frequencies or more, in ascending order. Correct them.")
    return tuple(made)


def limits_from_run(
    readings: Sequence[Reading],
    curves: Sequence[Curve],
    margin: float = USUAL_MARGIN,
    source: str = "",
    *,
    bands: Corners = (),
) -> tuple[StepLimit, ...]:
    """Return limits so many dB about a run's readings and its response curves, each of its own channel; a value in V
    has them as a ratio, any other value as that share of 10 %. bands: of curves, instead of the one margin.
    """
    words = f"{source} ±{margin:g} dB"
    made = []
    for reading in readings:
        if reading.value is not None:
            made.append(_of_reading(reading, reading.value, _about(reading.value, reading.unit, margin), words))
    margins = bands or ((1.0, margin),)
    curve_words = f"{source} ± margin by band" if bands else words
    made += [limit_around_curve(curve, margins, source=curve_words) for curve in curves]
    return tuple(made)


def _about(value: float, unit: str, margin: float) -> tuple[float, float]:
    """Return the value so many dB lower and higher."""
    if unit.startswith("dB"):
        return value - margin, value + margin
    if unit in _LEVELS:
        ends = (value * from_db(margin), value * from_db(-margin))
    else:
        ends = (value * (1 + 0.1 * margin), value * (1 - 0.1 * margin))
    return min(ends), max(ends)


def limit_around_curve(curve: Curve, margins: Corners, *, source: str = "") -> StepLimit:
    """Return limits about a curve of a reference; margins: (x, distance) by band, straight between the points.

    Raises UnusableInputError for margins that cover no part of the curve.
    """
    places = np.array([x for x, _ in margins])
    distances = np.interp(curve.x, places, [d for _, d in margins])
    inside = np.ones(curve.x.size, dtype=bool)
    if places.size > 1:
        inside = (curve.x >= places[0]) & (curve.x <= places[-1])
    if int(inside.sum()) < 2:
        raise UnusableInputError(
            "The margins and the curve have no part of their x axis in common. No limit was made; use other points."
        )
    x, y, reach = curve.x[inside], curve.y[inside], distances[inside]
    above = around_curve(curve.key, "", Curve(curve.key, 1, x, y + reach, curve.x_unit, curve.y_unit), 0.0, None)
    below = around_curve(curve.key, "", Curve(curve.key, 1, x, y - reach, curve.x_unit, curve.y_unit), None, 0.0)
    return StepLimit(
        key=curve.key,
        unit=curve.y_unit,
        x_unit=curve.x_unit,
        upper=above.upper,
        lower=below.lower,
        channel=curve.channel,
        source=source,
    )


def _of_reading(like: Reading, nominal: float, ends: tuple[float, float], source: str) -> StepLimit:
    """Return a limit of readings such as this one, of its key, unit and channel."""
    upper, lower = sides_of(like.key)
    low, high = ends
    return StepLimit(
        key=like.key,
        unit=like.unit,
        channel=like.channel,
        upper=((1.0, high),) if upper else (),
        lower=((1.0, low),) if lower else (),
        nominal=nominal,
        source=source,
    )


def limit_of_reading_from_units(readings: Sequence[Reading], least: float | None = None) -> StepLimit:
    """Return the tolerance limits of one reading over good units; least: distance from the mean at least.

    Raises UnusableInputError for fewer than three, or for readings in several units.
    """
    known = [r for r in readings if r.value is not None]
    units = {r.unit for r in known}
    if len(units) > 1:
        raise UnusableInputError(
            f"The readings have several units ({', '.join(sorted(units))}). No limit was made; select runs of one"
            " calibration."
        )
    values = np.array([r.value for r in known], dtype=np.float64)
    key = readings[0].key
    if all(sides_of(key)):
        factor = two_sided_factor(values.size)
    else:
        factor = one_sided_factor(values.size)
    mean = float(values.mean())
    if least is None:
        least = _LEAST_DB if known[0].unit.startswith("dB") else _LEAST_SHARE * abs(mean)
    reach = max(factor * float(values.std(ddof=1)), least)
    words = f"mean of {values.size} units, k = {factor:.3f} (95 % of units with 95 % confidence)"
    return _of_reading(known[0], mean, (mean - reach, mean + reach), words)


def limit_of_curve_from_units(curves: Sequence[Curve]) -> StepLimit:
    """Return the tolerance limits of a curve over good units. Raises UnusableInputError for fewer than three."""
    made = from_reference_units(curves[0].key, "", curves)
    return StepLimit(
        key=made.key,
        unit=made.unit,
        x_unit=made.x_unit,
        upper=made.upper,
        lower=made.lower,
        source=made.source,
    )


def limits_from_units(results: Sequence[Result], key: str, curves: Sequence[str]) -> tuple[StepLimit, ...]:
    """Return the limits of a reading and of response curves, channel by channel, from results of good units.

    Channels of one unit are not independent, so that each has limits of its own. Raises UnusableInputError for fewer
    than three units.
    """
    made = []
    for channel in sorted({r.channel for result in results for r in result.readings if r.key == key}):
        readings = [r for result in results if (r := result.reading(key, channel)) is not None and r.value is not None]
        if readings:
            made.append(limit_of_reading_from_units(readings))
    for name in curves:
        for channel in sorted({c.channel for result in results for c in result.curves if c.key == name}):
            of_one = [c for result in results if (c := result.curve(name, channel)) is not None]
            made.append(limit_of_curve_from_units(of_one).model_copy(update={"channel": channel}))
    return tuple(made)


def response_curves(result: Result) -> tuple[Curve, ...]:
    """Return the curves of a result that limits are made for: its frequency responses."""
    return tuple(c for c in result.curves if curve_kind(c.key).role is CurveRole.RESPONSE and c.x.size > 1)
