"""What several procedures share in answering published figures."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import SINAD, THD, THD_N, ClaimedQuantity
from epidote.core.claims.condition_check import USUAL_BAND, USUAL_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.conditions import Condition, hertz
from epidote.core.claims.evidence import Evidence
from epidote.core.results.curve_features import curve_at, noise_uncertainty
from epidote.core.results.result import Curve

_ROUNDING = 0.001  # share by which a curve may begin or end inside a claimed range
DISTORTION_KEYS: dict[ClaimedQuantity, str] = {THD: "thd", THD_N: "thd_n", SINAD: "sinad"}


def check_noise_conditions(check: ConditionCheck, key: str) -> None:
    """Band and weighting of the settings, where the quantity contains noise."""
    settings = check.evidence.settings
    if key == "thd":
        return
    check.band(settings.get("band_low"), settings.get("band_high"))
    check.weighting(settings.get("weighting", "none"))


def channel_count(evidence: Evidence) -> int:
    """How many channels a run has measured."""
    return len({reading.channel for reading in evidence.readings})


def response_candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    """How far each channel's level deviates from that at 1 kHz, over the claimed range."""
    for curve in evidence.curves_of("level", "Hz"):
        candidate = _deviation(claim, evidence, curve)
        if candidate is not None:
            yield candidate


def _deviation(claim: Claim, evidence: Evidence, curve: Curve) -> Candidate | None:
    check = ConditionCheck(claim, evidence)
    low = claim.frequency or USUAL_BAND[0]
    high = claim.frequency_high or claim.frequency or USUAL_BAND[1]
    if claim.frequency is None:
        check.assume(Condition.RANGE, hertz(*USUAL_BAND))
    if claim.load_ohms is not None:
        check.load()
    if curve.x[0] > low * (1 + _ROUNDING) or curve.x[-1] < high / (1 + _ROUNDING):
        check.differs(Condition.RANGE, hertz(curve.x[0], curve.x[-1]), hertz(low, high))
    reference_frequency = math.sqrt(low * high)
    if low <= USUAL_FREQUENCY <= high:
        reference_frequency = USUAL_FREQUENCY
    reference = curve_at(curve, reference_frequency)
    inside = (curve.x >= low) & (curve.x <= high)
    if reference is None or not inside.any():
        return None
    at_ends = {x: level for x in (low, high) if (level := curve_at(curve, x)) is not None}
    places = np.append(curve.x[inside], list(at_ends))
    deviations = np.append(curve.y[inside], list(at_ends.values())) - reference
    # what the noise may add or take where the curve lies farthest off
    extremes = np.array([places[int(np.argmin(deviations))], places[int(np.argmax(deviations))]])
    spread = max(
        float(noise_uncertainty(curve, extremes).max()), evidence.spreads.get(("flatness", curve.channel), 0.0)
    )
    return Candidate(
        evidence,
        curve.channel,
        float(deviations.max()),
        "dB",
        spread=spread,
        low=float(deviations.min()),
        mismatches=tuple(check.mismatches),
        assumed=tuple(check.assumed),
    )


def frequency_setting(claim: Claim) -> dict[str, Any]:
    """Return the claimed frequency as a setting."""
    return {"frequency": claim.frequency or None}
