"""How a latency answers claims, which hold for a buffer and a sample rate."""

from __future__ import annotations

from collections.abc import Iterator

from epidote.core.claims.answer import ClaimAnswer
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import LATENCY
from epidote.core.claims.condition_check import Candidate, ConditionCheck
from epidote.core.claims.conditions import Condition, ConditionValue, hertz
from epidote.core.claims.evidence import Evidence

_SAME_RATE = 1e-3  # share


def _candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    for reading in evidence.channels("latency"):
        check = ConditionCheck(claim, evidence)
        _check_buffer(check)
        _check_rate(check)
        yield check.candidate(reading)


def _check_buffer(check: ConditionCheck) -> None:
    measured, claimed = check.evidence.buffer, check.claim.buffer
    measured_value = ConditionValue()
    if measured:
        measured_value = ConditionValue((float(measured),))
    if claimed is None:
        if measured is not None:
            check.assume(Condition.BUFFER, measured_value)
    elif measured != claimed:
        check.differs(Condition.BUFFER, measured_value, ConditionValue((float(claimed),)))


def _check_rate(check: ConditionCheck) -> None:
    measured, claimed = check.evidence.chain.rate, check.claim.rate
    if claimed is None:
        check.assume(Condition.RATE, hertz(measured))
    elif abs(measured / claimed - 1) > _SAME_RATE:
        check.differs(Condition.RATE, hertz(measured), hertz(claimed))


ANSWERS = (ClaimAnswer((LATENCY,), _candidates, lambda claim: {}, curves=("latency_by_shot",)),)
