"""How crosstalk answers claims: at one frequency, or the worst of a range."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from epidote.core.claims.answer import ClaimAnswer, greatest_in_range
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import CROSSTALK
from epidote.core.claims.condition_check import SAME_FREQUENCY, USUAL_BAND, USUAL_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.evidence import Evidence
from epidote.core.results.reading import Reading


def _candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    if claim.frequency_high is None:
        candidates = (_at_one_frequency(claim, evidence, reading) for reading in evidence.channels("crosstalk"))
    else:
        low, high = claim.frequency or USUAL_BAND[0], claim.frequency_high
        curves = evidence.curves_of("crosstalk", "Hz")
        candidates = (greatest_in_range(ConditionCheck(claim, evidence), curve, low, high) for curve in curves)
    for candidate in candidates:
        if candidate is not None:
            yield candidate


def _at_one_frequency(claim: Claim, evidence: Evidence, reading: Reading) -> Candidate | None:
    """Return the reading where it is at the claimed frequency, else the channel's curve."""
    measured = float(reading.at.get("frequency_hz", USUAL_FREQUENCY))
    check = ConditionCheck(claim, evidence)
    if claim.frequency is None or abs(measured / claim.frequency - 1) <= SAME_FREQUENCY:
        check.frequency(measured)
        return check.candidate(reading)
    curves = evidence.curves_of("crosstalk", "Hz")
    curve = next((one for one in curves if one.channel == reading.channel), None)
    if curve is None:
        return None
    return check.candidate_at(curve, claim.frequency)


def _settings(claim: Claim) -> dict[str, Any]:
    frequency = None
    if claim.frequency and claim.frequency_high is None:
        frequency = claim.frequency
    return {"frequency": frequency}


ANSWERS = (ClaimAnswer((CROSSTALK,), _candidates, _settings, curves=("crosstalk",)),)
