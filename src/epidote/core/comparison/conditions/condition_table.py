"""A reading over the conditions in which rows differ: a line over one, a table over two, and which settings come to
the same.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from epidote.core.errors import UnusableInputError
from epidote.core.quantities.formatting import format_quantity

# shares of a value: what differs by less comes to the same; twice its spread may widen that, but not beyond the second
_SAME, _AT_MOST = 0.02, 0.05


@dataclass(frozen=True)
class ConditionReading:
    """One row's reading: conditions, value in ``unit`` and spread; name: of the row."""

    name: str
    conditions: Mapping[str, str]
    value: float
    unit: str
    spread: float = 0.0


@dataclass(frozen=True)
class ConditionTable:
    """first and second: (condition, its values in order); second is None for a line. cells: by the values of both
    ("" without a second).
    """

    first: tuple[str, tuple[str, ...]]
    second: tuple[str, tuple[str, ...]] | None
    cells: Mapping[tuple[str, str], ConditionReading]

    def at(self, one: str, two: str = "") -> ConditionReading | None:
        return self.cells.get((one, two))


def number_in(text: str) -> float | None:
    """The number that a condition's value begins with, for its order: "128 samples", "48 kHz"."""
    match = re.match(r"\s*([+-]?\d+(?:[.,]\d+)?)\s*(k)?", text)
    if match is None:
        return None
    return float(match[1].replace(",", ".")) * (1000 if match[2] else 1)


def _ordered(values: Sequence[str]) -> tuple[str, ...]:
    unique = list(dict.fromkeys(values))
    if all(number_in(v) is not None for v in unique):
        return tuple(sorted(unique, key=lambda v: number_in(v) or 0.0))
    return tuple(unique)


def grid(rows: Sequence[ConditionReading]) -> ConditionTable:
    """Rows by the one or two conditions in which they differ; that with more values first.

    Raises UnusableInputError where none or more do.
    """
    names = dict.fromkeys(n for r in rows for n in r.conditions)
    varying = [n for n in names if len({r.conditions.get(n, "") for r in rows}) > 1]
    if not 1 <= len(varying) <= 2:
        if varying:
            what = ", ".join(varying)
        else:
            what = "none"
        raise UnusableInputError(
            f"This table needs rows that differ in one or two conditions. The selected rows differ in: {what}. Change"
            " the selection."
        )
    if len({r.unit for r in rows}) > 1:
        raise UnusableInputError(
            "The readings have different units and cannot be tabulated. Select readings of one unit."
        )
    # the one with more values leads, of two alike the one that is a number: it makes the better axis
    varying.sort(
        key=lambda n: (
            -len({r.conditions.get(n, "") for r in rows}),
            any(number_in(r.conditions.get(n, "")) is None for r in rows),
        )
    )
    axes = [(n, _ordered([r.conditions.get(n, "–") for r in rows])) for n in varying]
    if len(axes) > 1:
        second = axes[1]
    else:
        second = None
    cells = {(r.conditions.get(varying[0], "–"), r.conditions.get(varying[1], "–") if second else ""): r for r in rows}
    return ConditionTable(axes[0], second, cells)


def equivalent_settings(g: ConditionTable) -> list[str]:
    """Which settings of the first condition come to the same under different values of the second, in words."""
    if g.second is None:
        return []
    name, values = g.first
    other, kinds = g.second
    found = []
    for i, one in enumerate(kinds):
        for two in kinds[i + 1 :]:
            for a in values:
                near = [
                    (b, ta, tb)
                    for b in values
                    if (ta := g.at(a, one)) is not None and (tb := g.at(b, two)) is not None and _same(ta, tb)
                ]
                for b, ta, _ in near[:1]:
                    shown = format_quantity(ta.value, ta.unit, digits=3)
                    if a != b:
                        with_same = f"{name} {a} with {other} {one} gives the same as {b} with {two}"
                    else:
                        with_same = f"at {name} {a}, {other} {one} and {two} give the same"
                    found.append(f"{with_same[0].upper()}{with_same[1:]} ({shown}).")
    return found


def _same(a: ConditionReading, b: ConditionReading) -> bool:
    size = max(abs(a.value), abs(b.value))
    return bool(abs(a.value - b.value) <= min(max(_SAME * size, 2 * math.hypot(a.spread, b.spread)), _AT_MOST * size))
