"""How distortion over level answers claims: distortion at a level, and power or voltage at a distortion."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from epidote.core.claims.answer import ClaimAnswer, proposed_band
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import OUTPUT, POWER, THD, THD_N
from epidote.core.claims.condition_check import (
    USUAL_FREQUENCY,
    USUAL_LEVEL,
    USUAL_LIMIT,
    Candidate,
    ConditionCheck,
)
from epidote.core.claims.conditions import Condition, ConditionValue
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.common.claim_answers import (
    DISTORTION_KEYS,
    channel_count,
    check_noise_conditions,
    frequency_setting,
)
from epidote.core.quantities.units import to_db
from epidote.core.results.curve_features import last_x_below
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve

_LEAST_STOP_PERCENT = 5.0  # well above the limit, so that the sweep passes it


def _distortion_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    """Distortion at the claimed level, or at the usual power into a load."""
    if claim.frequency_high is not None:
        return
    key = DISTORTION_KEYS[claim.claimed]
    load = evidence.chain.load_ohms
    x_unit, level = "V", claim.level
    if load:
        x_unit, level = "W", claim.level or USUAL_LEVEL
    if not level:
        return
    volts = evidence.volts(level)
    if volts is None:
        return
    x = volts
    if load:
        x = volts**2 / load
    for curve in evidence.curves_of(key, x_unit):
        check = ConditionCheck(claim, evidence)
        check.frequency(_frequency(evidence))
        check.load()
        check_noise_conditions(check, key)
        if not claim.level:
            check.assume(Condition.LEVEL, ConditionValue(text=level))
        candidate = check.candidate_at(curve, x)
        if candidate is not None:
            yield candidate


def _output_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    """Yield the power or voltage at which the claimed distortion is reached."""
    limit = claim.limit_percent or USUAL_LIMIT
    x_unit = claim.claimed.units[0]
    for curve in evidence.curves_of(_limited_curve(evidence), x_unit):
        check = ConditionCheck(claim, evidence)
        check.frequency(_frequency(evidence))
        check.load()
        if claim.limit_percent is None:
            check.assume(Condition.DISTORTION_LIMIT, ConditionValue((limit,), "%"))
        measured_channels = channel_count(evidence)
        if claim.channels is not None and claim.channels > measured_channels:
            check.assume(Condition.CHANNELS, ConditionValue((float(measured_channels), float(claim.channels))))
        reading = _reading_at_limit(claim, evidence, curve, limit)
        if reading is not None:
            yield check.candidate(reading)
            continue
        reached = last_x_below(curve, to_db(limit / 100))
        if reached is not None:
            value, was_reached = reached
            yield Candidate(
                evidence,
                curve.channel,
                value,
                x_unit,
                mismatches=tuple(check.mismatches),
                assumed=tuple(check.assumed),
                open_above=not was_reached,
            )


def _frequency(evidence: Evidence) -> float:
    return float(evidence.settings.get("frequency", USUAL_FREQUENCY))


def _limited_curve(evidence: Evidence) -> str:
    """Return the curve on which the sweep watched the limit."""
    if str(evidence.settings.get("stop_on", "THD+N")) == "THD+N":
        return "thd_n"
    return "thd"


def _reading_at_limit(claim: Claim, evidence: Evidence, curve: Curve, limit: float) -> Reading | None:
    """Return the run's own reading for a limit, where it has one."""
    at_limits = {1.0: "at_1pct", 2.0: "at_2pct", float(evidence.settings.get("stop_at", 0)): "at_limit"}
    at_limit = at_limits.get(limit)
    if at_limit is None:
        return None
    quantity = "level"
    if claim.claimed is POWER:
        quantity = "power"
    readings = evidence.channels(f"{quantity}_{at_limit}")
    return next((reading for reading in readings if reading.channel == curve.channel), None)


def _settings(claim: Claim) -> dict[str, Any] | None:
    if claim.claimed in (THD, THD_N) and claim.frequency_high is not None:
        return None  # a range of frequencies takes a sweep over frequency
    stop = None
    if claim.limit_percent:
        stop = max(_LEAST_STOP_PERCENT, claim.limit_percent)
    return {**frequency_setting(claim), "stop_at": stop, **proposed_band(claim)}


ANSWERS = (
    ClaimAnswer((THD,), _distortion_candidates, _settings, curves=("thd",)),
    ClaimAnswer((THD_N,), _distortion_candidates, _settings, curves=("thd_n",)),
    ClaimAnswer((POWER, OUTPUT), _output_candidates, _settings, curves=("thd_n", "thd")),
)
