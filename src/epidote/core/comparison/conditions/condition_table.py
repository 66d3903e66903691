"""A reading over the conditions in which rows differ: a line over one, a table over two, and which settings come to
the same.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from epidote.core.errors import UnusableInputError

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
    """first and second: (condition, its values in order); second is None for a line.

    cells: by the values of both ("" without a second).
    """

    first: tuple[str, tuple[str, ...]]
    second: tuple[str, tuple[str, ...]] | None
    cells: Mapping[tuple[str, str], ConditionReading]

    def at(self, one: str, two: str = "") -> ConditionReading | None:
        return self.cells.get((one, two))


def number_in(text: str) -> float | None:
    """Return the number that a condition's value begins with, for its order: "128 samples", "48 kHz"."""
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


@dataclass(frozen=True)
class Equivalence:
    """Two settings that give the same value: of the first condition (``name``), each under a value of the second."""

    name: str
    other: str
    ours: tuple[str, str]  # value of the first condition, value of the second
    theirs: tuple[str, str]
    value: float
    unit: str


def equivalent_settings(table: ConditionTable) -> list[Equivalence]:
    """Which settings of the first condition come to the same under different values of the second."""
    if table.second is None:
        return []
    name, values = table.first
    other, kinds = table.second
    equivalences = []
    for i, one in enumerate(kinds):
        for two in kinds[i + 1 :]:
            for value in values:
                reading = table.at(value, one)
                same = next((v for v in values if _both_same(reading, table.at(v, two))), None)
                if reading is not None and same is not None:
                    equivalences.append(
                        Equivalence(name, other, (value, one), (same, two), reading.value, reading.unit)
                    )
    return equivalences


def _both_same(ours: ConditionReading | None, theirs: ConditionReading | None) -> bool:
    return ours is not None and theirs is not None and _same(ours, theirs)


def _same(a: ConditionReading, b: ConditionReading) -> bool:
    size = max(abs(a.value), abs(b.value))
    return bool(abs(a.value - b.value) <= min(max(_SAME * size, 2 * math.hypot(a.spread, b.spread)), _AT_MOST * size))
