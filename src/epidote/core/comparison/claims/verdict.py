"""Whether a unit meets a published figure: met, not met, or inconclusive, with margin and uncertainty, and what
would show it. What it says is data; ``core.wording.verdicts`` makes the sentence.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import Better, Bound
from epidote.core.claims.condition_check import Candidate, Reference
from epidote.core.claims.conditions import Assumption, ConditionMismatch
from epidote.core.claims.evidence import Evidence
from epidote.core.comparison.claims.candidates import ProposedMeasurement, candidates_for, propose_measurement
from epidote.core.quantities.units import Quantity as Amount
from epidote.core.quantities.units import QuantityError, convert, from_db, to_db
from epidote.core.results.caution import Caution

_SURE = 2.0  # standard deviations: 95 % of a normal distribution
# how far a typical figure may be missed (common practice, no source)
_TYPICAL_DB = 1.0
_TYPICAL_SHARE = 0.1
_SPOILT = (Caution.CLIPPED, Caution.DROPOUT, Caution.STIMULUS_NOT_FOUND, Caution.WRONG_CHANNEL, Caution.NO_SIGNAL)
_MOSTLY_CHAIN = (Caution.NEAR_FLOOR, Caution.NOISE_DOMINATED)


class Outcome(StrEnum):
    """What measurements say of a claim."""

    MET = "met"
    NOT_MET = "not met"
    INCONCLUSIVE = "inconclusive"

    @classmethod
    def _missing_(cls, value: object) -> Outcome | None:
        # as 0.1.0 wrote it before its release
        if value == "not shown":
            return cls.INCONCLUSIVE
        return None


class Reason(StrEnum):
    """Why a verdict is what it is."""

    NOT_MEASURED = "not_measured"
    OTHER_CONDITIONS = "other_conditions"
    SPOILT_RECORDING = "spoilt_recording"
    NOT_CALIBRATED = "not_calibrated"  # the chain cannot give the figure in the claim's unit
    SWEEP_ENDED_EARLY = "sweep_ended_early"  # before the distortion limit was reached
    TOO_CLOSE = "too_close"  # the limit lies within the uncertainty
    CHAIN_LIMITED = "chain_limited"
    REFERENCE_ASSUMED = "reference_assumed"  # the claim does not say re which level
    REFERENCE_NOT_REACHED = "reference_not_reached"  # the unit never delivered the level it is referred to
    WITHIN_LIMIT = "within_limit"
    BEYOND_LIMIT = "beyond_limit"


_REFERENCE_REASONS = {
    Reference.ASSUMED: Reason.REFERENCE_ASSUMED,
    Reference.NOT_REACHED: Reason.REFERENCE_NOT_REACHED,
}


@dataclass(frozen=True)
class Verdict:
    """What the measurements say of a claim, and why.

    value, uncertainty (two standard deviations) and floor (of the chain alone) in the claim's unit. margin: how much
    better than the limit, in ``margin_unit``; None where it is beyond all measure. caution: what spoils the recording.
    mismatches: of the run that comes nearest to the claim's conditions. assumed: usual conditions where the claim
    names none. conditions: of the row that was judged.
    """

    claim: Claim
    outcome: Outcome
    reason: Reason
    value: float | None = None
    uncertainty: float | None = None
    margin: float | None = None
    margin_unit: str = "dB"
    floor: float | None = None
    channel: int | None = None
    run: int | None = None
    procedure: str = ""
    conditions: tuple[tuple[str, str], ...] = ()
    caution: Caution | None = None
    mismatches: tuple[ConditionMismatch, ...] = ()
    assumed: tuple[Assumption, ...] = ()
    proposal: ProposedMeasurement | None = None


def judge(claim: Claim, evidence: list[Evidence]) -> Verdict:
    """Compare a claim with the runs of its unit.

    The worst channel of the fitting run counts; of several runs the one under the most usual conditions, of the unit's
    first row, and the latest.
    """
    candidates = candidates_for(claim, evidence)
    fitting = [one for one in candidates if not one.mismatches]
    proposal = propose_measurement(claim)
    if not candidates:
        procedure = ""
        if proposal is not None:
            procedure = proposal.procedure
        return Verdict(claim, Outcome.INCONCLUSIVE, Reason.NOT_MEASURED, procedure=procedure, proposal=proposal)
    if not fitting:
        nearest = min(candidates, key=lambda one: len(one.mismatches))
        return Verdict(
            claim,
            Outcome.INCONCLUSIVE,
            Reason.OTHER_CONDITIONS,
            procedure=nearest.evidence.procedure,
            mismatches=nearest.mismatches,
            proposal=proposal,
        )
    best = min(fitting, key=_order_of_preference).evidence
    verdicts = [_check(claim, one, proposal) for one in fitting if one.evidence is best]
    severity = {Outcome.NOT_MET: 0, Outcome.INCONCLUSIVE: 1, Outcome.MET: 2}
    return min(verdicts, key=lambda v: (severity[v.outcome], v.margin if v.margin is not None else math.inf))


def _order_of_preference(one: Candidate) -> tuple[float, ...]:
    """Return the most usual conditions first, then the unit's first row, fewest assumptions, least spread, latest
    run.
    """
    return (one.unusual, one.evidence.place, len(one.assumed), one.spread, -one.evidence.run)


def _in_unit(value: float, unit: str, target: str, evidence: Evidence) -> float | None:
    """Return a figure in the claim's unit: ratios in dB to %, volts to levels, seconds to samples."""
    if unit == target:
        return value
    if target in ("%", "ppm") and unit == "dB":
        return from_db(value) * {"%": 100, "ppm": 1e6}[target]
    try:
        return convert(Amount(value, unit), target, evidence.chain.conversion()).value
    except QuantityError:
        return None


def _margin(value: float, limit: float, unit: str, *, upwards: bool) -> tuple[float, str]:
    """How far a value lies on the good side of a limit; upwards: greater is better."""
    if unit in ("%", "ppm", "V", "W"):
        if value <= 0 or limit <= 0:
            return (math.inf, "dB")
        ratio = to_db(value / limit) / (2 if unit == "W" else 1)
        return (ratio if upwards else -ratio), "dB"
    if upwards:
        less = value - limit
    else:
        less = limit - value
    return less, "dB" if unit.startswith("dB") else unit


def _sides(claim: Claim, value: float, low: float) -> list[tuple[float, float, bool]]:
    """(value, limit, whether the value must be above it) for each limit of a claim.

    ``low``: the least value, where it is a range.
    """
    if claim.sense is Bound.TYPICAL:
        return [_typical(claim, value)]
    if claim.sense is Bound.WITHIN:
        both = ((value, claim.high, False), (low, claim.low, True))
        return [(v, limit, upwards) for v, limit, upwards in both if limit is not None]
    upwards = claim.sense is Bound.AT_LEAST
    limit = claim.low if upwards else claim.high
    return [] if limit is None else [(value, limit, upwards)]


def _check(claim: Claim, one: Candidate, proposal: ProposedMeasurement | None) -> Verdict:
    """Return the verdict on one channel's figure."""
    evidence = one.evidence
    value = _in_unit(one.value, one.unit, claim.unit, evidence)
    cautions = (*one.cautions, *map(Caution, evidence.cautions))
    spoilt = next((caution for caution in cautions if caution in _SPOILT), None)
    if spoilt is not None or value is None:
        reason = Reason.NOT_CALIBRATED
        if spoilt is not None:
            reason = Reason.SPOILT_RECORDING
        return Verdict(
            claim,
            Outcome.INCONCLUSIVE,
            reason,
            channel=one.channel,
            run=evidence.run,
            procedure=evidence.procedure,
            caution=spoilt,
            proposal=proposal,
        )
    beyond = _in_unit(one.value + one.spread, one.unit, claim.unit, evidence)
    if beyond is None:
        beyond = value
    uncertainty = _SURE * abs(beyond - value)
    lowest = value
    if one.low is not None:
        lowest = one.low
    sides = _sides(claim, value, lowest)
    judged = [(*_margin(v, limit, claim.unit, upwards=upwards), v, limit, upwards) for v, limit, upwards in sides]
    margin, margin_unit, judged_value, limit, upwards = min(judged, key=lambda j: j[0])
    # the margin of a figure that lies on the far edge of the uncertainty about the limit
    edge = -math.inf
    if uncertainty < abs(limit) or margin_unit == claim.unit:
        towards = limit + uncertainty
        if upwards:
            towards = limit - uncertainty
        edge = _margin(towards, limit, claim.unit, upwards=upwards)[0]
    outcome, reason = _conclude(one, uncertainty, margin, upwards=upwards, edge=abs(edge))
    return Verdict(
        claim,
        outcome,
        reason,
        value=judged_value,
        uncertainty=uncertainty,
        margin=margin if math.isfinite(margin) else None,
        margin_unit=margin_unit,
        floor=_floor(claim, one),
        channel=one.channel,
        run=evidence.run,
        procedure=evidence.procedure,
        conditions=tuple(evidence.conditions.items()),
        assumed=one.assumed,
        proposal=proposal if outcome is Outcome.INCONCLUSIVE and one.reference is Reference.KNOWN else None,
    )


def _floor(claim: Claim, one: Candidate) -> float | None:
    if one.floor is None:
        return None
    return _in_unit(one.floor, one.unit, claim.unit, one.evidence)


def _conclude(
    one: Candidate, uncertainty: float, margin: float, *, upwards: bool, edge: float
) -> tuple[Outcome, Reason]:
    if one.reference in _REFERENCE_REASONS:
        return Outcome.INCONCLUSIVE, _REFERENCE_REASONS[one.reference]
    if one.open_above and upwards and margin < 0:
        return Outcome.INCONCLUSIVE, Reason.SWEEP_ENDED_EARLY
    if abs(margin) <= edge and margin != 0 and uncertainty > 0:
        return Outcome.INCONCLUSIVE, Reason.TOO_CLOSE
    if margin >= 0:
        return Outcome.MET, Reason.WITHIN_LIMIT
    if any(caution in _MOSTLY_CHAIN for caution in one.cautions):
        return Outcome.INCONCLUSIVE, Reason.CHAIN_LIMITED
    return Outcome.NOT_MET, Reason.BEYOND_LIMIT


def _typical(claim: Claim, value: float) -> tuple[float, float, bool]:
    """Return the side of a typical figure, which may be missed by a little on its worse side.

    One without a better side on either.
    """
    quantity = claim.claimed
    stated = claim.low or 0.0
    if claim.high is not None:
        stated = claim.high
    if claim.unit.startswith("dB"):
        slack = _TYPICAL_DB
    elif claim.unit in ("%", "ppm", "V") and not quantity.typical_share:
        slack = (from_db(_TYPICAL_DB) - 1) * abs(stated)
    else:
        slack = _TYPICAL_SHARE * abs(stated)
    worse_above = quantity.better is Better.LESS
    if quantity.better is Better.NEITHER:
        worse_above = value > stated
    if worse_above:
        return (value, stated + slack, False)
    return (value, stated - slack, True)
