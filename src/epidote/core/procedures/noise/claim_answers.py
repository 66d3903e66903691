"""How noise without a signal answers claims of noise, SNR and dynamic range."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from epidote.core.claims.answer import ClaimAnswer, is_level, proposed_band
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import DYNAMIC_RANGE, NOISE, SNR
from epidote.core.claims.condition_check import Candidate, ConditionCheck
from epidote.core.claims.conditions import Condition, ConditionValue
from epidote.core.claims.evidence import Evidence

# By quantity and claimed weighting: the reading, and the weighting with which it is measured. A dynamic range that
# names no weighting means A (common practice, no source).
_READINGS = {
    NOISE: {"": ("noise", ""), "A": ("noise_a", "A"), "468": ("noise_468", "468")},
    SNR: {"": ("snr", ""), "A": ("snr_a", "A")},
    DYNAMIC_RANGE: {"": ("dynamic_range_a", "A"), "468": ("dynamic_range", "468")},
}


def _candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    by_weighting = _READINGS[claim.claimed]
    key, measured_weighting = by_weighting.get(claim.weighting, by_weighting[""])
    for reading in evidence.channels(key):
        check = ConditionCheck(claim, evidence)
        check.band_of(reading)
        if not claim.weighting and measured_weighting:
            check.assume(Condition.WEIGHTING, ConditionValue(text=measured_weighting))
        else:
            check.weighting(measured_weighting)
        if claim.claimed is SNR:
            check.reference_level(str(evidence.settings.get("reference_level", "")))
        yield check.candidate(reading)


def _settings(claim: Claim) -> dict[str, Any]:
    level = None
    if claim.level and is_level(claim.level):
        level = claim.level
    # every weighting is measured at once
    return {"reference_level": level, **proposed_band(claim), "weighting": None}


ANSWERS = (ClaimAnswer((SNR, NOISE, DYNAMIC_RANGE), _candidates, _settings),)
