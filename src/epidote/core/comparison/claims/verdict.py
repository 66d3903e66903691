"""Whether a unit meets a published figure: met, not met, or not shown, with margin and uncertainty, and what would
show it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from epidote.core.comparison.claims.candidates import candidates_for
from epidote.core.comparison.claims.claim import RATIOS, Bound, Claim, ClaimedQuantity
from epidote.core.comparison.claims.condition_check import USUAL_BAND, Candidate
from epidote.core.comparison.claims.evidence import Evidence
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import Quantity as Amount
from epidote.core.quantities.units import QuantityError, convert, from_db, parse_as, to_db
from epidote.core.results.caution import Caution

_SURE = 2.0  # standard deviations: 95 % of a normal distribution
_TYPICAL_DB, _TYPICAL_SHARE = 1.0, 0.1  # how far a typical figure may be missed (common practice, no source)
_SPOILT = (Caution.CLIPPED, Caution.DROPOUT, Caution.STIMULUS_NOT_FOUND, Caution.WRONG_CHANNEL, Caution.NO_SIGNAL)
_MOSTLY_CHAIN = (Caution.NEAR_FLOOR, Caution.NOISE_DOMINATED)


class Outcome(StrEnum):
    MET = "met"
    NOT_MET = "not met"
    INCONCLUSIVE = "inconclusive"

    @classmethod
    def _missing_(cls, value: object) -> Outcome | None:
        return cls.INCONCLUSIVE if value == "not shown" else None  # as 0.1.0 wrote it before its release


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
        usual = (
            f" Assumed, since the claim does not say: {', '.join(self.assumed)}."
            if self.assumed and self.run is not None
            else ""
        )
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
    less = value - limit if upwards else limit - value
    return less, "dB" if unit.startswith("dB") else unit


def _check(claim: Claim, f: Candidate, offer: ProposedMeasurement) -> Verdict:
    spoilt = next((c for c in (*f.cautions, *map(Caution, f.evidence.cautions)) if c in _SPOILT), None)
    value = _in_unit(f.value, f.unit, claim.unit, f.evidence)
    if spoilt is not None or value is None:
        why = spoilt.words if spoilt is not None else f"this chain cannot give it in {claim.unit}; calibrate the chain."
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
    sides = []
    if claim.sense is Bound.TYPICAL:
        sides = [_typical(claim, value)]
    elif claim.sense is Bound.WITHIN:
        low = value if f.low is None else f.low
        sides += [(value, claim.high, False)] if claim.high is not None else []
        sides += [(low, claim.low, True)] if claim.low is not None else []
    else:
        upwards = claim.sense is Bound.AT_LEAST
        limit = claim.low if upwards else claim.high
        sides = [(value, limit, upwards)] if limit is not None else []
    judged = [(*_margin(v, limit, claim.unit, upwards=upwards), v, limit, upwards) for v, limit, upwards in sides]
    margin, unit, v, limit, upwards = min(judged, key=lambda j: j[0])
    edge = (
        _margin(limit + (-doubt if upwards else doubt), limit, claim.unit, upwards=upwards)[0]
        if doubt < abs(limit) or unit == claim.unit
        else -math.inf
    )
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
    stated = claim.high if claim.high is not None else claim.low or 0.0
    slack = _TYPICAL_DB if claim.unit.startswith("dB") else _TYPICAL_SHARE * abs(stated)
    if claim.claimed is ClaimedQuantity.SENSITIVITY and claim.unit == "V":
        slack = (from_db(_TYPICAL_DB) - 1) * abs(stated)
    if claim.claimed in (ClaimedQuantity.GAIN, ClaimedQuantity.SENSITIVITY):
        return (value, stated + slack, False) if value > stated else (value, stated - slack, True)
    worse_above = claim.claimed in (
        *RATIOS,
        ClaimedQuantity.NOISE,
        ClaimedQuantity.CROSSTALK,
        ClaimedQuantity.LATENCY,
        ClaimedQuantity.BALANCE,
    )
    if claim.unit in ("%", "ppm", "V") and claim.claimed is not ClaimedQuantity.OUTPUT:
        slack = (from_db(_TYPICAL_DB) - 1) * abs(stated)
    return (value, stated + slack, False) if worse_above else (value, stated - slack, True)


def _conclude(
    claim: Claim, f: Candidate, v: float, doubt: float, margin: float, unit: str, *, upwards: bool, edge: float
) -> tuple[Outcome, str]:
    named = ", ".join(f"{k} {v}" for k, v in f.evidence.conditions.items())
    where = f"channel {f.channel} of run {f.evidence.run}{f', {named}' if named else ''}"
    shown = format_quantity(v, claim.unit, digits=4, uncertainty=doubt or None)
    apart = format_quantity(abs(margin), unit, digits=3) if math.isfinite(margin) else ""
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
        typical = " (a typical figure)" if claim.sense is Bound.TYPICAL else ""
        return Outcome.MET, f"{found}, {'margin ' + apart if apart else 'far from the limit'}{typical} ({where})."
    if any(c in _MOSTLY_CHAIN for c in f.cautions):
        floor = "" if f.floor is None else f", baseline {_floor_words(f, claim)}"
        return Outcome.INCONCLUSIVE, f"{found} is chain-limited{floor} ({where}); a better chain is needed."
    return Outcome.NOT_MET, f"{found}, misses by {apart} ({where})."


def _floor_words(f: Candidate, claim: Claim) -> str:
    floor = _in_unit(f.floor or 0.0, f.unit, claim.unit, f.evidence)
    return format_quantity(floor, claim.unit, digits=3)


def offer_for(claim: Claim) -> ProposedMeasurement:
    """The procedure and the settings that measure what a claim says, under its own conditions."""
    frequency = claim.frequency
    band = (
        {"band_low": claim.band_low or USUAL_BAND[0], "band_high": claim.band_high or USUAL_BAND[1]}
        if claim.band_high
        else {}
    )
    weighting = {"weighting": claim.weighting} if claim.weighting in ("A", "468") else {}
    kind = claim.claimed
    if kind in (ClaimedQuantity.THD, ClaimedQuantity.THD_N) and claim.frequency_high is not None:
        level = {"level": claim.level} if claim.level else {}
        return ProposedMeasurement(
            "distortion-frequency",
            {"start_frequency": frequency, "stop_frequency": claim.frequency_high, **level, **band, **weighting},
        )
    if kind in (ClaimedQuantity.THD, ClaimedQuantity.THD_N, ClaimedQuantity.POWER, ClaimedQuantity.OUTPUT):
        stop = {"stop_at": max(5.0, claim.limit_percent)} if claim.limit_percent else {}
        return ProposedMeasurement(
            "distortion-level", {**({"frequency": frequency} if frequency else {}), **stop, **band, **weighting}
        )
    if kind is ClaimedQuantity.SINAD:
        return ProposedMeasurement("tone", {**({"frequency": frequency} if frequency else {}), **band, **weighting})
    if kind is ClaimedQuantity.RESPONSE:
        return ProposedMeasurement(
            "response",
            {"start_frequency": frequency or USUAL_BAND[0], "stop_frequency": claim.frequency_high or USUAL_BAND[1]},
        )
    if kind in (ClaimedQuantity.SNR, ClaimedQuantity.NOISE, ClaimedQuantity.DYNAMIC_RANGE):
        return ProposedMeasurement(
            "noise", {**({"reference_level": claim.level} if claim.level and _is_level(claim.level) else {}), **band}
        )
    if kind is ClaimedQuantity.CROSSTALK:
        return ProposedMeasurement(
            "crosstalk", {"frequency": frequency} if frequency and claim.frequency_high is None else {}
        )
    if kind is ClaimedQuantity.LATENCY:
        return ProposedMeasurement("latency", {})
    if kind in (ClaimedQuantity.MODULATION, ClaimedQuantity.DIFFERENCE):
        usual = (60.0, 7000.0, 4.0) if kind is ClaimedQuantity.MODULATION else (19000.0, 20000.0, 1.0)
        return ProposedMeasurement(
            "intermodulation",
            {"frequency_1": frequency or usual[0], "frequency_2": claim.frequency_high or usual[1], "ratio": usual[2]},
        )
    level = {"output_level": claim.level} if kind is ClaimedQuantity.SENSITIVITY and claim.level else {}
    return ProposedMeasurement("gain", {**({"frequency": frequency} if frequency else {}), **level})


def _is_level(text: str) -> bool:
    try:
        parse_as(text, "V")
    except QuantityError:
        return text.rstrip().endswith(("W", "dBFS"))
    return True
