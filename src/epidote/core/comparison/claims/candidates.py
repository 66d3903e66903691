"""What runs say about a claimed quantity, and which measurement would tell: asked of the procedures, which declare
how they answer.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from epidote.core.claims.answer import ClaimAnswer
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import ClaimedQuantity
from epidote.core.claims.condition_check import Candidate
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.registry import procedures


@dataclass(frozen=True)
class ProposedMeasurement:
    """The measurement that would tell: a procedure with the claim's own conditions as settings."""

    procedure: str
    settings: Mapping[str, Any]


def answers_to(quantity: ClaimedQuantity) -> Iterator[tuple[str, ClaimAnswer]]:
    """Yield the key of each procedure that answers claims of a quantity, and how it does."""
    for key, procedure in procedures().items():
        for answer in procedure.answers:
            if quantity in answer.quantities:
                yield key, answer


def candidates_for(claim: Claim, evidence: list[Evidence]) -> list[Candidate]:
    """Every figure there is for a claim, whatever its conditions."""
    answers = dict(answers_to(claim.claimed))
    candidates: list[Candidate] = []
    for run in evidence:
        answer = answers.get(run.procedure)
        if answer is not None:
            candidates.extend(answer.candidates(claim, run))
    return candidates


def propose_measurement(claim: Claim) -> ProposedMeasurement | None:
    """Return the procedure and the settings that measure what a claim says, under its own conditions."""
    for key, answer in answers_to(claim.claimed):
        settings = answer.settings(claim)
        if settings is not None:
            given = {name: value for name, value in settings.items() if value is not None}
            return ProposedMeasurement(key, given)
    return None
