"""How distortion over frequency answers claims: at one frequency, or the worst of a range."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from epidote.core.claims.answer import ClaimAnswer, greatest_in_range, proposed_band
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import THD, THD_N
from epidote.core.claims.condition_check import USUAL_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.common.claim_answers import DISTORTION_KEYS, check_noise_conditions


def _candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    key = DISTORTION_KEYS[claim.claimed]
    level = str(evidence.settings.get("level", ""))
    volts = None
    if level:
        volts = evidence.volts(level)
    for curve in evidence.curves_of(key, "Hz"):
        check = ConditionCheck(claim, evidence)
        check.level(volts)
        check.load()
        check_noise_conditions(check, key)
        if claim.frequency_high is None or claim.frequency is None:
            frequency = claim.frequency or USUAL_FREQUENCY
            check.frequency(frequency)
            candidate = check.candidate_at(curve, frequency)
        else:
            candidate = greatest_in_range(check, curve, claim.frequency, claim.frequency_high)
        if candidate is not None:
            yield candidate


def _settings(claim: Claim) -> dict[str, Any] | None:
    if claim.frequency_high is None:
        return None  # one frequency takes a sweep over level
    span = {"start_frequency": claim.frequency, "stop_frequency": claim.frequency_high}
    return {**span, "level": claim.level or None, **proposed_band(claim)}


ANSWERS = (
    ClaimAnswer((THD,), _candidates, _settings, curves=("thd",)),
    ClaimAnswer((THD_N,), _candidates, _settings, curves=("thd_n",)),
)
