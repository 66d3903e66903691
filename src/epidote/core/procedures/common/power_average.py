"""The power average over microphones: what a room or a seat holds, where each microphone holds its own interference."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.results.average import average_curve
from epidote.core.results.caution import Caution, unique
from epidote.core.results.channels import AVERAGE
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result

_FEWEST_TO_JUDGE, _UNLIKE_DB = 3, 15.0
_OF_A_LEVEL = ("dBFS", "dBV", "dB SPL", "dB")


def averaged(
    results: Sequence[Result], curve_keys: Sequence[str], reading_keys: Sequence[str], spread_key: str
) -> Result:
    """Return the power averages over the channels' results as the channel ``AVERAGE``.

    spread_key: the curve of standard deviations in dB; microphones that hear one source deviate together, so theirs is
    averaged as if they always did, weighted by power.
    """
    names = channel_numbers(results)
    curves = [average_curve([c for r in results if (c := _curve(r, key)) is not None], names) for key in curve_keys]
    levels = [c for r in results if (c := _curve(r, curve_keys[0])) is not None]
    deviations = [c for r in results if (c := _curve(r, spread_key)) is not None]
    spreads = _average_spread(levels, deviations)
    readings = [
        average_reading([g for r in results for g in r.readings if g.key == key], names) for key in reading_keys
    ]
    found = [c for c in (*curves, spreads) if c is not None]
    return Result(tuple(found), tuple(g for g in readings if g is not None))


def channel_numbers(results: Sequence[Result]) -> str:
    """Return the channels of results, one each, as a list in words: "1, 2, 4"."""
    return ", ".join(str(r.readings[0].channel) for r in results if r.readings)


def _curve(result: Result, key: str) -> Curve | None:
    return next((c for c in result.curves if c.key == key), None)


def _average_spread(levels: Sequence[Curve], deviations: Sequence[Curve]) -> Curve | None:
    if not levels or len(levels) != len(deviations):
        return None
    first = deviations[0]
    powers = np.array([10 ** (c.y / 10) for c in levels])
    spread = np.sum(powers * np.array([d.y for d in deviations]), axis=0) / powers.sum(axis=0)
    return Curve(first.key, AVERAGE, first.x, spread, first.x_unit, first.y_unit)


def average_reading(readings: Sequence[Reading], names: str, *, as_power: bool = True) -> Reading | None:
    """Return the average of a reading over channels: of powers, or of the values as they are; None of none.

    Without a value where one of them has none, or where they have different units.
    """
    if not readings:
        return None
    first, cautions = readings[0], unique(c for r in readings for c in r.cautions)
    values = [r.value for r in readings if r.value is not None]
    at = {**first.at, "average_of": names}
    if len(values) < len(readings) or len({r.unit for r in readings}) > 1:
        return Reading(first.key, AVERAGE, None, first.unit, at, cautions=cautions)
    if not as_power:
        return Reading(first.key, AVERAGE, float(np.mean(values)), first.unit, at, cautions=cautions)
    if first.unit in _OF_A_LEVEL:
        powers = np.array([10 ** (v / 10) for v in values])
        value = 10 * math.log10(float(powers.mean()))
    else:
        powers = np.square(values)
        value = math.sqrt(float(powers.mean()))
    known = [r.spread for r in readings if r.spread is not None]
    spread = None
    if len(known) == len(readings) and powers.sum() > 0:
        if first.unit in _OF_A_LEVEL:
            spread = float(powers @ np.array(known) / powers.sum())
        else:  # of an amplitude: the relative spreads, weighted by power, times the average
            relative = np.array(known) / np.maximum(values, 1e-300)
            spread = value * float(powers @ relative / powers.sum())
    return Reading(first.key, AVERAGE, value, first.unit, at, None, spread, cautions)


def is_averaged(channels: int, chain: Chain) -> bool:
    """Whether the channels of a run are averaged: of more than two, or of several microphones; not of microphones of
    which some are calibrated and others are not.
    """
    calibrated = {chain.scale(number)[0] is not None for number in range(1, channels + 1)}
    if len(calibrated) > 1:
        return False
    return channels > 2 or (channels > 1 and chain.acoustic)


def suspect_channels(readings: Sequence[Reading]) -> tuple[int, ...]:
    """Return the channels whose level is unlike the others': without a value, clipped, in another unit, or more than
    15 dB from the median (common practice, no source: seats differ less, and a dead microphone by more).
    """
    values = [r.value for r in readings if r.value is not None]
    if len(readings) < _FEWEST_TO_JUDGE or not values:
        return tuple(r.channel for r in readings if r.value is None)
    median = float(np.median(values))
    units = [r.unit for r in readings]
    usual_unit = max(set(units), key=units.count)

    def is_suspect(reading: Reading) -> bool:
        if reading.value is None or reading.unit != usual_unit or Caution.CLIPPED in reading.cautions:
            return True
        return abs(reading.value - median) > _UNLIKE_DB

    return tuple(r.channel for r in readings if is_suspect(r))


def summed_ratios(results: Sequence[Result], ratio_keys: Sequence[str], level_key: str) -> Result:
    """Return ratios to a tone in dB as the microphones hold them together, as the channel ``AVERAGE``: the sum of the
    powers of the distortion over that of the tones. level_key: the curve of the tone's level in dB.
    """
    names = channel_numbers(results)
    levels = [_curve(r, level_key) for r in results]
    curves = [average_curve([c for c in levels if c is not None], names)]
    for key in ratio_keys:
        pairs = [
            (ratio, level) for r, level in zip(results, levels, strict=True) if (ratio := _curve(r, key)) and level
        ]
        curves.append(_summed_ratio(pairs, len(results), names))
    return Result(tuple(c for c in curves if c is not None), ())


def _summed_ratio(pairs: Sequence[tuple[Curve, Curve]], count: int, names: str) -> Curve | None:
    """Return the ratio over all channels; None where a channel has none, or another axis."""
    if len(pairs) < max(2, count) or len({(r.x.size, level.y_unit) for r, level in pairs}) > 1:
        return None
    first = pairs[0][0]
    tones = np.array([10 ** (np.interp(r.x, level.x, level.y) / 10) for r, level in pairs])
    ratios = np.array([10 ** (r.y / 10) for r, _ in pairs])
    together = 10 * np.log10((ratios * tones).sum(axis=0) / tones.sum(axis=0))
    floor = None
    if all(r.floor is not None for r, _ in pairs):
        floors = np.array([10 ** (r.floor / 10) for r, _ in pairs if r.floor is not None])
        floor = 10 * np.log10(np.maximum((floors * tones).sum(axis=0) / tones.sum(axis=0), 1e-40))
    return Curve(
        first.key, AVERAGE, first.x, together, first.x_unit, first.y_unit, floor, {**first.meta, "sum_of": names}
    )


def summed_ratio_reading(ratios: Sequence[Reading], references: Sequence[float]) -> Reading | None:
    """Return one ratio in dB over all channels: the sum of the products' powers over that of what they refer to.

    references: power that the ratio of each channel refers to. None of fewer than two; without a value where one of
    them has none. The spread: each channel's, weighted by the power of its products.
    """
    if len(ratios) < 2 or len(ratios) != len(references):
        return None
    first, cautions = ratios[0], unique(c for r in ratios for c in r.cautions)
    at = {**first.at, "sum_of": ", ".join(str(r.channel) for r in ratios)}
    values = [r.value for r in ratios if r.value is not None]
    whole = sum(references)
    if len(values) < len(ratios) or whole <= 0:
        return Reading(first.key, AVERAGE, None, first.unit, at, cautions=cautions)
    products = np.array([10 ** (v / 10) for v in values]) * np.array(references)
    together = float(products.sum())
    spreads = [r.spread for r in ratios if r.spread is not None]
    spread = None
    if len(spreads) == len(ratios):
        spread = float(products @ np.array(spreads)) / together
    return Reading(first.key, AVERAGE, 10 * math.log10(together / whole), first.unit, at, None, spread, cautions)
