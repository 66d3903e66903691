"""How a measurement of gain answers claims of gain, channel balance and input sensitivity."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from epidote.core.claims.answer import ClaimAnswer
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import BALANCE, GAIN, SENSITIVITY, Bound
from epidote.core.claims.condition_check import USUAL_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.conditions import Condition, ConditionValue
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.common.claim_answers import frequency_setting
from epidote.core.quantities.units import from_db
from epidote.core.results.reading import Reading


def _gain_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    for reading in evidence.channels("gain"):
        yield _check(claim, evidence, reading).candidate(reading)


def _balance_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    """Yield the differences to channel 1; by their size where the claim is one limit for either side."""
    for reading in evidence.channels("balance"):
        if reading.channel == 1:
            continue
        value = reading.value or 0.0
        if claim.sense is not Bound.WITHIN:
            value = abs(value)
        yield _check(claim, evidence, reading).candidate(reading, value)


def _sensitivity_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    """Yield the input that brings the claimed output, by the measured gain."""
    level = claim.level or str(evidence.settings.get("output_level", ""))
    volts = evidence.volts(level)
    if volts is None:
        return
    for reading in evidence.channels("gain"):
        check = _check(claim, evidence, reading)
        if not claim.level:
            check.assume(Condition.OUTPUT_LEVEL, ConditionValue(text=level))
        value = volts / from_db(reading.value or 0.0)
        spread = value * evidence.spread(reading) * math.log(10) / 20  # dB to share: d(e^x) = e^x dx
        yield check.candidate(replace(reading, key="input", value=value, unit="V", spread=spread, floor=None))


def _check(claim: Claim, evidence: Evidence, reading: Reading) -> ConditionCheck:
    check = ConditionCheck(claim, evidence)
    check.frequency(float(reading.at.get("frequency_hz", USUAL_FREQUENCY)))
    return check


def _settings(claim: Claim) -> dict[str, Any]:
    return {**frequency_setting(claim), "output_level": None}


def _settings_for_sensitivity(claim: Claim) -> dict[str, Any]:
    return {**frequency_setting(claim), "output_level": claim.level or None}


ANSWERS = (
    ClaimAnswer((GAIN,), _gain_candidates, _settings),
    ClaimAnswer((BALANCE,), _balance_candidates, _settings),
    ClaimAnswer((SENSITIVITY,), _sensitivity_candidates, _settings_for_sensitivity),
)
