"""Capability of a process with respect to limits: Cp and Cpk (ISO 22514-2), with 95 % intervals.

Intervals by NIST/SEMATECH e-Handbook, 6.1.6: chi-square for Cp, the normal approximation for Cpk.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from scipy.special import chdtri

_NORMAL_95 = 1.959963984540054


@dataclass(frozen=True)
class Capability:
    """cp, cp_interval: None with one limit only."""

    cp: float | None
    cp_interval: tuple[float, float] | None
    cpk: float
    cpk_interval: tuple[float, float]


def capability(mean: float, s: float, count: int, lower: float | None, upper: float | None) -> Capability | None:
    """Return the capability; None without a limit, for one value, or where nothing scatters."""
    if count < 2 or s <= 0 or (lower is None and upper is None):
        return None
    sides = []
    if upper is not None:
        sides.append((upper - mean) / (3 * s))
    if lower is not None:
        sides.append((mean - lower) / (3 * s))
    cpk = min(sides)
    half = _NORMAL_95 * math.sqrt(1 / (9 * count) + cpk * cpk / (2 * (count - 1)))
    cp = cp_interval = None
    if lower is not None and upper is not None:
        freedom = count - 1
        cp = (upper - lower) / (6 * s)
        low, high = (cp * math.sqrt(float(chdtri(freedom, tail)) / freedom) for tail in (0.975, 0.025))
        cp_interval = low, high
    return Capability(cp, cp_interval, cpk, (cpk - half, cpk + half))
