"""One curve against several axes: what a staircase did, against the drive, the output, its power; and a spectrum's
floor per hertz.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.quantities.units import LEVEL_UNITS
from epidote.core.results.result import Curve


@dataclass(frozen=True)
class Axis:
    """words: on a button.

    source: unit of the stored x it is made of; unit and title: of the axis; log: drawn logarithmically.
    """

    key: str
    words: str
    source: str
    unit: str
    title: str
    log: bool


AXES = (
    Axis("W", "W", "W", "W", "Output power", True),
    Axis("V", "V", "V", "V", "Output voltage", True),
    Axis("dBV", "dBV", "V", "dBV", "Output level", False),
    Axis("dBu", "dBu", "V", "dBu", "Output level", False),
    Axis("in", "Input dBFS", "V", "dBFS", "Input level", False),
    Axis("in FS", "Input dBFS", "FS", "dBFS", "Input level", False),
    Axis("out", "Generator dBFS", "dBFS", "dBFS", "Generator level", False),
)


def axes_of(curves: Iterable[Curve]) -> tuple[Axis, ...]:
    """Return the axes that these curves can be shown against; none where there is no choice."""
    there = {c.x_unit for c in curves}
    if "dBFS" in there:
        return tuple(a for a in AXES if a.source in there)
    return ()


def on_axis(curve: Curve, axis: Axis, full_scale: float | None) -> Curve:
    """Return the curve, whose x is in the axis' source unit, against the axis.

    ``full_scale``: RMS at the unit that reads 0 dBFS.
    """
    if axis.unit == axis.source:
        return curve
    base = {
        "dBV": 1.0,
        "dBu": LEVEL_UNITS["dBu"][1],
        "dBFS": (full_scale or 1.0) if axis.source == "V" else math.sqrt(0.5),
    }[axis.unit]
    return replace(curve, x=20 * np.log10(np.maximum(curve.x, 1e-20) / base), x_unit=axis.unit)


def per_hertz(curve: Curve) -> Curve | None:
    """Return a spectrum as a density, so that two of different length compare.

    None where its bins' noise bandwidth is not known.
    """
    width = curve.meta.get("enbw_hz")
    if not isinstance(width, (int, float)) or width <= 0:
        return None
    return replace(curve, y=curve.y - 10 * math.log10(width), meta={**curve.meta, "density": "per hertz"})
