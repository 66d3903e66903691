"""Where a curve is surely above or below another: ranges of x, what lies inside the uncertainty left out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.results.curve_features import LOGARITHMIC
from epidote.core.results.result import Curve
from epidote.core.signals.signal import Samples

_LEAST = {"°": 0.1}  # in the difference's unit: less is not worth a word
_LEAST_DB = 0.01
_POINTS = 3  # fewer in a row are chance
_LIKELY = 2.0  # times the uncertainty


@dataclass(frozen=True)
class Range:
    """Between two x: 1 the curve lies higher than the reference, -1 lower."""

    low: float
    high: float
    sign: int


def ranges(difference: Curve, uncertainty: Samples) -> list[Range]:
    """Where a difference curve is surely above or below 0: beyond twice ``doubt`` (points,) and 0.01 dB, for three
    points in a row or more.

    A range ends where the difference passes the middle between two that change places, else at its own last point.
    """
    least = np.maximum(_LIKELY * uncertainty, _LEAST.get(difference.y_unit, _LEAST_DB))
    sign = np.where(np.abs(difference.y) > least, np.sign(difference.y), 0).astype(int)
    edges = np.flatnonzero(np.diff(sign, prepend=sign[:1] - 1 if sign.size else 0))
    runs = [(int(a), int(b) - 1, int(sign[a])) for a, b in zip(edges, [*edges[1:], sign.size], strict=True)]
    sure = [r for r in runs if r[2] and r[1] - r[0] + 1 >= min(_POINTS, sign.size)]
    joined: list[tuple[int, int, int]] = []
    for run in sure:  # of one sign on both sides of a doubtful stretch that is short: one range
        if joined:
            before = joined[-1]
        else:
            before = None
        if before and before[2] == run[2] and run[0] - before[1] <= _POINTS + 1:
            joined[-1] = (before[0], run[1], run[2])
        else:
            joined.append(run)
    out: list[Range] = []
    for first, last, which in joined:
        low, high = float(difference.x[first]), float(difference.x[last])
        out.append(Range(low, high, which))
    for i in range(len(out) - 1):
        a, b = joined[i][1], joined[i + 1][0]
        if out[i].sign != out[i + 1].sign and b - a <= _POINTS:
            at = _zero(difference, a, b)
            out[i], out[i + 1] = Range(out[i].low, at, out[i].sign), Range(at, out[i + 1].high, out[i + 1].sign)
    return out


def _zero(difference: Curve, a: int, b: int) -> float:
    """Where the difference passes 0 between two of its points: by a straight line, over log x along axes on which
    ratios count.
    """
    log = difference.x_unit in LOGARITHMIC and difference.x[a] > 0
    x, y = difference.x[a : b + 1], difference.y[a : b + 1]
    k = int(np.flatnonzero(np.diff(np.signbit(y)))[0])
    share = float(y[k] / (y[k] - y[k + 1]))
    if log:
        return float(x[k] * (x[k + 1] / x[k]) ** share)
    return float(x[k] + share * (x[k + 1] - x[k]))
