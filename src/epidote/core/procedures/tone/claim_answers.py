"""How a single tone answers claims of distortion."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from epidote.core.claims.answer import ClaimAnswer, proposed_band
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import SINAD, THD, THD_N
from epidote.core.claims.condition_check import USUAL_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.common.claim_answers import DISTORTION_KEYS, frequency_setting
from epidote.core.results.reading import Reading


def _candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    if claim.frequency_high is not None:
        return
    key = DISTORTION_KEYS[claim.claimed]
    for reading in evidence.channels(key):
        check = ConditionCheck(claim, evidence)
        check.frequency(float(reading.at.get("frequency_hz", 0)) or USUAL_FREQUENCY)
        check.level(_output_volts(evidence, reading))
        check.load()
        if key != "thd":
            check.band_of(reading)
            check.weighting(evidence.settings.get("weighting", "none"))
        yield check.candidate(reading)


def _output_volts(evidence: Evidence, reading: Reading) -> float | None:
    """Return the level at which a reading was taken; None without a calibrated chain."""
    level = next((one for one in evidence.channels("level") if one.channel == reading.channel), None)
    if level is None or level.unit != "V":
        return None
    return level.value


def _settings(claim: Claim) -> dict[str, Any]:
    return frequency_setting(claim) | proposed_band(claim)


ANSWERS = (
    # a sweep over levels shows distortion at every level, so it is proposed instead
    ClaimAnswer((THD, THD_N), _candidates),
    ClaimAnswer((SINAD,), _candidates, _settings),
)
