"""The matrix as a Qt model: what stands in each cell comes from the session's overview."""

from __future__ import annotations

import json
from collections import Counter
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

from epidote.core.quantities.formatting import MISSING_VALUE, format_quantity
from epidote.core.results.caution import Caution, Weight
from epidote.core.results.kinds import Shown
from epidote.core.text import visible
from epidote.desktop.pages.matrix.matrix_table.row_order import (
    BY_VERDICT,
    RowOrder,
    arranged,
    hidden_count,
    rows_of_unit,
)
from epidote.desktop.state.run_queue import CellProgress
from epidote.desktop.state.session import Session
from epidote.desktop.widgets.plain import plain_tip
from epidote.study.models import Column, Overview, RunSummary, Subject
from epidote.study.run_table import run_id_of

if TYPE_CHECKING:
    from epidote.core.comparison.claims.verdict import Verdict

Index = QModelIndex | QPersistentModelIndex


HEADLINE = "headline"  # with a column's number, the setting that names the reading shown in its cells


@dataclass(frozen=True)
class ShownReading:
    """The reading that was chosen for a column's cells, with what the matrix needs to show it before procedures are
    loaded.
    """

    key: str
    title: str
    shown: Shown = Shown.QUANTITY

    def as_setting(self) -> str:
        return json.dumps({"key": self.key, "title": self.title, "shown": str(self.shown)})


def shown_reading(overview: Overview, column_id: int) -> ShownReading | None:
    """Return the reading that was chosen for a column's cells; None for the usual one."""
    try:
        stored = json.loads(overview.settings.get(f"{HEADLINE} {column_id}", "") or "{}")
        return ShownReading(visible(str(stored["key"])), visible(str(stored["title"])), Shown(stored["shown"]))
    except (ValueError, TypeError, KeyError):
        return None


def headline_text(run: RunSummary, chosen: ShownReading | None = None) -> str:
    """Return the reading that stands for a run, or the one that was chosen: "±0.09 dB", "-82.6 dB"."""
    reading = run.headline.reading if run.headline is not None else None
    shown = run.headline.shown if run.headline is not None else Shown.QUANTITY
    if chosen is not None:
        reading, shown = run.reading(chosen.key), chosen.shown
    if is_waiting(run):
        return "waiting"
    if reading is None or reading.value is None:
        return MISSING_VALUE
    text = format_quantity(reading.value, reading.unit)
    if shown is Shown.PLUS_MINUS:
        return f"±{text}"
    return text


def is_waiting(run: RunSummary) -> bool:
    """Whether the recording of a run is still missing."""
    return Caution.WAITING in run.cautions


def headline_name(run: RunSummary, chosen: ShownReading | None = None) -> str:
    """Return what the headline is, in a word."""
    if chosen is not None:
        return chosen.title
    if run.headline is None:
        return ""
    return run.headline.title


def marked(run: RunSummary) -> tuple[Caution, ...]:
    """Return the cautions worth a mark in the cell: those of the recording, and those of the headline itself."""
    own = [Caution(c) for c in run.cautions]
    of_headline = run.headline.reading.cautions if run.headline is not None else ()
    return tuple(c for c in dict.fromkeys([*own, *of_headline]) if c.weight is not Weight.NOTE)


def _verdict_lines(verdicts: list[Verdict]) -> str | None:
    """Each claim with its verdict on a line; None without claims."""
    from epidote.core.wording.verdicts import verdict_words

    return "\n".join(f"{one.claim.words}: {verdict_words(one)}" for one in verdicts) or None


def verdict_counts(verdicts: list[Verdict]) -> list[str]:
    """Verdicts in short: "2 met", "1 not met"."""
    return [
        f"{n} {outcome}"
        for outcome in ("not met", "met", "inconclusive")
        if (n := sum(1 for v in verdicts if v.outcome == outcome))
    ]


class MatrixModel(QAbstractTableModel):
    """Column 0 holds the row heads; the others are the study's columns."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._shape: tuple[tuple[int, ...], tuple[int, ...]] = ((), ())
        self._rows: tuple[Subject, ...] = ()
        self._beside: dict[int, int] = {}
        self.order = RowOrder()
        session.overview_changed.connect(self._changed)
        session.runs.progress_changed.connect(self._progressed)

    def set_order(self, order: RowOrder) -> None:
        """Show other rows, or the same in another order."""
        self.order = order
        self._changed()

    def forget(self) -> None:
        """Show all rows in their own order, and ask every view to read them again: another study is open."""
        self.order = RowOrder()
        self._shape = ((), ())

    def hidden_rows(self) -> int:
        """How many rows the filter leaves out."""
        overview = self._session.overview
        if overview is None:
            return 0
        return hidden_count(overview, self.order, self._session.verdicts)

    def folds(self, row: int) -> tuple[bool, int] | None:
        """Of the first row of a unit that has several: whether they are folded, and how many more there are."""
        subject, overview, before = self.subject(row), self._session.overview, self.subject(row - 1)
        if subject is None or subject.unit is None or overview is None:
            return None
        own_unit = subject.unit.id
        others = rows_of_unit(overview, own_unit) - 1
        continues = before is not None and before.unit is not None and before.unit.id == own_unit
        if others < 1 or continues:
            return None
        return own_unit in self.order.folded, others

    def toggle_fold(self, row: int) -> None:
        """Fold the rows of a unit into one, or show them all."""
        subject = self.subject(row)
        if subject is not None and subject.unit is not None and self.folds(row) is not None:
            self.set_order(replace(self.order, folded=self.order.folded ^ {subject.unit.id}))

    def _changed(self) -> None:
        overview = self._session.overview
        if overview:
            rows = arranged(overview, self.order, self._session.verdicts)
        else:
            rows = ()
        self._beside = self._count_beside()
        if overview:
            shape = (tuple(s.id for s in rows), tuple(c.id for c in overview.columns))
        else:
            shape = ((), ())
        if shape != self._shape:
            self.beginResetModel()
            self._shape, self._rows = shape, rows
            self.endResetModel()
            return
        self._rows = rows
        if self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def _progressed(self, cell: tuple[int, int]) -> None:
        index = self.index_of(*cell)
        if index.isValid():
            self.dataChanged.emit(index, index)

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        if parent.isValid():
            return 0
        return len(self._shape[0])

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        if parent.isValid():
            return 0
        return 1 + len(self._shape[1])

    def subject(self, row: int) -> Subject | None:
        if 0 <= row < len(self._rows):
            return self._rows[row]
        return None

    def column(self, column: int) -> Column | None:
        overview = self._session.overview
        if overview and 1 <= column <= len(overview.columns):
            return overview.columns[column - 1]
        return None

    def run(self, index: Index) -> RunSummary | None:
        overview, subject, column = self._session.overview, self.subject(index.row()), self.column(index.column())
        if overview and subject and column:
            return overview.runs.get((subject.id, column.id))
        return None

    def chosen_headline(self, index: Index) -> ShownReading | None:
        """Return the reading that was chosen for a cell; None for the usual one."""
        overview, column = self._session.overview, self.column(index.column())
        if overview is None or column is None:
            return None
        return shown_reading(overview, column.id)

    def under(self, index: Index) -> CellProgress | None:
        subject, column = self.subject(index.row()), self.column(index.column())
        if subject and column:
            return self._session.runs.under_way.get((subject.id, column.id))
        return None

    def verdicts(self, index: Index) -> list[Verdict]:
        """Of a row of published figures: the verdicts on those that the column's procedure speaks of."""
        subject, column, overview = self.subject(index.row()), self.column(index.column()), self._session.overview
        if subject is None or not subject.is_claims or subject.unit is None or column is None or overview is None:
            return []
        if next(c.id for c in overview.columns if c.procedure == column.procedure) != column.id:
            return []  # of several columns of one procedure the first speaks for all
        own = [e.id for e in overview.of_kind("claim") if e.owner.unit == subject.unit.id]
        return [v for i in own if (v := self._session.verdicts.get(i)) is not None and v.procedure == column.procedure]

    def judged(self) -> None:
        """Show the verdicts, which are new; they may bear on which rows there are."""
        if self.order.key == BY_VERDICT or self.order.only_not_met:
            self._changed()
        if self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def beside(self, subject: Subject) -> int:
        """How many notes and pictures belong to a row, its unit or its runs."""
        if subject.is_claims:
            return 0
        return self._beside.get(subject.id, 0)

    def _count_beside(self) -> dict[int, int]:
        overview = self._session.overview
        if overview is None:
            return {}
        owners = [e.owner for e in overview.entries if e.kind in ("note", "picture")]
        if not owners:
            return {}
        row_of: dict[int, int] = {}
        if any(owner.run is not None for owner in owners):
            row_of = {run_id_of(overview.runs, cell): cell[0] for cell in overview.runs}
        of_rows: Counter[int] = Counter()
        of_units: Counter[int] = Counter()
        for owner in owners:
            if owner.unit is not None:
                of_units[owner.unit] += 1
            elif owner.subject is not None:
                of_rows[owner.subject] += 1
            elif owner.run in row_of:
                of_rows[row_of[owner.run]] += 1
        return {s.id: of_rows[s.id] + (of_units[s.unit.id] if s.unit is not None else 0) for s in overview.subjects}

    def is_reference(self, row: int) -> bool:
        subject, overview = self.subject(row), self._session.overview
        return subject is not None and overview is not None and subject.id == overview.reference

    def index_of(self, subject_id: int, column_id: int | None) -> QModelIndex:
        rows, columns = self._shape
        if subject_id not in rows or (column_id is not None and column_id not in columns):
            return QModelIndex()
        return self.index(rows.index(subject_id), 0 if column_id is None else 1 + columns.index(column_id))

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return None
        words = self._words(index, role)
        if words is not None and role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip(words)
        return words

    def _words(self, index: Index, role: int) -> str | None:
        subject = self.subject(index.row())
        if subject is None:
            return None
        if subject.is_claims:
            if index.column():
                verdicts = self.verdicts(index)
            else:
                verdicts = []
            if role == Qt.ItemDataRole.ToolTipRole:
                return _verdict_lines(verdicts)
            if index.column() == 0:
                return f"{subject.name}, claims"
            return ", ".join(verdict_counts(verdicts))
        if index.column() == 0:
            status = [
                subject.full_name,
                subject.unit.notes if subject.unit and role == Qt.ItemDataRole.ToolTipRole else "",
            ]
            return "\n".join(t for t in status if t)
        run = self.run(index)
        if role == Qt.ItemDataRole.ToolTipRole:
            if run:
                return "\n".join(c.words for c in marked(run)) or None
            return "Not measured. Select the cell to measure it."
        if run:
            return headline_text(run, self.chosen_headline(index))
        return ""

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role in (
            Qt.ItemDataRole.DisplayRole,
            Qt.ItemDataRole.ToolTipRole,
        ):
            column = self.column(section)
            if column is None:
                words = "Subject"
            else:
                words = f"{column.title}\n{column.summary}"
            if role == Qt.ItemDataRole.ToolTipRole:
                return plain_tip(words)
            return words
        return None
