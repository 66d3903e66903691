"""Tables to read."""

from __future__ import annotations

from PySide6.QtCore import QAbstractItemModel
from PySide6.QtWidgets import QAbstractItemView, QFrame, QTableView, QTableWidget


def plain_table(name: str) -> QTableWidget:
    """A table to read: no grid, no frame, nothing to edit or to select."""
    table = QTableWidget()
    _make_plain(table, name)
    return table


def plain_view(name: str, model: QAbstractItemModel) -> QTableView:
    """The same for a model."""
    view = QTableView()
    view.setModel(model)
    _make_plain(view, name)
    return view


def _make_plain(table: QTableView, name: str) -> None:
    table.setAccessibleName(name)
    table.setProperty("plain", True)  # its heads are dressed plainly, see the theme
    table.verticalHeader().hide()
    table.setShowGrid(False)
    table.setFrameShape(QFrame.Shape.NoFrame)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
    table.setWordWrap(False)
    table.horizontalHeader().setHighlightSections(False)
