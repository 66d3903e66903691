"""The readings of the chosen runs side by side, what differs between them, and their cautions in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.choice import Choice

if TYPE_CHECKING:  # what composes tables computes, and is loaded after the window
    from epidote.desktop.matrix.compose import ReadingTable


class ReadingsPanel(QWidget):
    """Shows a ReadingTable; the three commands under it belong to the page."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 10)
        layout.setSpacing(6)
        top = QHBoxLayout()
        heading = QLabel("Readings")
        heading.setProperty("heading", True)
        top.addWidget(heading)
        self.channel = Choice()
        top.addWidget(self.channel)
        top.addStretch(1)
        self.units = Choice()
        top.addWidget(self.units)
        layout.addLayout(top)
        self.table = QTableWidget()
        self.table.setAccessibleName("readings")
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setFrameShape(QFrame.Shape.NoFrame)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.table.setWordWrap(False)
        self.table.horizontalHeader().setHighlightSections(False)
        layout.addWidget(self.table, 1)
        self.likeness = QLabel()
        self.likeness.setWordWrap(True)
        self.likeness.setProperty("quiet", True)
        layout.addWidget(self.likeness)
        self.cautions = QLabel()
        self.cautions.setWordWrap(True)
        self.cautions.setProperty("caution", True)
        layout.addWidget(self.cautions)
        buttons = QHBoxLayout()
        self.again, self.recompute, self.repeat = (
            QPushButton("Run again"),
            QPushButton("Recompute …"),
            QPushButton("Repeat on …"),
        )
        self.again.setProperty("main", True)
        for button in (self.again, self.recompute, self.repeat):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout.addLayout(buttons)

    def show_table(self, table: ReadingTable) -> None:
        t = self.theme
        self.table.clear()
        self.table.setColumnCount(1 + len(table.columns))
        self.table.setRowCount(len(table.rows))
        blank = QTableWidgetItem("")
        self.table.setHorizontalHeaderItem(0, blank)
        for i, (title, colour, difference) in enumerate(table.columns, start=1):
            head = QTableWidgetItem(title)
            head.setFont(font(0.9, bold=not difference))
            head.setForeground(t.colour("quiet") if colour < 0 else t.row(colour))
            head.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.table.setHorizontalHeaderItem(i, head)
        figures = font(0.9)
        for r, row in enumerate(table.rows):
            name = QTableWidgetItem(row.title)
            name.setFont(font(0.95))
            self.table.setItem(r, 0, name)
            for c, cell in enumerate(row.cells, start=1):
                item = QTableWidgetItem(("! " if cell.cautions else "") + cell.text)
                item.setFont(figures)
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                if cell.cautions:
                    item.setForeground(QColor(t.caution))
                    item.setToolTip("\n".join(k.words for k in cell.cautions))
                self.table.setItem(r, c, item)
            self.table.setRowHeight(r, round(font().pointSizeF() * 2.1))
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        words = [
            table.summary,
            f"Alike in: {table.alike}." if table.alike else "",
            f"Differs in: {table.differs}." if table.differs else "",
        ]
        self.likeness.setText(" ".join(w for w in words if w))
        self.likeness.setVisible(bool(self.likeness.text()))
        self.cautions.setText("\n".join(table.cautions))
        self.cautions.setVisible(bool(table.cautions))

    def text_of(self, title: str) -> list[str]:
        """What stands in the row of that title, for tests and the clipboard."""
        for r in range(self.table.rowCount()):
            head = self.table.item(r, 0)
            if head is not None and head.text() == title:
                return [item.text() if (item := self.table.item(r, c)) else "" for c in range(1, self.table.columnCount())]
        return []
