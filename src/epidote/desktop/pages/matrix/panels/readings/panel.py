"""The readings of the chosen runs side by side, what differs between them, and their cautions in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QColor, QFontMetrics, QGuiApplication, QResizeEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import Label, button_text, plain_tip
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

_MEASURED = 3  # of a column: the widest text is among the longest
_ROOM_ABOUT = 14  # pixels beside a text
_HELD = 3  # limits that have room
_LEAST_SHARE = 0.3  # of the width, for the names of readings

if TYPE_CHECKING:  # what composes tables computes, and is loaded after the window
    from epidote.desktop.pages.matrix.graph.reading_table import Cell, ReadingTable


class ReadingsPanel(QWidget):
    """Shows a ReadingTable; the three commands under it belong to the page."""

    point_wanted = Signal(str)
    point_unwanted = Signal(int, str)
    limit_wanted = Signal(str, str, str)  # of a reading: key, unit, title

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 10)
        layout.setSpacing(6)
        top = QHBoxLayout()
        self.channel = SegmentedButtons()
        top.addWidget(self.channel)
        top.addStretch(1)
        self.units = SegmentedButtons()
        top.addWidget(self.units)
        layout.addLayout(top)
        self.table = ReadOnlyTable("Readings")
        self.model = self.table.cells
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self._widths: list[int] = []  # that the columns' texts need
        layout.addWidget(self.table, 1)
        self.point = QLineEdit()
        self.point.setAccessibleName("Add operating point")
        self.point.setToolTip("Add a reading of the curves at a frequency, level or distortion")
        self.point.setPlaceholderText("Add reading at: 1 kHz, 1 W, 1 %, -3 dB")
        self.point.returnPressed.connect(self._point_typed)
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._menu)
        self._entries: dict[int, int] = {}
        self._keys: list[tuple[str, str]] = []
        layout.addWidget(self.point)
        self.likeness = Label()
        self.likeness.setWordWrap(True)
        self.likeness.setProperty("quiet", True)
        layout.addWidget(self.likeness)
        self.cautions = Label()
        self.cautions.setWordWrap(True)
        self.cautions.setProperty("caution", True)
        layout.addWidget(self.cautions)
        buttons = QHBoxLayout()
        self.again, self.recompute, self.repeat = (
            QPushButton("Measure again"),
            QPushButton("Recompute…"),
            QPushButton("Like reference"),
        )
        self.again.setProperty("main", True)
        self.again.setToolTip("Measure the selected cells again with the same settings (F5)")
        self.recompute.setToolTip("Analyse the saved recordings again with other settings; nothing is played")
        self.repeat.setToolTip("Measure another row with every procedure and setting of the reference row")
        for button in (self.again, self.recompute, self.repeat):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout.addLayout(buttons)

    def _point_typed(self) -> None:
        self.point_wanted.emit(self.point.text())
        self.point.clear()

    def _menu(self, where: QPoint) -> None:
        row = self.table.rowAt(where.y())
        menu = QMenu(self)
        menu.addAction("Copy table", self.copy)
        if 0 <= row < len(self._keys) and self._keys[row][0] and row not in self._entries:
            key, unit = self._keys[row]
            title = self.model.text(row, 0)
            menu.addAction(button_text(f"Set limit for “{title}”…"), lambda: self.limit_wanted.emit(key, unit, title))
        if row in self._entries:
            name = self.model.text(row, 0)
            menu.addAction(button_text(f"Delete “{name}”"), lambda: self.point_unwanted.emit(self._entries[row], name))
        menu.exec(self.table.viewport().mapToGlobal(where))

    def copy(self) -> None:
        """Copy the table to the clipboard, tabs between columns."""
        QGuiApplication.clipboard().setText("\n".join("\t".join(row) for row in self.model.texts()))

    def show_table(self, table: ReadingTable, checks: tuple[str, ...] = ()) -> None:
        """Show a table; ``checks``: what the runs do at their limits, what failed first."""
        self._keys = [(row.key, row.unit) for row in table.rows]
        self._entries = {r: row.entry for r, row in enumerate(table.rows) if row.entry is not None}
        self.model.show(self._heads(table), self._rows(table))
        self._widths = [_width_of(self.model.column(c)) for c in range(self.model.columnCount())]
        self._fit()
        words = [
            table.summary,
            f"Same: {table.alike}." if table.alike else "",
            f"Different: {table.differs}." if table.differs else "",
        ]
        limits = [*checks[:_HELD], *([f"… and {len(checks) - _HELD} more limits."] if len(checks) > _HELD else [])]
        self.likeness.setText("\n".join([*limits, " ".join(w for w in words if w)]).strip())
        self.likeness.setVisible(bool(self.likeness.text()))
        self.cautions.setText("\n".join(table.cautions))
        self.cautions.setVisible(bool(table.cautions))

    def _heads(self, table: ReadingTable) -> list[TableCell]:
        heads = [TableCell("", font(0.9))]
        for title, colour, difference in table.columns:
            if colour < 0:
                shown = self.theme.colour("quiet")
            else:
                shown = self.theme.row(colour)
            heads.append(TableCell(title, font(0.9, bold=not difference), colour=shown))
        return heads

    def _rows(self, table: ReadingTable) -> list[list[TableCell]]:
        names, figures, doubtful = font(0.95), font(0.9), QColor(self.theme.caution)

        def figure(cell: Cell) -> TableCell:
            if not cell.cautions:
                return TableCell(cell.text, figures)
            return TableCell(f"! {cell.text}", figures, plain_tip("\n".join(k.words for k in cell.cautions)), doubtful)

        return [
            [TableCell(row.title, names, plain_tip(row.title), right=False), *(figure(cell) for cell in row.cells)]
            for row in table.rows
        ]

    def _fit(self) -> None:
        """Figures are shown whole; the names give way to them, down to three tenths of the width."""
        header, room = self.table.horizontalHeader(), self.table.viewport().width()
        if not self._widths:
            return
        names, figures = self._widths[0], sum(self._widths[1:])
        if names + figures > room:
            names = max(room - figures, round(_LEAST_SHARE * room))
        for column, width in enumerate((names, *self._widths[1:])):
            header.resizeSection(column, width)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()


def _width_of(cells: list[TableCell]) -> int:
    """Pixels that the widest text of a column takes, with room about it."""
    widest = 0
    for cell in sorted(cells, key=lambda c: len(c.text))[-_MEASURED:] + cells[:1]:
        widest = max(widest, QFontMetrics(cell.font).horizontalAdvance(cell.text))
    return widest + _ROOM_ABOUT
