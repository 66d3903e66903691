"""A microphone's own response taken out of what was measured through it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from epidote.core.chain.chain import Chain
from epidote.core.chain.frequency_rows import interpolate_rows
from epidote.core.results.average import average_curve
from epidote.core.results.channels import AVERAGE
from epidote.core.results.kinds import Microphone, curve_kind
from epidote.core.results.level_readings import with_level_readings
from epidote.core.results.result import Curve, Result


def apply_microphone_correction(result: Result, chain: Chain) -> Result:
    """Return the result less the correction of each channel's microphone: straight between its points over log
    frequency, its end values beyond them. Power averages are made again of the channels that they are made of.
    """
    if not chain.acoustic or not (chain.microphone_correction or chain.microphone_corrections):
        return result
    corrected = [c if c.channel == AVERAGE else _less_own(c, chain) for c in result.curves]
    curves = tuple(_averaged_again(c, corrected, chain) if c.channel == AVERAGE else c for c in corrected)
    readings = with_level_readings(result.readings, (c for c in curves if c.key == "level" and c.x_unit == "Hz"))
    return replace(result, curves=curves, readings=readings)


def _is_level(curve: Curve) -> bool:
    shared = curve_kind(curve.key).microphone is Microphone.LEVEL
    return shared and curve.x_unit == "Hz" and curve.y_unit.startswith("dB")


def _less_own(curve: Curve, chain: Chain) -> Curve:
    """Return a channel's curve less its microphone's correction, where it is a level or a phase over frequency."""
    rows = chain.correction_of(curve.channel)
    if not rows:
        return curve
    if _is_level(curve):
        column = 1
    elif curve_kind(curve.key).microphone is Microphone.PHASE and len(rows[0]) > 2:
        column = 2
    else:
        return curve
    correction = interpolate_rows(rows, curve.x, column)
    if curve.floor is None:
        floor = None
    else:
        floor = curve.floor - correction
    return replace(curve, y=curve.y - correction, floor=floor, meta={**curve.meta, "microphone": "corrected"})


def _averaged_again(curve: Curve, corrected: Sequence[Curve], chain: Chain) -> Curve:
    """Return a power average over channels, made again of their corrected curves."""
    names = str(curve.meta.get("average_of", ""))
    own = [c for c in corrected if c.key == curve.key and c.channel != AVERAGE and str(c.channel) in names.split(", ")]
    if not _is_level(curve) or not any(chain.correction_of(c.channel) for c in own):
        return curve
    again = average_curve(own, names)
    if again is None:
        return curve
    return replace(again, meta={**curve.meta, "microphone": "corrected"})
