"""The conditions of a run compared with those of a claim, and the figure that the run gives for it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from epidote.core.claims.claim import Claim
from epidote.core.claims.conditions import Assumption, Condition, ConditionMismatch, ConditionValue, hertz
from epidote.core.claims.evidence import Evidence
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.curve_features import curve_at, noise_uncertainty
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve

# Conditions where a claim names none: common practice, no source
USUAL_FREQUENCY = 1000.0  # Hz
USUAL_BAND = (20.0, 20000.0)  # Hz
USUAL_LIMIT = 1.0  # % of distortion
USUAL_LEVEL = "1 W"
# How far a condition may lie from the claim's: common practice, no source
SAME_FREQUENCY = 0.02  # share
_SAME_LEVEL_DB = 0.25
_SAME_LOAD = 0.02  # share
_SAME_BAND = 0.06  # share, at the upper limit
_SAME_LOWER_LIMIT = 0.5  # share: below 20 Hz there is seldom anything to tell limits apart
_NEAR_FLOOR_DB = 6.0  # a figure this close to the chain's own is in doubt


class Reference(StrEnum):
    """What is known of the level to which a ratio is referred.

    A ratio re a level that the unit never delivered says nothing about the unit.
    """

    KNOWN = "known"
    ASSUMED = "assumed"  # the claim does not state it
    NOT_REACHED = "not_reached"  # in no run of the unit did its output reach it


@dataclass(frozen=True)
class Candidate:
    """One channel's figure for a claim.

    value and spread in ``unit``; of a response value is the greatest deviation upwards and low the greatest downwards.
    floor: what the chain does itself. reference: of a ratio re a level. mismatches: conditions other than the claim's.
    assumed: those it does not name, of which ``unusual`` are not the usual ones. open_above: the figure is at least
    this, the limit was not reached.
    """

    evidence: Evidence
    channel: int
    value: float
    unit: str
    spread: float = 0.0
    floor: float | None = None
    low: float | None = None
    cautions: tuple[Caution, ...] = ()
    mismatches: tuple[ConditionMismatch, ...] = ()
    assumed: tuple[Assumption, ...] = ()
    unusual: int = 0
    open_above: bool = False
    reference: Reference = Reference.KNOWN


class ConditionCheck:
    """Collects in what a run differs from a claim, and what the claim left open."""

    def __init__(self, claim: Claim, evidence: Evidence) -> None:
        self.claim, self.evidence = claim, evidence
        self.mismatches: list[ConditionMismatch] = []
        self.assumed: list[Assumption] = []
        self.unusual = 0
        self.reference = Reference.KNOWN

    def differs(self, condition: Condition, measured: ConditionValue | None, claimed: ConditionValue) -> None:
        self.mismatches.append(ConditionMismatch(condition, measured, claimed))

    def assume(self, condition: Condition, value: ConditionValue) -> None:
        self.assumed.append(Assumption(condition, value))

    def load(self) -> None:
        claimed, measured = self.claim.load_ohms, self.evidence.chain.load_ohms
        measured_value = ConditionValue()
        if measured is not None:
            measured_value = ConditionValue((measured,), "Ω")
        if claimed is None:
            if measured is not None:
                self.assume(Condition.LOAD, measured_value)
        elif measured is None or abs(measured / claimed - 1) > _SAME_LOAD:
            self.differs(Condition.LOAD, measured_value, ConditionValue((claimed,), "Ω"))

    def frequency(self, measured: float) -> None:
        claimed = self.claim.frequency
        if claimed is None:
            self.assume(Condition.FREQUENCY, hertz(measured))
            self.unusual += abs(measured / USUAL_FREQUENCY - 1) > SAME_FREQUENCY
        elif abs(measured / claimed - 1) > SAME_FREQUENCY:
            self.differs(Condition.FREQUENCY, hertz(measured), hertz(claimed))

    def level(self, volts: float | None) -> None:
        """Compare the measured level at the unit's output with the claimed one."""
        if not self.claim.level:
            if volts is not None:
                self.assume(Condition.LEVEL, ConditionValue((volts,), "V"))
            return
        typed = ConditionValue(text=self.claim.level)
        claimed = self.evidence.volts(self.claim.level)
        if claimed is None or volts is None or volts <= 0:
            self.differs(Condition.LEVEL, None, typed)
        elif abs(to_db(volts / claimed)) > _SAME_LEVEL_DB:
            self.differs(Condition.LEVEL, ConditionValue((volts,), "V"), typed)

    def reference_level(self, text: str) -> None:
        """Compare the level to which a run's ratio is referred with that of the claim, and ask whether the unit ever
        delivered it. text: as it stands in the run's settings.
        """
        if not self.claim.level:
            self.assume(Condition.REFERENCE_LEVEL, ConditionValue(text=text))
            self.reference = Reference.ASSUMED
            return
        volts = None  # an uncalibrated chain knows no volts, whatever its settings say
        if self.evidence.chain.calibrated:
            volts = self.evidence.volts(text)
        self.level(volts)
        reached = self.evidence.highest_output()
        if volts is not None and (reached is None or to_db(reached / volts) < -_SAME_LEVEL_DB):
            self.reference = Reference.NOT_REACHED

    def band(self, low: object, high: object) -> None:
        if not isinstance(low, (int, float)) or not isinstance(high, (int, float)):
            return
        claim = self.claim
        if claim.band_high is None:
            self.assume(Condition.BANDWIDTH, hertz(high))
            self.unusual += abs(high / USUAL_BAND[1] - 1) > _SAME_BAND
            return
        upper_differs = abs(high / claim.band_high - 1) > _SAME_BAND
        lower_differs = claim.band_low is not None and abs(low / (claim.band_low or USUAL_BAND[0]) - 1) > (
            _SAME_LOWER_LIMIT
        )
        if upper_differs or lower_differs:
            self.differs(Condition.BANDWIDTH, hertz(high), hertz(claim.band_high))

    def band_of(self, reading: Reading) -> None:
        """Compare the bandwidth in which a reading was measured."""
        self.band(reading.at.get("band_low_hz"), reading.at.get("band_high_hz"))

    def weighting(self, measured: object) -> None:
        measured_name, claimed_name = _weighting_name(str(measured)), _weighting_name(self.claim.weighting)
        if claimed_name != measured_name:
            self.differs(Condition.WEIGHTING, ConditionValue(text=measured_name), ConditionValue(text=claimed_name))

    def candidate(self, reading: Reading, value: float | None = None) -> Candidate:
        """Return the figure of a reading, or ``value`` with the reading's unit and spread."""
        assert reading.value is not None
        if value is None:
            value = reading.value
        return Candidate(
            self.evidence,
            reading.channel,
            value,
            reading.unit,
            spread=self.evidence.spread(reading),
            floor=reading.floor,
            cautions=reading.cautions,
            mismatches=tuple(self.mismatches),
            assumed=tuple(self.assumed),
            unusual=self.unusual,
            reference=self.reference,
        )

    def candidate_at(self, curve: Curve, x: float) -> Candidate | None:
        """Return the figure of a curve at x; None outside the curve."""
        value = curve_at(curve, x)
        if value is None:
            return None
        floor = None
        if curve.floor is not None:
            floor = curve_at(Curve(curve.key, curve.channel, curve.x, curve.floor, curve.x_unit, curve.y_unit), x)
        near = floor is not None and value < floor + _NEAR_FLOOR_DB
        spread = 0.0
        if near:
            spread = float(noise_uncertainty(curve, np.array([x]))[0])
        return Candidate(
            self.evidence,
            curve.channel,
            value,
            curve.y_unit,
            spread=spread,
            floor=floor,
            cautions=caution_when(near, Caution.NEAR_FLOOR),
            mismatches=tuple(self.mismatches),
            assumed=tuple(self.assumed),
            unusual=self.unusual,
        )


def _weighting_name(text: str) -> str:
    """Return a weighting's name; none is written "none" or not at all."""
    if text == "none":
        return ""
    return text
