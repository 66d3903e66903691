"""A microphone's own response taken out of what was measured through it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.results.kinds import Microphone, curve_kind
from epidote.core.results.level_readings import with_level_readings
from epidote.core.results.result import Curve, Result
from epidote.core.signals.signal import Samples


def apply_microphone_correction(result: Result, chain: Chain) -> Result:
    """Return the result less the chain's microphone correction: straight between its points over log frequency, its end
    values beyond them.
    """
    rows = chain.microphone_correction
    if not chain.acoustic or not rows:
        return result
    table = np.array(rows, dtype=np.float64)

    def own(x: Samples, column: int) -> Samples:
        return np.asarray(np.interp(np.log(np.maximum(x, 1e-3)), np.log(table[:, 0]), table[:, column]))

    def less(curve: Curve) -> Curve:
        share = curve_kind(curve.key).microphone
        if share is Microphone.LEVEL and curve.x_unit == "Hz" and curve.y_unit.startswith("dB"):
            correction = own(curve.x, 1)
        elif share is Microphone.PHASE and table.shape[1] > 2:
            correction = own(curve.x, 2)
        else:
            return curve
        if curve.floor is None:
            floor = None
        else:
            floor = curve.floor - correction
        return replace(curve, y=curve.y - correction, floor=floor, meta={**curve.meta, "microphone": "corrected"})

    curves = tuple(less(c) for c in result.curves)
    readings = with_level_readings(result.readings, (c for c in curves if c.key == "level" and c.x_unit == "Hz"))
    return replace(result, curves=curves, readings=readings)
