"""The matrix as a Qt model: what stands in each cell comes from the session's overview."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

from epidote.core.caution import Caution
from epidote.core.display import NOT_GIVEN, format_quantity
from epidote.desktop.session import Session, Under
from epidote.study.models import Column, RunSummary, Subject

Index = QModelIndex | QPersistentModelIndex
RUN_ONLY_CAUTIONS = {Caution.UNCALIBRATED, Caution.LOAD_UNCONFIRMED}
PLUS_MINUS = {"flatness"}


def headline_text(run: RunSummary) -> str:
    """The reading that stands for a run: "±0.09 dB", "-82.6 dB"."""
    head = run.headline
    if head is None or head["value"] is None:
        return NOT_GIVEN
    text = format_quantity(head["value"], head["unit"])
    return f"±{text}" if head["key"] in PLUS_MINUS else text


def headline_name(run: RunSummary) -> str:
    """What the headline is, in a word."""
    return str((run.headline or {}).get("title", ""))


def marked(run: RunSummary) -> tuple[Caution, ...]:
    """The cautions worth a mark in the cell: those of the recording, and those of the headline itself."""
    own = [Caution(c) for c in run.cautions if Caution(c) not in RUN_ONLY_CAUTIONS]
    head = [Caution(c) for c in (run.headline or {}).get("cautions", [])]
    return tuple(dict.fromkeys([*own, *head]))


class MatrixModel(QAbstractTableModel):
    """Column 0 holds the row heads; the others are the study's columns."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._shape: tuple[tuple[int, ...], tuple[int, ...]] = ((), ())
        session.overview_changed.connect(self._changed)
        session.progress_changed.connect(self._progressed)

    def _changed(self) -> None:
        overview = self._session.overview
        shape = (tuple(s.id for s in overview.subjects), tuple(c.id for c in overview.columns)) if overview else ((), ())
        if shape != self._shape:
            self.beginResetModel()
            self._shape = shape
            self.endResetModel()
        elif self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def _progressed(self, cell: tuple[int, int]) -> None:
        index = self.index_of(*cell)
        if index.isValid():
            self.dataChanged.emit(index, index)

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self._shape[0])

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else 1 + len(self._shape[1])

    def subject(self, row: int) -> Subject | None:
        overview = self._session.overview
        return overview.subjects[row] if overview and 0 <= row < len(overview.subjects) else None

    def column(self, column: int) -> Column | None:
        overview = self._session.overview
        return overview.columns[column - 1] if overview and 1 <= column <= len(overview.columns) else None

    def run(self, index: Index) -> RunSummary | None:
        overview, subject, column = self._session.overview, self.subject(index.row()), self.column(index.column())
        return overview.runs.get((subject.id, column.id)) if overview and subject and column else None

    def under(self, index: Index) -> Under | None:
        subject, column = self.subject(index.row()), self.column(index.column())
        return self._session.under_way.get((subject.id, column.id)) if subject and column else None

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
        subject = self.subject(index.row())
        if subject is None:
            return None
        if index.column() == 0:
            return subject.full_name if role != Qt.ItemDataRole.ToolTipRole else (subject.unit.notes or None if subject.unit else None)
        run = self.run(index)
        if role == Qt.ItemDataRole.ToolTipRole:
            return "\n".join(c.words for c in marked(run)) or None if run else "Not measured yet: choose the cell to measure it."
        return headline_text(run) if run else ""

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            column = self.column(section)
            return "Subject" if column is None else f"{column.title}\n{column.summary}"
        return None
