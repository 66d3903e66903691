"""How a procedure answers published figures: declared by the procedure, so that nothing else knows its keys."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import ClaimedQuantity
from epidote.core.claims.condition_check import USUAL_BAND, Candidate, ConditionCheck
from epidote.core.claims.conditions import Condition, hertz
from epidote.core.claims.evidence import Evidence
from epidote.core.quantities.units import QuantityError, parse_as, to_db
from epidote.core.results.result import Curve

Candidates = Callable[[Claim, Evidence], Iterator[Candidate]]
ProposedSettings = Callable[[Claim], Mapping[str, Any] | None]
# (x, y) corners of a line on a graph; None: right across
Line = tuple[tuple[float, ...] | None, tuple[float, ...] | None]

_EDGE = 0.03  # a point this share outside a range still belongs to it
_UNCOVERED = 0.06  # a curve that begins or ends this share inside a range does not cover it


def no_proposal(claim: Claim) -> None:
    """Propose nothing: another procedure measures such claims better."""


@dataclass(frozen=True)
class ClaimAnswer:
    """How a procedure answers claims of some quantities.

    candidates: every figure that a run of it gives for a claim, whatever its conditions. settings: those with which
    the procedure measures a claim under its own conditions (None: those that stay as they are); None where it does not
    measure such claims. curves: keys of the curves on whose graph the claim is drawn.
    """

    quantities: tuple[ClaimedQuantity, ...]
    candidates: Candidates
    settings: ProposedSettings = no_proposal
    curves: tuple[str, ...] = ()


def answer_by_reading(
    quantity: ClaimedQuantity, key: str, settings: ProposedSettings | None = None, curves: tuple[str, ...] = ()
) -> ClaimAnswer:
    """Yield the answer that one reading gives, whatever the conditions are."""

    def candidates(claim: Claim, evidence: Evidence) -> Iterator[Candidate]:
        for reading in evidence.channels(key):
            yield ConditionCheck(claim, evidence).candidate(reading)

    return ClaimAnswer((quantity,), candidates, settings or (lambda claim: {}), curves)


def greatest_in_range(check: ConditionCheck, curve: Curve, low: float, high: float) -> Candidate | None:
    """Return the greatest value of a curve in a range, which it must cover."""
    in_range = (curve.x >= low * (1 - _EDGE)) & (curve.x <= high * (1 + _EDGE)) & np.isfinite(curve.y)
    inside = np.flatnonzero(in_range)
    if inside.size == 0:
        return None
    if curve.x[0] > low * (1 + _UNCOVERED) or curve.x[-1] < high / (1 + _UNCOVERED):
        check.differs(Condition.RANGE, hertz(curve.x[0], curve.x[-1]), hertz(low, high))
    greatest = inside[int(np.argmax(curve.y[inside]))]
    return check.candidate_at(curve, float(curve.x[greatest]))


def proposed_band(claim: Claim) -> dict[str, Any]:
    """Weighting and band limits as the settings of a measurement."""
    weighting = None
    if claim.weighting in ("A", "468"):
        weighting = claim.weighting
    settings: dict[str, Any] = {"weighting": weighting}
    if claim.band_high:
        settings |= {"band_low": claim.band_low or USUAL_BAND[0], "band_high": claim.band_high}
    return settings


def is_level(text: str) -> bool:
    """Whether a text is a level that a setting can take."""
    try:
        parse_as(text, "V")
    except QuantityError:
        return text.rstrip().endswith(("W", "dBFS"))
    return True


def lines_on_graph(claim: Claim, x_unit: str, y_unit: str, at_1k: float | None) -> list[Line]:
    """Return the lines of a claim on a graph of curves that answer it.

    at_1k: what a response lies at there, in y's unit.
    """
    quantity = claim.claimed
    span = None
    if claim.frequency and claim.frequency_high:
        span = (claim.frequency, claim.frequency_high)
    if quantity.deviation:
        return _lines_of_deviation(claim, span, y_unit, at_1k)
    value = claim.low
    if claim.high is not None:
        value = claim.high
    assert value is not None
    if quantity.stated_at_distortion:
        return _line_across(claim, value, x_unit)
    if quantity.ratio and claim.unit in ("%", "ppm"):
        share = {"%": 0.01, "ppm": 1e-6}[claim.unit]
        value = to_db(value * share)
    elif claim.unit != y_unit:
        return []
    if span is not None and x_unit == "Hz":
        return [(span, (value, value))]
    return [(None, (value,))]


def _lines_of_deviation(claim: Claim, span: tuple[float, float] | None, y_unit: str, at_1k: float | None) -> list[Line]:
    if at_1k is None or y_unit not in ("dB", "dBV", "dBFS", "dB SPL"):
        return []
    band = span or USUAL_BAND
    return [(band, (at_1k + limit, at_1k + limit)) for limit in (claim.high, claim.low) if limit is not None]


def _line_across(claim: Claim, value: float, x_unit: str) -> list[Line]:
    """Return a power or a voltage as a line at its x."""
    if x_unit != claim.claimed.units[0]:
        return []
    if claim.unit == x_unit:
        return [((value,), None)]
    try:
        return [((parse_as(f"{value} {claim.unit}", x_unit),), None)]
    except QuantityError:
        return []
