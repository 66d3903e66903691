"""A run's conditions against a claim's: what is unlike, what the claim left open, and the figure that comes of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.claims.claim import Claim
from epidote.core.claims.evidence import Evidence
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.curve_features import curve_at, noise_uncertainty
from epidote.core.results.result import Curve, Reading

USUAL_FREQUENCY, USUAL_BAND, USUAL_LIMIT, USUAL_LEVEL = (
    1000.0,
    (20.0, 20000.0),
    1.0,
    "1 W",
)  # common practice, no source
SAME_FREQUENCY, _SAME_LEVEL_DB, _SAME_LOAD, _SAME_BAND = 0.02, 0.25, 0.02, 0.06


@dataclass(frozen=True)
class Candidate:
    """One channel's figure for a claim. value and spread in ``unit``; of a response value is the greatest deviation
    upwards and low the greatest downwards; floor: what the chain does itself. unlike: conditions other than the
    claim's; assumed: those it did not name, of which ``unusual`` are not the usual ones.
    """

    evidence: Evidence
    channel: int
    value: float
    unit: str
    spread: float = 0.0
    floor: float | None = None
    low: float | None = None
    cautions: tuple[Caution, ...] = ()
    unlike: tuple[str, ...] = ()
    assumed: tuple[str, ...] = ()
    unusual: int = 0
    open_above: bool = False  # the figure is at least this: the limit was not reached


class ConditionCheck:
    """Collects in what a run differs from a claim, and what the claim left open."""

    def __init__(self, claim: Claim, evidence: Evidence) -> None:
        self.claim, self.evidence = claim, evidence
        self.unlike: list[str] = []
        self.assumed: list[str] = []
        self.unusual = 0

    def say(self, what: str, measured: str, claimed: str) -> None:
        self.unlike.append(f"{what} {measured} instead of {claimed}")

    def load(self) -> None:
        wanted, there = self.claim.load_ohms, self.evidence.chain.load_ohms
        if wanted is None:
            if there is not None:
                self.assumed.append(format_quantity(there, "Ω", digits=3))
        elif there is None or abs(there / wanted - 1) > _SAME_LOAD:
            self.say(
                "load",
                format_quantity(there, "Ω", digits=3) if there else "none",
                format_quantity(wanted, "Ω", digits=3),
            )

    def frequency(self, measured: float) -> None:
        wanted = self.claim.frequency
        if wanted is None:
            self.assumed.append(format_quantity(measured, "Hz", digits=3))
            self.unusual += abs(measured / USUAL_FREQUENCY - 1) > SAME_FREQUENCY
        elif abs(measured / wanted - 1) > SAME_FREQUENCY:
            self.say("frequency", format_quantity(measured, "Hz", digits=3), format_quantity(wanted, "Hz", digits=3))

    def level(self, volts: float | None) -> None:
        """The measured level at the unit's output against the claimed one."""
        if not self.claim.level:
            if volts is not None:
                self.assumed.append(format_quantity(volts, "V", digits=3))
            return
        wanted = self.evidence.volts(self.claim.level)
        if wanted is None or volts is None or volts <= 0:
            self.unlike.append(f"level {self.claim.level} cannot be calculated with this chain")
        elif abs(to_db(volts / wanted)) > _SAME_LEVEL_DB:
            self.say("level", format_quantity(volts, "V", digits=3), self.claim.level)

    def band(self, low: object, high: object) -> None:
        if not isinstance(low, (int, float)) or not isinstance(high, (int, float)):
            return
        wanted = (self.claim.band_low or USUAL_BAND[0], self.claim.band_high or USUAL_BAND[1])
        if self.claim.band_high is None:
            self.assumed.append(f"bandwidth {format_quantity(high, 'Hz', digits=3)}")
            self.unusual += abs(high / USUAL_BAND[1] - 1) > _SAME_BAND
        differs = abs(high / wanted[1] - 1) > _SAME_BAND or (
            self.claim.band_low is not None and abs(low / wanted[0] - 1) > 0.5
        )
        if differs and self.claim.band_high is not None:
            self.say("bandwidth", format_quantity(high, "Hz", digits=3), format_quantity(wanted[1], "Hz", digits=3))

    def weighting(self, measured: object) -> None:
        there = {"none": ""}.get(str(measured), str(measured))
        wanted = {"none": ""}.get(self.claim.weighting, self.claim.weighting)
        if wanted != there:
            self.say("weighting", there or "none", wanted or "none")

    def of(self, reading: Reading) -> None:
        self.band(reading.at.get("band_low_hz"), reading.at.get("band_high_hz"))

    def told(self, reading: Reading, value: float | None = None, unit: str | None = None) -> Candidate:
        assert reading.value is not None
        return Candidate(
            self.evidence,
            reading.channel,
            reading.value if value is None else value,
            unit or reading.unit,
            self.evidence.spread(reading),
            reading.floor,
            None,
            reading.cautions,
            tuple(self.unlike),
            tuple(self.assumed),
            self.unusual,
        )

    def at_point(self, curve: Curve, x: float) -> Candidate | None:
        value = curve_at(curve, x)
        if value is None:
            return None
        if curve.floor is None:
            floor = None
        else:
            floor = curve_at(Curve(curve.key, curve.channel, curve.x, curve.floor, curve.x_unit, curve.y_unit), x)
        near = floor is not None and value < floor + 6
        doubt = float(noise_uncertainty(curve, np.array([x]))[0])
        return Candidate(
            self.evidence,
            curve.channel,
            value,
            curve.y_unit,
            doubt if near else 0.0,
            floor,
            None,
            caution_when(near, Caution.NEAR_FLOOR),
            tuple(self.unlike),
            tuple(self.assumed),
            self.unusual,
        )
