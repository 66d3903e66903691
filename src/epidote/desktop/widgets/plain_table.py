"""Tables to read."""

from __future__ import annotations

from PySide6.QtWidgets import QAbstractItemView, QFrame, QTableWidget


def plain_table(name: str) -> QTableWidget:
    """A table to read: no grid, no frame, nothing to edit or to select."""
    table = QTableWidget()
    table.setAccessibleName(name)
    table.verticalHeader().hide()
    table.setShowGrid(False)
    table.setFrameShape(QFrame.Shape.NoFrame)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
    table.setWordWrap(False)
    table.horizontalHeader().setHighlightSections(False)
    return table
