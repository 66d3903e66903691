"""Where a published figure lies on a graph: as lines beside the curves of the procedures that answer it."""

from __future__ import annotations

from epidote.core.claims.answer import Line, lines_on_graph
from epidote.core.claims.claim import Claim
from epidote.core.comparison.claims.candidates import answers_to


def claim_lines(claim: Claim, key: str, x_unit: str, y_unit: str, at_1k: float | None) -> list[Line]:
    """(x, y) corners of each line on a graph of curves ``key``; None: right across.

    at_1k: what a response lies at there, in y's unit.
    """
    curves = {curve for _, answer in answers_to(claim.claimed) for curve in answer.curves}
    if key not in curves:
        return []
    return lines_on_graph(claim, x_unit, y_unit, at_1k)
