"""Whether a unit meets a published figure: met, not met, or not shown, with margin and uncertainty, and what would
show it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from epidote.core.claims.claim import RATIOS, Bound, Claim, ClaimedQuantity
from epidote.core.claims.condition_check import USUAL_BAND, Candidate
from epidote.core.claims.evidence import Evidence
from epidote.core.comparison.claims.candidates import candidates_for
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import Quantity as Amount
from epidote.core.quantities.units import QuantityError, convert, from_db, parse_as, to_db
from epidote.core.results.caution import Caution

_SURE = 2.0  # standard deviations: 95 % of a normal distribution
_TYPICAL_DB, _TYPICAL_SHARE = 1.0, 0.1  # how far a typical figure may be missed (common practice, no source)
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


@dataclass(frozen=True)
class ProposedMeasurement:
    """The measurement that would tell: a procedure with the claim's own conditions as settings."""

    procedure: str
    settings: Mapping[str, Any]


@dataclass(frozen=True)
class Verdict:
    """value and uncertainty (two standard deviations) in the claim's unit; margin: how much better than the limit,
    in ``margin_unit``; assumed: usual conditions where the claim names none.
    """

    claim: Claim
    outcome: Outcome
    why: str
    value: float | None = None
    uncertainty: float | None = None
    margin: float | None = None
    margin_unit: str = "dB"
    channel: int | None = None
    run: int | None = None
    procedure: str = ""
    assumed: tuple[str, ...] = ()
    offer: ProposedMeasurement | None = None

    @property
    def words(self) -> str:
        """The verdict in one sentence."""
        usual = ""
        if self.assumed and self.run is not None:
            usual = f" Assumed, since the claim does not say: {', '.join(self.assumed)}."
        return f"{self.outcome[0].upper()}{self.outcome[1:]}: {self.why}{usual}"


def judge(claim: Claim, evidence: list[Evidence]) -> Verdict:
    """Hold a claim against the runs of its unit.

    The worst channel of the fitting run counts; of several runs the one under the most usual conditions, of the unit's
    first row, and the latest.
    """
    there = candidates_for(claim, evidence)
    fitting = [f for f in there if not f.unlike]
    offer = offer_for(claim)
    if not fitting:
        if not there:
            return Verdict(claim, Outcome.INCONCLUSIVE, "not measured.", offer=offer, procedure=offer.procedure)
        near = min(there, key=lambda f: len(f.unlike))
        return Verdict(
            claim,
            Outcome.INCONCLUSIVE,
            f"measured only under other conditions ({'; '.join(near.unlike)}).",
            offer=offer,
            procedure=near.evidence.procedure,
        )
    best = min(fitting, key=lambda f: (f.unusual, f.evidence.place, len(f.assumed), f.spread, -f.evidence.run)).evidence
    verdicts = [_check(claim, f, offer) for f in fitting if f.evidence is best]
    order = {Outcome.NOT_MET: 0, Outcome.INCONCLUSIVE: 1, Outcome.MET: 2}
    return min(verdicts, key=lambda v: (order[v.outcome], v.margin if v.margin is not None else math.inf))


def _in_unit(value: float, unit: str, wanted: str, evidence: Evidence) -> float | None:
    """A figure in the claim's unit: ratios in dB to %, volts to levels, seconds to samples."""
    if unit == wanted:
        return value
    if wanted in ("%", "ppm") and unit == "dB":
        return from_db(value) * (100 if wanted == "%" else 1e6)
    try:
        return convert(Amount(value, unit), wanted, evidence.chain.conversion()).value
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
    """(value, limit, whether the value must be above it) for each limit of a claim; ``low``: the least value, where
    it is a range.
    """
    if claim.sense is Bound.TYPICAL:
        return [_typical(claim, value)]
    if claim.sense is Bound.WITHIN:
        both = ((value, claim.high, False), (low, claim.low, True))
        return [(v, limit, upwards) for v, limit, upwards in both if limit is not None]
    upwards = claim.sense is Bound.AT_LEAST
    limit = claim.low if upwards else claim.high
    return [] if limit is None else [(value, limit, upwards)]


def _check(claim: Claim, f: Candidate, offer: ProposedMeasurement) -> Verdict:
    spoilt = next((c for c in (*f.cautions, *map(Caution, f.evidence.cautions)) if c in _SPOILT), None)
    value = _in_unit(f.value, f.unit, claim.unit, f.evidence)
    if spoilt is not None or value is None:
        if spoilt is not None:
            why = spoilt.words
        else:
            why = f"this chain cannot give it in {claim.unit}; calibrate the chain."
        return Verdict(
            claim,
            Outcome.INCONCLUSIVE,
            why[0].lower() + why[1:],
            channel=f.channel,
            run=f.evidence.run,
            procedure=f.evidence.procedure,
            offer=offer,
        )
    beyond = _in_unit(f.value + f.spread, f.unit, claim.unit, f.evidence)
    doubt = _SURE * abs((beyond if beyond is not None else value) - value)
    sides = _sides(claim, value, value if f.low is None else f.low)
    judged = [(*_margin(v, limit, claim.unit, upwards=upwards), v, limit, upwards) for v, limit, upwards in sides]
    margin, unit, v, limit, upwards = min(judged, key=lambda j: j[0])
    edge = -math.inf
    if doubt < abs(limit) or unit == claim.unit:
        edge = _margin(limit + (-doubt if upwards else doubt), limit, claim.unit, upwards=upwards)[0]
    outcome, why = _conclude(claim, f, v, doubt, margin, unit, upwards=upwards, edge=abs(edge))
    given = margin if math.isfinite(margin) else None
    return Verdict(
        claim,
        outcome,
        why,
        v,
        doubt,
        given,
        unit,
        f.channel,
        f.evidence.run,
        f.evidence.procedure,
        f.assumed,
        offer if outcome is Outcome.INCONCLUSIVE else None,
    )


def _typical(claim: Claim, value: float) -> tuple[float, float, bool]:
    """A typical figure may be missed by a little on its worse side; gain and sensitivity, which have none, on
    either.
    """
    if claim.high is not None:
        stated = claim.high
    else:
        stated = claim.low or 0.0
    if claim.unit.startswith("dB"):
        slack = _TYPICAL_DB
    else:
        slack = _TYPICAL_SHARE * abs(stated)
    if claim.claimed is ClaimedQuantity.SENSITIVITY and claim.unit == "V":
        slack = (from_db(_TYPICAL_DB) - 1) * abs(stated)
    if claim.claimed in (ClaimedQuantity.GAIN, ClaimedQuantity.SENSITIVITY):
        if value > stated:
            return (value, stated + slack, False)
        return (value, stated - slack, True)
    worse_above = claim.claimed in (
        *RATIOS,
        ClaimedQuantity.NOISE,
        ClaimedQuantity.CROSSTALK,
        ClaimedQuantity.LATENCY,
        ClaimedQuantity.BALANCE,
    )
    if claim.unit in ("%", "ppm", "V") and claim.claimed is not ClaimedQuantity.OUTPUT:
        slack = (from_db(_TYPICAL_DB) - 1) * abs(stated)
    if worse_above:
        return (value, stated + slack, False)
    return (value, stated - slack, True)


def _conclude(
    claim: Claim, f: Candidate, v: float, doubt: float, margin: float, unit: str, *, upwards: bool, edge: float
) -> tuple[Outcome, str]:
    named = ", ".join(f"{k} {v}" for k, v in f.evidence.conditions.items())
    where = f"channel {f.channel} of run {f.evidence.run}{f', {named}' if named else ''}"
    shown = format_quantity(v, claim.unit, digits=4, uncertainty=doubt or None)
    apart = ""
    if math.isfinite(margin):
        apart = format_quantity(abs(margin), unit, digits=3)
    found = shown
    if doubt > max(0.0, 1e-3 * abs(v)):
        found += f" ±{format_quantity(doubt, claim.unit, digits=2, uncertainty=doubt / 10)}"
    if f.open_above and upwards and margin < 0:
        return (
            Outcome.INCONCLUSIVE,
            (
                f"the level sweep ended at {found} before the distortion limit was reached ({where}); raise the stop"
                " level."
            ),
        )
    if abs(margin) <= edge and margin != 0 and doubt > 0:
        return Outcome.INCONCLUSIVE, f"{found} is too close to the limit to decide ({where})."
    if margin >= 0:
        if claim.sense is Bound.TYPICAL:
            typical = " (a typical figure)"
        else:
            typical = ""
        return Outcome.MET, f"{found}, {'margin ' + apart if apart else 'far from the limit'}{typical} ({where})."
    if any(c in _MOSTLY_CHAIN for c in f.cautions):
        if f.floor is None:
            floor = ""
        else:
            floor = f", baseline {_floor_words(f, claim)}"
        return Outcome.INCONCLUSIVE, f"{found} is chain-limited{floor} ({where}); a better chain is needed."
    return Outcome.NOT_MET, f"{found}, misses by {apart} ({where})."


def _floor_words(f: Candidate, claim: Claim) -> str:
    floor = _in_unit(f.floor or 0.0, f.unit, claim.unit, f.evidence)
    return format_quantity(floor, claim.unit, digits=3)


def offer_for(claim: Claim) -> ProposedMeasurement:
    """The procedure and the settings that measure what a claim says, under its own conditions."""
    offer = _OFFERS.get(claim.claimed, _offer_gain)
    procedure, settings = offer(claim)
    return ProposedMeasurement(procedure, {name: value for name, value in settings.items() if value is not None})


_Offered = tuple[str, dict[str, Any]]  # a procedure and its settings; None for those that stay as they are


def _conditions_of_measurement(claim: Claim) -> dict[str, Any]:
    found: dict[str, Any] = {"weighting": claim.weighting if claim.weighting in ("A", "468") else None}
    if claim.band_high:
        found |= {"band_low": claim.band_low or USUAL_BAND[0], "band_high": claim.band_high}
    return found


def _offer_distortion(claim: Claim) -> _Offered:
    conditions = _conditions_of_measurement(claim)
    if claim.claimed in (ClaimedQuantity.THD, ClaimedQuantity.THD_N) and claim.frequency_high is not None:
        span = {"start_frequency": claim.frequency, "stop_frequency": claim.frequency_high}
        return "distortion-frequency", {**span, "level": claim.level or None, **conditions}
    stop = max(5.0, claim.limit_percent) if claim.limit_percent else None
    return "distortion-level", {"frequency": claim.frequency or None, "stop_at": stop, **conditions}


def _offer_tone(claim: Claim) -> _Offered:
    return "tone", {"frequency": claim.frequency or None, **_conditions_of_measurement(claim)}


def _offer_response(claim: Claim) -> _Offered:
    low, high = claim.frequency or USUAL_BAND[0], claim.frequency_high or USUAL_BAND[1]
    return "response", {"start_frequency": low, "stop_frequency": high}


def _offer_noise(claim: Claim) -> _Offered:
    level = claim.level if claim.level and _is_level(claim.level) else None
    return "noise", {"reference_level": level, **_conditions_of_measurement(claim), "weighting": None}


def _offer_crosstalk(claim: Claim) -> _Offered:
    return "crosstalk", {"frequency": claim.frequency if claim.frequency and claim.frequency_high is None else None}


def _offer_latency(_: Claim) -> _Offered:
    return "latency", {}


def _offer_two_tones(claim: Claim) -> _Offered:
    first, second, ratio = (19000.0, 20000.0, 1.0)
    if claim.claimed is ClaimedQuantity.MODULATION:
        first, second, ratio = (60.0, 7000.0, 4.0)
    pair = {"frequency_1": claim.frequency or first, "frequency_2": claim.frequency_high or second, "ratio": ratio}
    return "intermodulation", pair


def _offer_gain(claim: Claim) -> _Offered:
    level = claim.level if claim.claimed is ClaimedQuantity.SENSITIVITY else ""
    return "gain", {"frequency": claim.frequency or None, "output_level": level or None}


_OFFERS = {
    ClaimedQuantity.THD: _offer_distortion,
    ClaimedQuantity.THD_N: _offer_distortion,
    ClaimedQuantity.POWER: _offer_distortion,
    ClaimedQuantity.OUTPUT: _offer_distortion,
    ClaimedQuantity.SINAD: _offer_tone,
    ClaimedQuantity.RESPONSE: _offer_response,
    ClaimedQuantity.SNR: _offer_noise,
    ClaimedQuantity.NOISE: _offer_noise,
    ClaimedQuantity.DYNAMIC_RANGE: _offer_noise,
    ClaimedQuantity.CROSSTALK: _offer_crosstalk,
    ClaimedQuantity.LATENCY: _offer_latency,
    ClaimedQuantity.MODULATION: _offer_two_tones,
    ClaimedQuantity.DIFFERENCE: _offer_two_tones,
}


def _is_level(text: str) -> bool:
    try:
        parse_as(text, "V")
    except QuantityError:
        return text.rstrip().endswith(("W", "dBFS"))
    return True
