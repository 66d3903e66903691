"""Tables to read: one model and one view for all of them.

A thousand cells are shown anew in a few milliseconds, since only those in sight are asked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRect, Qt
from PySide6.QtGui import QColor, QFont, QFontMetrics
from PySide6.QtWidgets import QAbstractItemView, QFrame, QTableView

from epidote.desktop.theme import font

Index = QModelIndex | QPersistentModelIndex
_ROW_HEIGHT = 2.1  # of the text's size in points
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True)
class TableCell:
    """``tip``: already plain text for Qt; right: figures stand at the right."""

    text: str
    font: QFont
    tip: str = ""
    colour: QColor | None = None
    right: bool = True


class ReadOnlyTableModel(QAbstractTableModel):
    """Heads over rows of cells; every row has as many cells as there are heads."""

    def __init__(self) -> None:
        super().__init__()
        self._heads: tuple[TableCell, ...] = ()
        self._rows: tuple[tuple[TableCell, ...], ...] = ()

    def show(self, heads: Sequence[TableCell], rows: Sequence[Sequence[TableCell]]) -> None:
        self.beginResetModel()
        self._heads, self._rows = tuple(heads), tuple(tuple(row) for row in rows)
        self.endResetModel()

    def texts(self) -> list[list[str]]:
        """Return the whole table as text, heads first."""
        return [[cell.text for cell in row] for row in (self._heads, *self._rows)]

    def text(self, row: int, column: int) -> str:
        return self._rows[row][column].text

    def column(self, number: int) -> list[TableCell]:
        """Return a column's cells with its head."""
        return [self._heads[number], *(row[number] for row in self._rows)]

    # -- what Qt asks ------------------------------------------------------------------------------

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        if parent.isValid():
            return 0
        return len(self._rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        if parent.isValid():
            return 0
        return len(self._heads)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if index.isValid():
            return _cell_data(self._rows[index.row()][index.column()], role)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation is Qt.Orientation.Horizontal and 0 <= section < len(self._heads):
            return _cell_data(self._heads[section], role)
        return None


def _cell_data(cell: TableCell, role: int) -> Any:
    if role == Qt.ItemDataRole.DisplayRole:
        return cell.text
    if role == Qt.ItemDataRole.FontRole:
        return cell.font
    if role == Qt.ItemDataRole.ToolTipRole:
        return cell.tip or None
    if role == Qt.ItemDataRole.ForegroundRole:
        return cell.colour
    if role == Qt.ItemDataRole.TextAlignmentRole:
        if cell.right:
            return _RIGHT
        return _LEFT
    return None


class ReadOnlyTable(QTableView):
    """A table to read: no grid, no frame, nothing to edit, and nothing to select unless it is asked for."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.cells = ReadOnlyTableModel()
        self.setModel(self.cells)
        self.setAccessibleName(name)
        self.setProperty("plain", True)  # its heads are dressed plainly, see the theme
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(round(font().pointSizeF() * _ROW_HEIGHT))
        self.setShowGrid(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.setWordWrap(True)
        self.horizontalHeader().setHighlightSections(False)

    def show_cells(self, heads: Sequence[TableCell], rows: Sequence[Sequence[TableCell]]) -> None:
        """Show heads over rows; none of either empties the table."""
        self.cells.show(heads, rows)

    def fit_row_heights(self, width: int) -> None:
        """Give each row the height that the text of its first column has when it is wrapped at ``width`` pixels."""
        usual = self.verticalHeader().defaultSectionSize()
        for row in range(self.cells.rowCount()):
            cell = self.cells.column(0)[1 + row]
            metrics = QFontMetrics(cell.font)
            box = metrics.boundingRect(QRect(0, 0, width, 10_000), Qt.TextFlag.TextWordWrap, cell.text)
            room_about = usual - metrics.height()
            self.setRowHeight(row, max(usual, box.height() + room_about))

    def choose_rows(self) -> None:
        """Let one row be selected."""
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)

    def row_count(self) -> int:
        return self.cells.rowCount()

    def text(self, row: int, column: int) -> str:
        return self.cells.text(row, column)

    def current_cell(self) -> tuple[int, int]:
        """Row and column that are selected, -1 for none."""
        index = self.currentIndex()
        return index.row(), index.column()
