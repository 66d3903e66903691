"""Differences of curves and of readings against a reference."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from epidote.core.chain.chain import interface_of
from epidote.core.quantities.units import to_db
from epidote.core.results.curve_features import LOGARITHMIC
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve

DIFFERENCE_UNITS = {"dB": "dB", "dBFS": "dB", "dBV": "dB", "dBu": "dB", "dB SPL": "dB"}
_TRANSFORM_SIZED, _FEW = 4000, 200


@dataclass(frozen=True)
class ReadingDifference:
    """value in ``unit``; ratio_db: the same as a ratio of amplitudes where both are levels in linear units."""

    value: float
    unit: str
    ratio_db: float | None = None
    spread: float | None = None


def difference_curve(curve: Curve, reference: Curve) -> Curve | None:
    """``curve`` less ``reference`` where both have points, on the curve's grid; None when they have nothing in common.

    Levels in dB differ by dB, phases by degrees within ±180. The reference is taken between its points by a cubic
    spline over log frequency (one that never overshoots where the points are few, as along a staircase with a knee);
    spectra, whose lines a spline would invent values between, are compared only where their grids agree.
    """
    if curve.x_unit != reference.x_unit or curve.y_unit != reference.y_unit or curve.x.size < 2 or reference.x.size < 2:
        return None
    low, high = max(curve.x[0], reference.x[0]), min(curve.x[-1], reference.x[-1])
    inside = (curve.x >= low - 1e-9 * abs(low)) & (curve.x <= high + 1e-9 * abs(high))
    if np.count_nonzero(inside) < 2:
        return None
    x = curve.x[inside]
    same = curve.x.size == reference.x.size and bool(np.allclose(curve.x, reference.x, rtol=1e-9, atol=0))
    if same:
        y = curve.y[inside] - reference.y[inside]
    elif max(curve.x.size, reference.x.size) > _TRANSFORM_SIZED:
        return None
    else:
        log = curve.x_unit in LOGARITHMIC and reference.x[0] > 0
        target = np.clip(x, reference.x[0], reference.x[-1])
        source = reference.x
        if log:
            source, target = np.log(source), np.log(target)
        from scipy.interpolate import CubicSpline, PchipInterpolator  # half a second, which equal grids do not need

        between = CubicSpline if reference.x.size > _FEW else PchipInterpolator
        y = curve.y[inside] - between(source, reference.y)(target)
    if curve.y_unit == "°":
        y = (y + 180) % 360 - 180
    return Curve(curve.key, curve.channel, x, y, curve.x_unit, DIFFERENCE_UNITS.get(curve.y_unit, curve.y_unit))


def reading_difference(reading: Reading, reference: Reading) -> ReadingDifference | None:
    """Return ``reading`` less ``reference``; None when one is missing or their units differ."""
    if reading.value is None or reference.value is None or reading.unit != reference.unit:
        return None
    spread = None
    if reading.spread is not None and reference.spread is not None:
        spread = math.hypot(reading.spread, reference.spread)
    unit = DIFFERENCE_UNITS.get(reading.unit, reading.unit)
    ratio = None
    if reading.unit in ("V", "Pa", "FS", "Hz", "s") and reading.value > 0 and reference.value > 0:
        ratio = to_db(reading.value / reference.value)
    return ReadingDifference(reading.value - reference.value, unit, ratio, spread)


@dataclass(frozen=True)
class Deviation:
    """The greatest deviation of a difference curve within a band."""

    value: float
    at: float


def greatest_deviation(difference: Curve, low: float, high: float) -> Deviation | None:
    """Where a difference curve is farthest from 0 between two x; None when it has no points there."""
    inside = np.flatnonzero((difference.x >= low) & (difference.x <= high))
    if inside.size == 0:
        return None
    worst = inside[int(np.argmax(np.abs(difference.y[inside])))]
    return Deviation(float(difference.y[worst]), float(difference.x[worst]))


def differing_settings(runs: Iterable[tuple[dict[str, object], dict[str, object]]]) -> list[str]:
    """Names of settings and chain values (given per run as two dicts) in which any two runs differ."""
    rows = list(runs)
    names: dict[str, None] = {}
    for settings, chain in rows:
        names.update(
            dict.fromkeys([*settings, *(k for k in chain if k not in ("name", "calibrated_on", "calibrations"))])
        )
    return [n for n in names if len({_told(n, s.get(n, c.get(n))) for s, c in rows}) > 1]


def _told(name: str, value: object) -> str:
    """Return a value in words.

    A simulated device differs by the unit wired to it only, and that is the row's matter.
    """
    if name == "device":
        return interface_of(str(value))
    return str(value)
