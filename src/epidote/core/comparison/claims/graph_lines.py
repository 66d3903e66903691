"""Where a published figure lies on a graph: as lines beside the curves that it speaks of."""

from __future__ import annotations

from epidote.core.claims.claim import RATIOS, Claim, ClaimedQuantity
from epidote.core.quantities.units import QuantityError, parse_as, to_db

_OF_CURVES = {
    ClaimedQuantity.THD: ("thd",),
    ClaimedQuantity.THD_N: ("thd_n",),
    ClaimedQuantity.CROSSTALK: ("crosstalk",),
    ClaimedQuantity.LATENCY: ("latency_by_shot",),
    ClaimedQuantity.RESPONSE: ("level",),
    ClaimedQuantity.POWER: ("thd_n", "thd"),
    ClaimedQuantity.OUTPUT: ("thd_n", "thd"),
}
Stretch = tuple[float, ...]


def claim_lines(
    claim: Claim, key: str, x_unit: str, y_unit: str, at_1k: float | None
) -> list[tuple[Stretch | None, Stretch | None]]:
    """(x, y) corners of each line on a graph of curves ``key``; None: right across. at_1k: what a response lies at
    there, in y's unit.
    """
    if key not in _OF_CURVES.get(claim.claimed, ()):
        return []
    if claim.frequency and claim.frequency_high:
        span = (claim.frequency, claim.frequency_high)
    else:
        span = None
    if claim.claimed is ClaimedQuantity.RESPONSE:
        if at_1k is None or y_unit not in ("dB", "dBV", "dBFS", "dB SPL"):
            return []
        band = span or (20.0, 20000.0)
        return [(band, (at_1k + v, at_1k + v)) for v in (claim.high, claim.low) if v is not None]
    value = claim.low if claim.high is None else claim.high
    assert value is not None
    if claim.claimed in (ClaimedQuantity.POWER, ClaimedQuantity.OUTPUT):
        if x_unit != ("W" if claim.claimed is ClaimedQuantity.POWER else "V"):
            return []
        try:
            return [((value if claim.unit == x_unit else parse_as(f"{value} {claim.unit}", x_unit),), None)]
        except QuantityError:
            return []
    if claim.claimed in RATIOS and claim.unit in ("%", "ppm"):
        value = to_db(value * (0.01 if claim.unit == "%" else 1e-6))
    elif claim.unit != y_unit:
        return []
    return [(span if x_unit == "Hz" else None, (value, value) if span and x_unit == "Hz" else (value,))]
