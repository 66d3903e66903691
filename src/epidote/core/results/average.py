"""The power average of levels over channels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from epidote.core.results.channels import AVERAGE
from epidote.core.results.result import Curve


def average_curve(curves: Sequence[Curve], names: str = "") -> Curve | None:
    """Return 10 lg of the mean of the powers of levels in dB (methods.md, “Band levels”); None of none, and of levels
    that refer to different things.
    """
    if len({(c.y_unit, c.x.size) for c in curves}) != 1:
        return None
    first = curves[0]
    level = 10 * np.log10(np.mean([10 ** (c.y / 10) for c in curves], axis=0))
    floors = [c.floor for c in curves if c.floor is not None]
    if len(floors) == len(curves):
        floor = 10 * np.log10(np.mean([10 ** (f / 10) for f in floors], axis=0))
    else:
        floor = None
    meta = {**first.meta, "average_of": names}
    return Curve(first.key, AVERAGE, first.x, level, first.x_unit, first.y_unit, floor, meta)
