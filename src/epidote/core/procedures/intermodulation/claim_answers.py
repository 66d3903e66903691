"""How two tones answer claims of modulation and difference-frequency distortion."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from epidote.core.claims.answer import ClaimAnswer
from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import DIFFERENCE, MODULATION, ClaimedQuantity
from epidote.core.claims.condition_check import SAME_FREQUENCY, Candidate, ConditionCheck
from epidote.core.claims.conditions import Condition, hertz
from epidote.core.claims.evidence import Evidence
from epidote.core.results.reading import Reading


@dataclass(frozen=True)
class _TwoTones:
    """The readings that answer, the usual pair of tones (IEC 60268-3) in Hz and the ratio of their amplitudes."""

    keys: tuple[str, ...]
    frequencies: tuple[float, float]
    ratio: float


_BY_QUANTITY: dict[ClaimedQuantity, _TwoTones] = {
    MODULATION: _TwoTones(("modulation_distortion",), (60.0, 7000.0), 4.0),
    DIFFERENCE: _TwoTones(("difference_d2", "difference_d3"), (19000.0, 20000.0), 1.0),
}


def _claimed_tones(claim: Claim) -> tuple[float, float]:
    usual = _BY_QUANTITY[claim.claimed].frequencies
    return claim.frequency or usual[0], claim.frequency_high or usual[1]


def _candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
    keys = _BY_QUANTITY[claim.claimed].keys
    for channel in sorted({reading.channel for reading in evidence.readings}):
        readings = [one for key in keys for one in evidence.channels(key) if one.channel == channel]
        if not readings:
            continue
        worst = max(readings, key=lambda one: one.value or -math.inf)
        check = ConditionCheck(claim, evidence)
        _check_tones(check, worst)
        check.level(_level_of_both(evidence, channel))
        check.load()
        yield check.candidate(worst)


def _check_tones(check: ConditionCheck, reading: Reading) -> None:
    measured = (float(reading.at.get("frequency_1_hz", 0)), float(reading.at.get("frequency_2_hz", 0)))
    claimed = _claimed_tones(check.claim)
    if any(abs(a / b - 1) > SAME_FREQUENCY for a, b in zip(measured, claimed, strict=True)):
        check.differs(Condition.TONES, hertz(*measured), hertz(*claimed))
    elif check.claim.frequency is None:
        check.assume(Condition.TONES, hertz(*claimed))


def _level_of_both(evidence: Evidence, channel: int) -> float | None:
    """RMS voltage of both tones together; None without a calibrated chain."""
    levels = [
        reading.value
        for key in ("level_1", "level_2")
        for reading in evidence.channels(key)
        if reading.channel == channel and reading.value and reading.unit == "V"
    ]
    if len(levels) != 2:
        return None
    return math.hypot(*levels)


def _settings(claim: Claim) -> dict[str, Any]:
    first, second = _claimed_tones(claim)
    return {"frequency_1": first, "frequency_2": second, "ratio": _BY_QUANTITY[claim.claimed].ratio}


ANSWERS = (ClaimAnswer((MODULATION, DIFFERENCE), _candidates, _settings),)
