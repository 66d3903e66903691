"""Differences between runs in words."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.comparison.conditions.comparability import Mismatch, MismatchKind
from epidote.core.comparison.conditions.condition_table import Equivalence
from epidote.core.comparison.conditions.latency_table import LiveSuitability, MeasuredLatency, live_suitability
from epidote.core.comparison.differences.crossings import Range, ranges
from epidote.core.comparison.differences.difference import DIFFERENCE_UNITS
from epidote.core.comparison.limits import LimitCheck
from epidote.core.comparison.repeatability import Comparison, Significance, SwapConclusion
from epidote.core.effects import Severity
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import to_db
from epidote.core.results.channels import channel_name
from epidote.core.results.result import Curve
from epidote.core.settings import label_of, value_in_words
from epidote.core.signals.signal import Samples

_NOT_SPECIFIED = "not specified"


def mismatch_words(mismatch: Mismatch) -> str:
    """ "Bandwidth: 20 kHz vs. 80 kHz. Noise depends on the bandwidth."."""
    ours, theirs = _mismatch_value(mismatch, mismatch.ours), _mismatch_value(mismatch, mismatch.theirs)
    words = f"{_mismatch_label(mismatch)}: {ours} vs. {theirs}."
    if mismatch.effect.why:
        words += f" {mismatch.effect.why}"
    return words


def mismatch_to_json(mismatch: Mismatch) -> dict[str, object]:
    """Return a mismatch as data and in words."""
    return {
        "what": mismatch.name.replace("_", " "),
        "kind": str(mismatch.kind),
        "ours": _mismatch_value(mismatch, mismatch.ours),
        "theirs": _mismatch_value(mismatch, mismatch.theirs),
        "blocks": mismatch.severity is Severity.BLOCKS,
        "words": mismatch_words(mismatch),
    }


def _mismatch_label(mismatch: Mismatch) -> str:
    if mismatch.kind is MismatchKind.SETTING:
        return label_of(procedure(mismatch.procedure).Settings, mismatch.name)
    if mismatch.kind is MismatchKind.CHAIN and mismatch.name in Chain.model_fields and mismatch.name != "rate":
        return label_of(Chain, mismatch.name)
    return mismatch.name[0].upper() + mismatch.name[1:]


def _mismatch_value(mismatch: Mismatch, value: object) -> str:
    if mismatch.kind is MismatchKind.SETTING:
        return value_in_words(procedure(mismatch.procedure).Settings, mismatch.name, value) or _NOT_SPECIFIED
    if mismatch.kind is not MismatchKind.CHAIN:
        return str(value or _NOT_SPECIFIED)
    if mismatch.name == "load":
        return format_quantity(value, "Ω", digits=3) if isinstance(value, float) else "none"
    if mismatch.name == "rate" and isinstance(value, float):
        return format_quantity(value, "Hz", digits=4)
    return value_in_words(Chain, mismatch.name, value) or _NOT_SPECIFIED


def comparison_words(comparison: Comparison) -> str:
    """Whether a reading differs, by how much, and what that rests on."""
    difference, interval, unit = comparison.difference, comparison.interval, comparison.unit
    if comparison.finding is Significance.UNKNOWN:
        shown = format_quantity(difference, unit, digits=3, signed=True)
        return f"not repeated: repeatability unknown ({shown})"
    shown = format_quantity(difference, unit, digits=3, uncertainty=interval or None, signed=True)
    if comparison.finding is Significance.CHAIN_LIMITED:
        return f"chain-limited: both are within 6 dB of the baseline ({shown})"
    reach = format_quantity(interval, unit, digits=2, uncertainty=interval / 10 if interval else None)
    basis = _basis(comparison)
    if comparison.finding is Significance.DIFFERENT:
        return f"different: {shown} ±{reach}{basis}"
    return f"no measurable difference ({shown}, repeatability ±{reach}{basis})"


def _basis(comparison: Comparison) -> str:
    """Return what the interval rests on, where that is not repeats of both sides."""
    if min(comparison.repeats) > 1:
        return ""
    if max(comparison.repeats) > 1:
        return ", one row measured only once"
    return ", single runs: uncertainty from noise only"


def limit_check_words(check: LimitCheck) -> str:
    """ "bass ripple: fail, 0.4 dB outside the upper limit at 41 Hz (channel 1)"."""
    unit = check.limit.unit
    if unit.startswith("dB"):
        unit = "dB"
    where = ""
    if check.at is not None:
        where = f" at {format_quantity(check.at, check.limit.x_unit, digits=3)}"
    distance = format_quantity(abs(check.margin), unit, digits=3)
    result, side = "fail", "outside"
    if check.passed:
        result, side = "pass", "inside"
    return (
        f"{check.limit.name}: {result}, {distance} {side} the {check.side} limit{where} ({channel_name(check.channel)})"
    )


def swap_words(title: str, conclusion: SwapConclusion) -> str:
    """Return what swapping the wires has shown by a reading."""
    return f"{title}: {_SWAPPED[conclusion]}"


_SWAPPED = {
    SwapConclusion.INCOMPLETE: "Both channels must be measured, normal and swapped.",
    SwapConclusion.NO_DIFFERENCE: "No measurable difference between the channels, normal or swapped.",
    SwapConclusion.UNIT: "The difference moved to the other input: it belongs to the unit.",
    SwapConclusion.CHAIN: "The difference stayed on the same input: it belongs to the chain, not to the unit.",
}


def equivalence_words(equivalence: Equivalence) -> str:
    """ "Buffer 128 with rate 48 kHz gives the same as 64 with 44.1 kHz (5.33 ms)."."""
    name, other = equivalence.name, equivalence.other
    (ours, our_other), (theirs, their_other) = equivalence.ours, equivalence.theirs
    if ours == theirs:
        words = f"at {name} {ours}, {other} {our_other} and {their_other} give the same"
    else:
        words = f"{name} {ours} with {other} {our_other} gives the same as {theirs} with {their_other}"
    value = format_quantity(equivalence.value, equivalence.unit, digits=3)
    return f"{words[0].upper()}{words[1:]} ({value})."


def suitability_words(suitability: LiveSuitability) -> str:
    """Return what a latency means for somebody who plays or speaks and hears it."""
    return _LIVE[suitability]


def latency_words(one: MeasuredLatency) -> str:
    """Return what a latency means for live playing, by its slowest burst, and whether it jumps."""
    words = suitability_words(live_suitability(one.longest))
    if one.jumps:
        words += f"; jumps, up to {format_quantity(one.longest, 's', digits=4)}"
    return words


_LIVE = {
    LiveSuitability.SUITABLE: "suitable for live playing",
    LiveSuitability.BORDERLINE: "borderline for live playing",
    LiveSuitability.DISTURBS: "disturbs live playing",
}


def difference_words(value: float | None, reference: float | None, unit: str) -> str:
    """Return the difference in the fitting way: "+50 %, +1.76 dB" of powers and voltages, "-12 %" of frequencies and
    times, decibels of levels.
    """
    if value is None or reference is None:
        return ""
    if unit in ("W", "V", "Pa", "FS") and value > 0 and reference > 0:
        decibels = to_db(value / reference) * (0.5 if unit == "W" else 1)
        return f"{_percent(value / reference)}, {format_quantity(decibels, 'dB', signed=True)}"
    if unit in ("Hz", "s", "samples") and reference:
        return _percent(value / reference)
    less = value - reference
    if math.isfinite(less):
        return format_quantity(less, DIFFERENCE_UNITS.get(unit, unit), digits=3, signed=True)
    return ""


def _percent(ratio: float) -> str:
    less = 100 * (ratio - 1)
    if abs(less) < 1000:
        return f"{less:+.3g} %"
    return f"×{ratio:.3g}"


def repeated_curves_words(
    name: str, reference: str, difference: Curve, interval: Samples, repeats: tuple[int, int]
) -> str:
    """Where mean curves differ by more than their repeats scatter."""
    typical = float(np.median(interval))
    scatter = format_quantity(typical, "dB", uncertainty=typical / 10 or None)
    sentence = ranges_words(name, reference, difference, interval / 2)
    return f"From {repeats[0]} and {repeats[1]} repeats (repeatability of the curves ±{scatter}): {sentence}"


def ranges_words(name: str, reference: str, difference: Curve, uncertainty: Samples) -> str:
    """One sentence, such as "A vs. B: lower below 11.4 W, higher above": where ``name`` lies lower or higher than
    ``reference``.
    """
    if difference.x.size < 2:
        return ""
    intervals = ranges(difference, uncertainty)
    low, high = float(difference.x[0]), float(difference.x[-1])
    if not intervals:
        return f"{name} vs. {reference}: no measurable difference, {_span(low, high, difference.x_unit)}."
    parts = []
    for sign, word in ((-1, "lower"), (1, "higher")):
        of_sign = [r for r in intervals if r.sign == sign]
        if of_sign:
            parts.append(f"{word} {_and([_where(r, low, high, difference.x_unit) for r in of_sign])}")
    return f"{name} vs. {reference}: {', '.join(parts)}."


def _where(r: Range, low: float, high: float, unit: str) -> str:
    from_start, to_end = math.isclose(r.low, low, rel_tol=1e-6), math.isclose(r.high, high, rel_tol=1e-6)
    if from_start and to_end:
        return f"throughout ({_span(low, high, unit)})"
    if from_start:
        return f"below {format_quantity(r.high, unit, digits=3)}"
    if to_end:
        return f"above {format_quantity(r.low, unit, digits=3)}"
    return f"from {_span(r.low, r.high, unit)}"


def _span(low: float, high: float, unit: str) -> str:
    return f"{format_quantity(low, unit, digits=3)} to {format_quantity(high, unit, digits=3)}"


def _and(parts: Sequence[str]) -> str:
    if len(parts) == 1:
        return parts[0]
    return f"{', '.join(parts[:-1])} and {parts[-1]}"
