"""What people read off a curve: its value at a point, corners, slopes, flatness.

Curves here are levels in dB over log frequency.
"""

from __future__ import annotations

import math

import numpy as np

from epidote.core.results.result import Curve
from epidote.core.results.spline import Spline
from epidote.core.signals.signal import Samples

LOGARITHMIC = ("Hz", "V", "W", "FS")  # units of axes along which ratios count


def interpolate(x: Samples, y: Samples, at: float, log_x: bool = True) -> float | None:
    """Y at ``at`` by a cubic spline through the neighbours; None outside the curve. x ascending (points,)."""
    if x.size == 0 or not x[0] - 1e-9 * abs(x[0]) <= at <= x[-1] + 1e-9 * abs(x[-1]):
        return None
    i = int(np.searchsorted(x, at))
    part = slice(max(0, i - 4), min(x.size, i + 4))
    xs, ys = x[part], y[part]
    if xs.size < 4 or not np.isfinite(ys).all():
        return float(np.interp(at, x, y))
    if log_x:
        axis, point = (np.log(xs), math.log(at))
    else:
        axis, point = (xs, at)
    return Spline.through(axis, ys).at(point)


def curve_at(curve: Curve, at: float) -> float | None:
    """Return the curve's value at x = ``at``; None outside it."""
    log = curve.x_unit in LOGARITHMIC and curve.x.size > 0 and curve.x[0] > 0
    if curve.x_unit in ("V", "W", "FS", "dBFS", "dBV", "dBu"):  # along a staircase, whose knee a spline would overshoot
        if curve.x.size == 0 or not curve.x[0] <= at <= curve.x[-1]:
            return None
        return float(np.interp(math.log(at), np.log(curve.x), curve.y) if log else np.interp(at, curve.x, curve.y))
    return interpolate(curve.x, curve.y, at, log_x=log)


def normalise_phase(phase: Samples, at: int, polarity: int) -> Samples:
    """Return a phase in radians (points,) less the whole turns that bring the point ``at`` nearest to 0, or to half a
    turn where polarity is -1.
    """
    if polarity > 0:
        target = 0.0
    else:
        target = math.pi
    return np.asarray(phase - 2 * np.pi * np.round((phase[at] - target) / (2 * np.pi)))


def level_crossing(x: Samples, y: Samples, level: float, start: float, upwards: bool) -> float | None:
    """First x from ``start`` towards higher (or lower) x where y falls below ``level``; None if it never does.

    Between two points the place is found on the spline through their neighbours.
    """
    if upwards:
        order = np.arange(x.size)
    else:
        order = np.arange(x.size)[::-1]
    if upwards:
        ahead = order[x[order] >= start]
    else:
        ahead = order[x[order] <= start]
    below = np.flatnonzero(y[ahead] < level)
    if below.size == 0 or below[0] == 0:
        return None
    inner, outer = sorted((int(ahead[below[0] - 1]), int(ahead[below[0]])))
    part = slice(max(0, inner - 3), min(x.size, outer + 4))
    low, high = np.log(x[inner]), np.log(x[outer])
    if x[part].size < 4:
        share = (y[inner] - level) / (y[inner] - y[outer])
        return float(np.exp(low + share * (high - low)))
    places = Spline.through(np.log(x[part]), y[part]).places_of(level, inner - part.start)
    if places.size:
        return float(np.exp(places[0]))
    return float(x[outer])


def cutoff_frequency(curve: Curve, drop_db: float, reference: float, upwards: bool) -> float | None:
    """Frequency in Hz above (or below) ``reference`` Hz where the level is ``drop_db`` under that at the reference."""
    level = curve_at(curve, reference)
    if level is None:
        return None
    return level_crossing(curve.x, curve.y, level - drop_db, reference, upwards)


def slope(curve: Curve, x1: float, x2: float) -> float | None:
    """Mean slope between two frequencies in dB per octave; None when one lies outside the curve or they are equal."""
    y1, y2 = curve_at(curve, x1), curve_at(curve, x2)
    if y1 is None or y2 is None or x1 == x2:
        return None
    return (y2 - y1) / math.log2(x2 / x1)


def flatness(curve: Curve, low: float, high: float) -> float | None:
    """Half of the range of levels within the band: the x of "±x dB"."""
    inside = curve.y[(curve.x >= low * (1 - 1e-9)) & (curve.x <= high * (1 + 1e-9))]
    if inside.size > 1:
        return float(inside.max() - inside.min()) / 2
    return None


def last_x_below(curve: Curve, level: float) -> tuple[float, bool] | None:
    """Up to which x a rising curve stays below a level for good, and whether it was seen to pass it.

    None if it never was below.
    """
    above = np.flatnonzero(curve.y > level)
    below = np.flatnonzero(curve.y <= level)
    if below.size == 0:
        return None
    last = int(below[-1])
    if last == curve.x.size - 1:
        return float(curve.x[-1]), False
    following = int(above[above > last][0])
    share = float((level - curve.y[last]) / (curve.y[following] - curve.y[last]))
    return float(curve.x[last] * (curve.x[following] / curve.x[last]) ** share), True


def noise_uncertainty(curve: Curve, x: Samples) -> Samples:
    """One standard deviation in dB at x (points,), by what the noise below the curve may add or take: a voltage e
    below the level y moves it by 20 lg(1 + 10^((e-y)/20)); 0 where the curve tells no floor.
    """
    if curve.floor is None:
        return np.zeros(x.size)
    log = curve.x_unit in LOGARITHMIC and curve.x[0] > 0
    if log:
        places, at = (np.log(curve.x), np.log(np.maximum(x, 1e-300)))
    else:
        places, at = (curve.x, x)
    below = np.interp(at, places, curve.floor - curve.y, left=0.0, right=0.0)
    return np.asarray(20 * np.log10(1 + 10 ** (np.minimum(below, 0) / 20)))
