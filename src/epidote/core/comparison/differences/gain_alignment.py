"""Curves brought to one level before they are compared: at a frequency, or on average over a band."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from epidote.core.results.curve_features import curve_at
from epidote.core.results.result import Curve


@dataclass(frozen=True)
class Levelling:
    """At ``low`` alone, or the mean from ``low`` to ``high``, evenly over log frequency."""

    low: float
    high: float | None = None

    def level_of(self, curve: Curve) -> float | None:
        """Return what a curve is taken to lie at; None where it does not get there."""
        if self.high is None:
            return curve_at(curve, self.low)
        levels = [curve_at(curve, float(x)) for x in np.geomspace(self.low, self.high, 65)]
        known = [v for v in levels if v is not None]
        if len(known) == len(levels):
            return float(np.mean(known))
        return None


def levelled(curve: Curve, reference: Curve, by: Levelling) -> tuple[Curve, float] | None:
    """Return the curve moved up or down onto the reference, and by how many dB.

    None where either does not get there.
    """
    own, target = by.level_of(curve), by.level_of(reference)
    if own is None or target is None:
        return None
    shift = target - own
    if curve.floor is None:
        floor = None
    else:
        floor = curve.floor + shift
    return replace(curve, y=curve.y + shift, floor=floor), shift
