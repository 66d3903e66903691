"""Curves of rows that differ in one numeric condition, as a map of frequency against that condition.

Where the condition is an angle: beamwidth between the angles at -6 dB, and directivity index by integration over a
sphere, for a source that is alike all round its axis (IEC 60268-21, from memory).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.comparison.conditions.condition_table import number_in
from epidote.core.errors import UnusableInputError
from epidote.core.results.result import Curve
from epidote.core.signals.signal import Samples

_POINTS_PER_OCTAVE = 24
_MOST_POINTS = 400
_BEAM_DB = -6.0
_LEAST_ORBIT = 175.0  # degrees from the axis that an orbit must reach for the directivity index
_WIDEST_STEP = 31.0  # degrees between neighbouring angles


@dataclass(frozen=True, eq=False)
class CurveMap:
    """values (rows,): of the condition, rising; x (points,): frequency in Hz; levels (rows, points) in dB."""

    condition: str
    values: Samples
    x: Samples
    levels: Samples
    unit: str


def map_of_run(curve: Curve) -> CurveMap:
    """Return a curve of rows one after the other (role MAP) as a map of frequency and the share of a period, in %.

    Raises UnusableInputError where it does not say what its rows are.
    """
    phases = round(float(curve.meta.get("phases", 0)))
    x = np.array([float(f) for f in str(curve.meta.get("columns_hz", "")).split()])
    if phases < 2 or x.size < 2 or curve.y.size != phases * x.size:
        raise UnusableInputError("This run has no map. Recompute it to create one.")
    share = 100 * np.arange(phases) / phases
    return CurveMap("Time within the period", share, x, curve.y.reshape(x.size, phases).T, "%")


def make_map(curves: Sequence[tuple[str, Curve]], condition: str, normalised_to: float | None = None) -> CurveMap:
    """Return the map of (value of the condition as text, curve over frequency in dB).

    normalised_to: the value whose curve becomes 0 dB everywhere; None leaves levels as they are. Raises
    UnusableInputError for fewer than two values, values that are no numbers or stand twice, and curves that have no
    frequency in common.
    """
    placed = [(number_in(text), text, curve) for text, curve in curves]
    odd = [text for number, text, _ in placed if number is None]
    if odd:
        raise UnusableInputError(
            f"A map needs numbers; “{odd[0]}” of the condition “{condition}” is none. Enter a number, such as 30°."
        )
    rows = sorted(((float(number or 0.0), curve) for number, _, curve in placed), key=lambda row: row[0])
    values = np.array([value for value, _ in rows])
    if values.size < 2 or np.any(np.diff(values) == 0):
        raise UnusableInputError(
            f"A map needs at least two rows with different values of “{condition}”. Select more rows, or only one of"
            " each value."
        )
    own = [curve for _, curve in rows]
    low, high = max(float(c.x[0]) for c in own), min(float(c.x[-1]) for c in own)
    if not 0 < low < high or len({c.y_unit for c in own}) > 1:
        raise UnusableInputError(
            "The curves have no frequency range or no unit in common. Measure the rows with the same settings."
        )
    count = min(_MOST_POINTS, 2 + round(_POINTS_PER_OCTAVE * math.log2(high / low)))
    x = np.geomspace(low, high, count)
    x[0], x[-1] = low, high
    levels = np.array([np.interp(np.log(x), np.log(c.x), c.y) for c in own])
    unit = own[0].y_unit
    if normalised_to is not None:
        place = int(np.argmin(np.abs(values - normalised_to)))
        if abs(values[place] - normalised_to) > 1e-9 * max(1.0, abs(normalised_to)):
            raise UnusableInputError(f"No row has {condition} {normalised_to:g}. Use one of the values measured.")
        levels = levels - levels[place]
        unit = "dB"
    return CurveMap(condition, values, x, levels, unit)


def beamwidth(angles: CurveMap) -> Curve | None:
    """Return the angle in degrees between the points at -6 dB re the axis, over frequency; None without an axis.

    Where a side never falls so far, it counts as far as it was measured; measured on one side alone, it is doubled.
    """
    place = int(np.argmin(np.abs(angles.values)))
    if abs(angles.values[place]) > 1e-9:
        return None
    relative = angles.levels - angles.levels[place]
    sides = []
    for step in (1, -1):
        rows = np.arange(place, angles.values.size if step > 0 else -1, step)
        if rows.size > 1:
            sides.append(
                np.array([_reach(np.abs(angles.values[rows]), relative[rows, k]) for k in range(angles.x.size)])
            )
    if not sides:
        return None
    width = sides[0] + sides[1] if len(sides) > 1 else 2 * sides[0]
    return Curve("beamwidth", 0, angles.x, width, "Hz", "°")


def _reach(angle: Samples, relative: Samples) -> float:
    """Return the angle from the axis at which the level has fallen by 6 dB."""
    below = np.flatnonzero(relative <= _BEAM_DB)
    if not below.size:
        return float(angle[-1])
    k = int(below[0])
    share = (relative[k - 1] - _BEAM_DB) / (relative[k - 1] - relative[k])
    return float(angle[k - 1] + share * (angle[k] - angle[k - 1]))


def directivity_index(angles: CurveMap) -> Curve | None:
    """Return 10 lg of the intensity on the axis over its mean on a sphere, in dB over frequency; None where the angles
    do not reach round, or lie too far apart.
    """
    size = np.abs(angles.values)
    order = np.argsort(size)
    from_axis = size[order]
    steps = np.diff(np.unique(from_axis))
    if from_axis[0] > 1e-9 or from_axis[-1] < _LEAST_ORBIT or steps.max(initial=0.0) > _WIDEST_STEP:
        return None
    power = 10 ** (angles.levels[order] / 10)
    # the same angle on both sides counts as their mean
    unique = np.unique(from_axis)
    means = np.array([power[from_axis == a].mean(axis=0) for a in unique])
    # each angle stands for the zone of the sphere half way to its neighbours: exact for equal intensity
    edges = np.radians(np.concatenate([[0.0], (unique[1:] + unique[:-1]) / 2, [180.0]]))
    shares = (np.cos(edges[:-1]) - np.cos(edges[1:])) / 2
    mean = (shares[:, None] * means).sum(axis=0)
    return Curve("directivity_index", 0, angles.x, 10 * np.log10(means[0] / mean), "Hz", "dB")
