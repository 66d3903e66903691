"""Which rows the matrix shows, and in which order: filtered by words, sorted, rows of one unit folded into one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from epidote.study.models import Overview, Subject
from epidote.study.run_table import run_id_of

if TYPE_CHECKING:
    from epidote.core.comparison.claims.verdict import Verdict

OWN_ORDER, BY_UNIT, BY_DATE, BY_VERDICT = "", "unit", "date", "verdict"


@dataclass(frozen=True)
class RowOrder:
    """words: all of them must be in a row's name, conditions, serial number or device.

    key: OWN_ORDER, BY_UNIT, BY_DATE (latest run first), BY_VERDICT (most claims not met first) or the name of a
    condition. folded: units whose rows are shown as one.
    only_not_met: leaves out units that meet all that their data sheets say.
    """

    words: str = ""
    key: str = OWN_ORDER
    folded: frozenset[int] = field(default_factory=frozenset)
    only_not_met: bool = False

    @property
    def is_own(self) -> bool:
        """Whether rows stand as they were put, so that they can be put elsewhere by hand."""
        return self.key == OWN_ORDER


def arranged(overview: Overview, order: RowOrder, verdicts: Mapping[int, Verdict]) -> tuple[Subject, ...]:
    """Return the rows to show; the baseline is always first."""
    not_met = _claims_not_met(overview, verdicts)
    baseline: list[Subject] = []
    units: list[Subject] = []
    for subject in overview.subjects:
        kind = baseline if subject.is_baseline else units
        kind.append(subject)
    if _filters(order):
        units = [s for s in units if _fits(s, order, not_met)]
    if not order.is_own:
        units.sort(key=_ranking(overview, order.key, not_met))
    rows = overview.with_claims([*baseline, *units])
    if not order.folded:
        return rows
    return tuple(row for row in rows if not _is_folded_away(row, rows, order.folded))


def hidden_count(overview: Overview, order: RowOrder, verdicts: Mapping[int, Verdict]) -> int:
    """How many units' rows the filter leaves out."""
    if not _filters(order):
        return 0
    not_met = _claims_not_met(overview, verdicts)
    return sum(1 for s in overview.subjects if not s.is_baseline and not _fits(s, order, not_met))


def rows_of_unit(overview: Overview, unit_id: int) -> int:
    """How many rows a unit has, that of its claims included."""
    return overview.rows_by_unit.get(unit_id, 0)


def _filters(order: RowOrder) -> bool:
    return bool(order.words) or order.only_not_met


def _fits(subject: Subject, order: RowOrder, not_met: Mapping[int, int]) -> bool:
    if subject.unit is None:
        return True
    if order.only_not_met and not not_met.get(subject.unit.id):
        return False
    text = " ".join((subject.full_name, subject.unit.serial, subject.unit.firmware, subject.device)).lower()
    return all(word in text for word in order.words.lower().split())


def _claims_not_met(overview: Overview, verdicts: Mapping[int, Verdict]) -> dict[int, int]:
    counts: dict[int, int] = {}
    for entry in overview.of_kind("claim"):
        verdict = verdicts.get(entry.id)
        if verdict is not None and entry.owner.unit is not None and verdict.outcome == "not met":
            counts[entry.owner.unit] = counts.get(entry.owner.unit, 0) + 1
    return counts


def _ranking(overview: Overview, key: str, not_met: Mapping[int, int]) -> Callable[[Subject], tuple[object, ...]]:
    """Return what rows are sorted by; those that are equal stay in their own order."""
    if key == BY_UNIT:
        return lambda s: (s.name.lower(),)
    if key == BY_VERDICT:
        return lambda s: (-not_met.get(s.unit.id if s.unit else 0, 0), s.name.lower())
    if key == BY_DATE:
        # runs are numbered in the order in which they were made
        latest: dict[int, int] = {}
        for cell in overview.runs:
            latest[cell[0]] = max(run_id_of(overview.runs, cell), latest.get(cell[0], 0))
        return lambda s: (-latest.get(s.id, 0),)
    return lambda s: (key not in s.conditions, _in_size(s.conditions.get(key, "")), s.name.lower())


def _in_size(value: str) -> tuple[float, str]:
    """Sort values that begin with a number by it: 32 before 128."""
    number = ""
    for sign in value.strip():
        if not (sign.isdigit() or (sign in "+-." and sign not in number)):
            break
        number += sign
    try:
        return float(number), value
    except ValueError:
        return float("inf"), value


def _is_folded_away(row: Subject, rows: tuple[Subject, ...], folded: frozenset[int]) -> bool:
    if row.unit is None or row.unit.id not in folded:
        return False
    first = next(r for r in rows if r.unit is not None and r.unit.id == row.unit.id)
    return row is not first
