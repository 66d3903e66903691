"""A result against the chain's own: what the chain does is taken out of responses, and is the floor of everything
else.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from epidote.core.comparison.differences.difference import difference_curve
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution
from epidote.core.results.channels import AVERAGE
from epidote.core.results.kinds import ChainShare, CurveRole, curve_kind, reading_kind
from epidote.core.results.level_readings import recompute_level_readings
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result, with_caution

_LEVELS = ("dB", "dBFS", "dBV", "dBu", "dB SPL")
_IN_SERIES = ("dB", "°", "s")  # units of gain, phase and time; a level in dBFS is no gain
# what two chains have in common; against the output, a curve takes the floor it has against the drive
_DRIVEN_AXES = ("dBFS", "Hz")
NEAR_DB = 6.0
_SAME = 1e-3
_AMPLIFIES_DB = 0.5  # above it, a unit was not inserted for what it takes away
_BITS_PER_DB = 1 / 6.0206


def against_baseline(result: Result, baseline: Result, scale: float = 1.0) -> Result:
    """Return the result with the baseline's response, phase and delay taken out, and its distortion and noise as
    floors.

        ``scale``: what full scale is at the unit over what it was at the baseline's wire (a probe makes the converter's
    noise weigh more). A reading within 6 dB of the baseline's is cautioned: it is mostly the chain. What is read off a
    level curve is read again.
    """
    curves = _siblings(
        [
            _less_latency(_curve(c, baseline.curve(c.key, _own_channel(c.channel, baseline), c.x_unit)), baseline)
            for c in result.curves
        ]
    )
    again = recompute_level_readings(
        c for c in curves if curve_kind(c.key).role is CurveRole.RESPONSE and c.meta.get("baseline") == "taken out"
    )
    readings = []
    for reading in result.readings:
        own = baseline.reading(reading.key, _own_channel(reading.channel, baseline))
        reread = again.get((reading.key, reading.channel))
        if reread is None or own is None:
            readings.append(_reading(reading, _scaled(own, reading.unit, scale)))
        else:
            at = {**reread.at, **({"baseline": own.value} if own.value is not None else {})}
            readings.append(replace(reread, spread=reading.spread, at=at))
        readings += _of_the_insertion(readings[-1], own, scale)
    return replace(result, curves=curves, readings=tuple(readings))


def _own_channel(channel: int, baseline: Result) -> int:
    """Return the baseline's channel that says what the chain does in a channel: of the average its own first one, where
    it has no average.
    """
    numbers = {c.channel for c in baseline.curves} | {r.channel for r in baseline.readings}
    if channel == AVERAGE and AVERAGE not in numbers:
        return min(numbers, default=channel)
    return channel


def _of_the_insertion(reading: Reading, own: Reading | None, scale: float) -> list[Reading]:
    """Return what a unit does to a line that was a plain wire before: insertion loss at 1 kHz, and how far the noise
    floor rises over the wire's. ``reading``: with the baseline taken out.
    """
    if own is None or reading.value is None or own.value is None:
        return []
    kind = reading_kind(reading.key)
    if kind.loss and "baseline" in reading.at and reading.value < _AMPLIFIES_DB:
        return [replace(reading, key=kind.loss, value=-reading.value)]
    # through another probe the converter's noise weighs more, but what the wire brought along does not: then there is
    # no saying
    if kind.rise and reading.unit == own.unit == "V" and abs(scale - 1) < _SAME and own.value > 0 and reading.value > 0:
        if reading.spread is None:
            spread = None
        else:
            spread = math.sqrt(2) * DB_PER_NEPER * reading.spread / reading.value
        return [
            Reading(
                kind.rise,
                reading.channel,
                20 * math.log10(reading.value / own.value),
                "dB",
                reading.at,
                None,
                spread,
            )
        ]
    return []


def _curve(curve: Curve, own: Curve | None) -> Curve:
    if own is None:
        return curve
    kind = curve_kind(curve.key)
    if kind.chain is ChainShare.SUBTRACTS and curve.y_unit in _IN_SERIES:
        difference = difference_curve(curve, own)
        if difference is not None and difference.x.size == curve.x.size:
            if curve.floor is not None:
                floor = curve.floor - (curve.y - difference.y)
            else:
                floor = None
            return replace(curve, y=difference.y, floor=floor, meta={**curve.meta, "baseline": "taken out"})
        return curve
    if kind.chain is ChainShare.ADDS and curve.y_unit == "dB" and curve.x_unit in _DRIVEN_AXES and own.x.size:
        if own.x.shape == curve.x.shape and np.allclose(own.x, curve.x):
            floor = own.y
        else:
            floor = np.interp(curve.x, own.x, own.y, left=np.nan, right=np.nan)
        return replace(
            curve,
            floor=np.fmax(floor, curve.floor) if curve.floor is not None else floor,
            meta={**curve.meta, "baseline": "floor"},
        )
    return curve


def _less_latency(curve: Curve, baseline: Result) -> Curve:
    """Return the chain's own latency taken out of every shot: its median, since its shots are not the unit's."""
    less = curve_kind(curve.key).less_reading
    own = baseline.reading(less, curve.channel) if less else None
    if own is None or own.value is None:
        return curve
    return replace(curve, y=curve.y - own.value, meta={**curve.meta, "baseline": "taken out"})


def _siblings(curves: Sequence[Curve]) -> tuple[Curve, ...]:
    """Curves against other axes take the floor of the same points against the drive."""
    known = {
        (c.key, c.channel, c.x.size): c.floor
        for c in curves
        if c.x_unit == "dBFS" and c.meta.get("baseline") == "floor"
    }
    return tuple(
        (
            replace(c, floor=known[c.key, c.channel, c.x.size])
            if c.x_unit in ("V", "W", "FS") and (c.key, c.channel, c.x.size) in known
            else c
        )
        for c in curves
    )


def _scaled(own: Reading | None, unit: str, scale: float) -> Reading | None:
    """Return the baseline's own reading as it would stand at the unit."""
    if own is None or own.value is None or own.unit not in ("V", "Pa"):
        return own
    return replace(own, value=own.value * scale, unit=unit)


def _reading(reading: Reading, own: Reading | None) -> Reading:
    if own is None or own.value is None or reading.value is None or own.unit != reading.unit:
        return reading
    share = reading_kind(reading.key).chain
    if share is ChainShare.SUBTRACTS:
        return replace(reading, value=reading.value - own.value, at={**reading.at, "baseline": own.value})
    if share is ChainShare.ADDS:
        if reading.unit in _LEVELS:
            near = reading.value < own.value + NEAR_DB
        else:
            near = reading.value < own.value * 10 ** (NEAR_DB / 20)
    elif share is ChainShare.LIMITS:
        near = reading.value > own.value - NEAR_DB * (_BITS_PER_DB if reading.unit == "bit" else 1)
    else:
        return reading
    floored = replace(reading, floor=own.value)
    if near:
        return with_caution(floored, Caution.NEAR_FLOOR)
    return floored
