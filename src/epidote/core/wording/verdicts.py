"""Verdicts on published figures in words."""

from __future__ import annotations

from collections.abc import Callable

from epidote.core.claims.claimed_quantity import Bound
from epidote.core.claims.conditions import Assumption, Condition, ConditionMismatch, ConditionValue
from epidote.core.comparison.claims.verdict import Reason, Verdict
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.channels import channel_name

_SHOWN_MARGIN = 1e-3  # an uncertainty below this share of the value is not written


def verdict_words(verdict: Verdict) -> str:
    """Return the verdict in one or two sentences."""
    outcome = verdict.outcome[0].upper() + verdict.outcome[1:]
    words = f"{outcome}: {reason_words(verdict)}"
    if verdict.assumed and verdict.run is not None:
        assumed = ", ".join(assumption_words(one) for one in verdict.assumed)
        words += f" Assumed, as not stated in the claim: {assumed}."
    return words


def verdict_to_json(verdict: Verdict) -> dict[str, object]:
    """Return the verdict as data and in words."""
    claim = verdict.claim
    measure = None
    if verdict.proposal is not None:
        measure = {"procedure": verdict.proposal.procedure, "settings": dict(verdict.proposal.settings)}
    return {
        "claim": claim.words,
        "text": claim.text,
        "source": claim.source,
        "verdict": str(verdict.outcome),
        "reason": str(verdict.reason),
        "why": verdict_words(verdict),
        "value": verdict.value,
        "value_unit": claim.unit,
        "uncertainty": verdict.uncertainty,
        "margin": verdict.margin,
        "margin_unit": verdict.margin_unit,
        "run": verdict.run,
        "mismatches": [one.to_json() for one in verdict.mismatches],
        "assumed": [one.to_json() for one in verdict.assumed],
        "measure": measure,
    }


def reason_words(verdict: Verdict) -> str:
    """Why the verdict is what it is, as a clause with its full stop."""
    return _REASONS[verdict.reason](verdict)


def mismatch_words(mismatch: ConditionMismatch) -> str:
    """ "load 4 Ω instead of 8 Ω"."""
    claimed = _value_words(mismatch.condition, mismatch.claimed)
    if mismatch.measured is None:
        return f"{mismatch.condition} {claimed} cannot be calculated with this chain"
    name: str = mismatch.condition
    if mismatch.condition is Condition.RANGE:
        name = "measured"
    return f"{name} {_value_words(mismatch.condition, mismatch.measured)} instead of {claimed}"


def assumption_words(assumption: Assumption) -> str:
    """ "8 Ω", "A-weighted", "at 1 % distortion"."""
    template = _ASSUMED.get(assumption.condition, "{}")
    if assumption.condition is Condition.CHANNELS:
        measured, claimed = assumption.value.numbers
        return f"{measured:.0f} of {claimed:.0f} channels measured"
    return template.format(_value_words(assumption.condition, assumption.value))


_ASSUMED = {
    Condition.BANDWIDTH: "bandwidth {}",
    Condition.WEIGHTING: "{}-weighted",
    Condition.DISTORTION_LIMIT: "at {} distortion",
    Condition.REFERENCE_LEVEL: "re {}",
    Condition.OUTPUT_LEVEL: "for {}",
    Condition.BUFFER: "buffer {}",
}
_UNSPECIFIED = {Condition.LOAD: "none", Condition.WEIGHTING: "none"}
_DIGITS = {Condition.RATE: 4}
_USUAL_DIGITS = 3


def _value_words(condition: Condition, value: ConditionValue) -> str:
    if value.text:
        return value.text
    if not value.numbers:
        return _UNSPECIFIED.get(condition, "not specified")
    if value.unit == "":
        return " ".join(f"{number:g}" for number in value.numbers)
    if value.unit == "%":
        return f"{value.numbers[0]:g} %"
    digits = _DIGITS.get(condition, _USUAL_DIGITS)
    joint = " to "
    if condition is Condition.TONES:
        joint = " + "
    return joint.join(format_quantity(number, value.unit, digits=digits) for number in value.numbers)


def _place(verdict: Verdict) -> str:
    """ "channel 1 of run 12, gain high"."""
    named = "".join(f", {name} {value}" for name, value in verdict.conditions)
    return f"{channel_name(verdict.channel or 1)} of run {verdict.run}{named}"


def _figure(verdict: Verdict) -> str:
    """Return the measured figure, with its uncertainty where that can be seen."""
    value, uncertainty, unit = verdict.value, verdict.uncertainty or 0.0, verdict.claim.unit
    words = format_quantity(value, unit, digits=4, uncertainty=uncertainty or None)
    if uncertainty > max(0.0, _SHOWN_MARGIN * abs(value or 0.0)):
        words += f" ±{format_quantity(uncertainty, unit, digits=2, uncertainty=uncertainty / 10)}"
    return words


def _margin(verdict: Verdict) -> str:
    if verdict.margin is None:
        return ""
    return format_quantity(abs(verdict.margin), verdict.margin_unit, digits=3)


def _other_conditions(verdict: Verdict) -> str:
    differences = "; ".join(mismatch_words(one) for one in verdict.mismatches)
    return f"measured only under other conditions ({differences})."


def _spoilt_recording(verdict: Verdict) -> str:
    assert verdict.caution is not None
    words = verdict.caution.words
    return words[0].lower() + words[1:]


def _not_calibrated(verdict: Verdict) -> str:
    return f"this chain cannot give it in {verdict.claim.unit}; calibrate the chain."


def _sweep_ended_early(verdict: Verdict) -> str:
    return (
        f"the level sweep ended at {_figure(verdict)} before the distortion limit was reached ({_place(verdict)});"
        " raise the stop level."
    )


def _too_close(verdict: Verdict) -> str:
    return f"{_figure(verdict)} is too close to the limit to decide ({_place(verdict)})."


def _chain_limited(verdict: Verdict) -> str:
    floor = ""
    if verdict.floor is not None:
        floor = f", baseline {format_quantity(verdict.floor, verdict.claim.unit, digits=3)}"
    return f"{_figure(verdict)} is chain-limited{floor} ({_place(verdict)}); a better chain is needed."


def _reference_assumed(verdict: Verdict) -> str:
    return (
        f"{_figure(verdict)} ({_place(verdict)}), but the claim does not state the reference level; add it, such as"
        " “re 2 V”, to the claim."
    )


def _reference_not_reached(verdict: Verdict) -> str:
    return (
        f"{_figure(verdict)} re {verdict.claim.level} ({_place(verdict)}), but the output reached that level in no run"
        " of this unit; measure a tone or a level sweep up to it."
    )


def _within_limit(verdict: Verdict) -> str:
    margin = "far from the limit"
    if verdict.margin is not None:
        margin = f"margin {_margin(verdict)}"
    typical = ""
    if verdict.claim.sense is Bound.TYPICAL:
        typical = " (a typical figure)"
    return f"{_figure(verdict)}, {margin}{typical} ({_place(verdict)})."


def _beyond_limit(verdict: Verdict) -> str:
    return f"{_figure(verdict)}, misses by {_margin(verdict)} ({_place(verdict)})."


_REASONS: dict[Reason, Callable[[Verdict], str]] = {
    Reason.NOT_MEASURED: lambda verdict: "not measured.",
    Reason.OTHER_CONDITIONS: _other_conditions,
    Reason.SPOILT_RECORDING: _spoilt_recording,
    Reason.NOT_CALIBRATED: _not_calibrated,
    Reason.SWEEP_ENDED_EARLY: _sweep_ended_early,
    Reason.TOO_CLOSE: _too_close,
    Reason.CHAIN_LIMITED: _chain_limited,
    Reason.REFERENCE_ASSUMED: _reference_assumed,
    Reason.REFERENCE_NOT_REACHED: _reference_not_reached,
    Reason.WITHIN_LIMIT: _within_limit,
    Reason.BEYOND_LIMIT: _beyond_limit,
}
