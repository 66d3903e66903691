"""How a response answers claims: its deviation over a range, and its gain."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from epidote.core.claims.answer import ClaimAnswer
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import GAIN, RESPONSE
from epidote.core.claims.condition_check import USUAL_BAND, USUAL_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.common.claim_answers import response_candidates


def _gain_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    for reading in evidence.channels("gain_1k"):
        check = ConditionCheck(claim, evidence)
        if claim.frequency is not None:
            check.frequency(float(reading.at.get("frequency_hz", USUAL_FREQUENCY)))
        yield check.candidate(reading)


def _settings(claim: Claim) -> dict[str, Any]:
    low, high = claim.frequency or USUAL_BAND[0], claim.frequency_high or USUAL_BAND[1]
    return {"start_frequency": low, "stop_frequency": high}


ANSWERS = (
    ClaimAnswer((RESPONSE,), response_candidates, _settings, curves=("level",)),
    ClaimAnswer((GAIN,), _gain_candidates),
)
