"""A result against the chain's own: what the chain does is taken out of responses, and is the floor of everything else."""

from __future__ import annotations

from dataclasses import replace

from epidote.core.caution import Caution
from epidote.core.comparison.difference import difference_curve
from epidote.core.result import Curve, Reading, Result, with_caution

# curves and readings that divide out: a chain's gain and time add to the unit's
_TAKEN_OUT = {"level": "dB", "phase": "°", "phase_unwrapped": "°", "phase_delay_removed": "°", "group_delay": "s"}
_SUBTRACTED = ("gain_1k", "delay", "level_20k")
_FLOORED_UNITS = ("dB", "dBFS", "dBV")
_FLOORED = ("thd", "thd_n", "noise", "hum", *(f"h{n}" for n in range(2, 51)))
NEAR_DB = 6.0


def against_baseline(result: Result, baseline: Result) -> Result:
    """The result with the baseline's response, phase and delay taken out, and its distortion and noise as floors.

    A reading within 6 dB of the baseline's is cautioned: it is mostly the chain.
    """
    curves = tuple(_curve(c, baseline.curve(c.key, c.channel)) for c in result.curves)
    readings = tuple(_reading(r, baseline.reading(r.key, r.channel)) for r in result.readings)
    return replace(result, curves=curves, readings=readings)


def _curve(curve: Curve, own: Curve | None) -> Curve:
    if own is None:
        return curve
    if curve.y_unit == _TAKEN_OUT.get(curve.key):
        taken = difference_curve(curve, own)
        if taken is not None and taken.x.size == curve.x.size:
            return replace(curve, y=taken.y, meta={**curve.meta, "baseline": "taken out"})
        return curve
    if curve.key in _FLOORED and own.x.shape == curve.x.shape:
        return replace(curve, floor=own.y)
    return curve


def _reading(reading: Reading, own: Reading | None) -> Reading:
    if own is None or own.value is None or reading.value is None or own.unit != reading.unit:
        return reading
    if reading.key in _SUBTRACTED:
        return replace(reading, value=reading.value - own.value, at={**reading.at, "baseline": own.value})
    if reading.key not in _FLOORED:
        return reading
    floored = replace(reading, floor=own.value)
    near = reading.value < own.value + NEAR_DB if reading.unit in _FLOORED_UNITS else reading.value < own.value * 2
    return with_caution(floored, Caution.NEAR_FLOOR) if near else floored
