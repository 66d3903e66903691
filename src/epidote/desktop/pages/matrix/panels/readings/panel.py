"""The readings of the chosen runs side by side, what differs between them, and their cautions in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QColor, QFontMetrics, QGuiApplication, QResizeEvent
from PySide6.QtWidgets import (
    QBoxLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from epidote.core.results.caution import Remedy, Weight
from epidote.core.results.kinds import reading_kind
from epidote.desktop.plotting.map_view import MapView
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.caution_list import CautionList, ListedCaution
from epidote.desktop.widgets.channel_choice import ChannelChoice
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, button_text, plain_tip
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.desktop.widgets.wording import LOADING

_MEASURED = 3  # of a column: the widest text is among the longest
_ROOM_ABOUT = 14  # pixels beside a text
_CELL_MARGIN = 8  # of them, those that Qt keeps free
_NAMES_SHARE = 0.42  # of the width that names of readings may take before they are wrapped
_WIDE = 800  # pixels from which words stand beside the table
_LEAST_ROWS = 6
_HELD = 3  # limits that have room

if TYPE_CHECKING:  # what composes tables computes, and is loaded after the window
    from epidote.desktop.pages.matrix.graph.reading_table import Cell, ReadingRow, ReadingTable

# what takes a caution away, as the words of its button
REMEDY_WORDS = {
    Remedy.MEASURE_AGAIN: "Measure again",
    Remedy.SETTINGS: "Settings…",
    Remedy.CALIBRATION: "Calibrate…",
    Remedy.LOAD: "Load…",
    Remedy.CONNECTIONS: "Chain…",
    Remedy.BASELINE: "Baseline…",
    Remedy.ATTACH: "Attach recording…",
}


class ReadingsPanel(QWidget):
    """Shows a ReadingTable; the three commands under it belong to the page."""

    point_wanted = Signal(str)
    point_unwanted = Signal(int, str)
    limit_wanted = Signal(str, str, str)  # of a reading: key, unit, title
    remedy_wanted = Signal(object)  # a Remedy

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setProperty("help", "readings")
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 4, 16, 10)
        layout.setSpacing(6)
        top = QHBoxLayout()
        self.channel = ChannelChoice()
        top.addWidget(self.channel)
        top.addStretch(1)
        self.units = SegmentedButtons()
        top.addWidget(self.units)
        self.copy_table = QToolButton()
        self.copy_table.setText("Copy")
        self.copy_table.setToolTip("Copy the readings, with tabs between the columns (Ctrl+Shift+T)")
        top.addWidget(self.copy_table)
        layout.addLayout(top)
        self._build_table()
        # the words stand below the table, and beside it where the panel is wide
        self._halves = QBoxLayout(QBoxLayout.Direction.TopToBottom)
        self._halves.setSpacing(6)
        words = QVBoxLayout()
        words.setSpacing(6)
        self._halves.addWidget(self.table, 3)
        self._halves.addLayout(words, 2)
        layout.addLayout(self._halves, 1)
        self.point = QLineEdit()
        self.point.setAccessibleName("Add operating point")
        self.point.setToolTip("Add a reading of the curves at a frequency, level or distortion")
        self.point.setPlaceholderText("Add reading at: 1 kHz, 1 W, 1 %, -3 dB, half power")
        self.point.returnPressed.connect(self._point_typed)
        self._entries: dict[int, int] = {}
        self._keys: list[tuple[str, str]] = []
        self.map = MapView(theme)
        words.addWidget(self.map)
        words.addWidget(self.point)
        self.likeness = Label()
        self.likeness.setWordWrap(True)
        self.likeness.setProperty("quiet", True)
        words.addWidget(self.likeness)
        self.cautions = CautionList()
        self.cautions.remedy_wanted.connect(lambda key: self.remedy_wanted.emit(key.remedy))
        words.addWidget(self.cautions)
        words.addStretch(1)
        words.addLayout(self._build_buttons())

    def _build_table(self) -> None:
        self.table = ReadOnlyTable("Readings")
        self.table.setMinimumHeight(round(_LEAST_ROWS * font().pointSizeF() * 2.1))
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._menu)
        self.model = self.table.cells
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self._widths: list[int] = []  # that the columns' texts need
        self._longest_word = 0  # of the names, in pixels
        self._wrapped = False
        self.table.clicked.connect(lambda index: self._point_at_caution(index.row(), index.column()))
        self.table.activated.connect(lambda index: self._point_at_caution(index.row(), index.column()))
        self.shown_table: ReadingTable | None = None
        self._writable = True

    def _build_buttons(self) -> FlowLayout:
        buttons = FlowLayout()
        self.again, self.recompute, self.repeat = (
            QPushButton("Measure again"),
            QPushButton("Recompute…"),
            QPushButton("More"),
        )
        self.again.setProperty("main", True)
        self.again.setToolTip("Measure the selected cells again with the same settings (F5)")
        self.recompute.setToolTip("Analyse the saved recordings again with other settings; nothing is played")
        self.repeat.setProperty("menu", True)
        self.repeat.setToolTip("Repeat measurements, or measure another row with the settings of the reference row")
        for button in (self.again, self.recompute, self.repeat):
            buttons.addWidget(button)
        return buttons

    def _point_at_caution(self, row: int, column: int) -> None:
        """Lead from a reading's mark to the sentence of its first caution."""
        if self.shown_table is None or column < 1:
            return
        cautions = self.shown_table.rows[row].cells[column - 1].cautions
        if cautions:
            self.cautions.point_at(cautions[0])

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

    def show_loading(self) -> None:
        """Show no readings while those of the selected cells are on their way."""
        self.shown_table = None
        self.table.show_cells((), ())
        self.likeness.setText(LOADING)
        self.likeness.show()
        self.cautions.show_cautions([])

    def show_table(self, table: ReadingTable, checks: tuple[str, ...] = (), *, writable: bool = True) -> None:
        """Show a table; ``checks``: what the runs do at their limits, what failed first.

        writable: whether what takes a caution away can be carried out.
        """
        self._writable, self.shown_table = writable, table
        self._keys = [(row.key, row.unit) for row in table.rows]
        self._entries = {r: row.entry for r, row in enumerate(table.rows) if row.entry is not None}
        self.model.show(self._heads(table), self._rows(table))
        self._widths = [_width_of(self.model.column(c)) for c in range(self.model.columnCount())]
        self._longest_word = _longest_word(self.model.column(0))
        self._wrapped = True  # heights of the rows that were shown before
        self._fit()
        words = [
            table.summary,
            f"Same: {table.alike}." if table.alike else "",
            f"Different: {table.differs}." if table.differs else "",
        ]
        limits = [*checks[:_HELD], *([f"… and {len(checks) - _HELD} more limits."] if len(checks) > _HELD else [])]
        self.likeness.setText("\n".join([*limits, " ".join(w for w in words if w)]).strip())
        self.likeness.setVisible(bool(self.likeness.text()))
        self.cautions.show_cautions(
            [
                ListedCaution(
                    note.caution,
                    note.words,
                    note.caution.weight is Weight.INVALID,
                    note.caution.weight is Weight.NOTE,
                    REMEDY_WORDS.get(note.caution.remedy, "") if self._writable else "",
                )
                for note in table.cautions
            ]
        )

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
            [TableCell(row.title, names, plain_tip(_tip_of(row)), right=False), *(figure(cell) for cell in row.cells)]
            for row in table.rows
        ]

    def _fit(self) -> None:
        """Show figures whole; names are wrapped where there is no room for them on one line, never cut."""
        header, room = self.table.horizontalHeader(), self.table.viewport().width()
        if not self._widths:
            return
        names, figures = self._widths[0], sum(self._widths[1:])
        if names + figures > room:
            names = min(names, max(room - figures, round(_NAMES_SHARE * room), self._longest_word))
        for column, width in enumerate((names, *self._widths[1:])):
            header.resizeSection(column, width)
        if names < self._widths[0] or self._wrapped:
            self.table.fit_row_heights(names - _CELL_MARGIN)
        self._wrapped = names < self._widths[0]

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        wide = self.width() > _WIDE
        self._halves.setDirection(QBoxLayout.Direction.LeftToRight if wide else QBoxLayout.Direction.TopToBottom)
        self._halves.setStretch(1, 2 if wide else 0)
        self._fit()


def _longest_word(cells: list[TableCell]) -> int:
    """Pixels that the longest single word of a column takes, with room about it."""
    words = {(word, cell.font.key()): cell.font for cell in cells for word in cell.text.split()}
    widest = max((QFontMetrics(f).horizontalAdvance(word) for (word, _), f in words.items()), default=0)
    return widest + _ROOM_ABOUT


def _tip_of(row: ReadingRow) -> str:
    """Return what a reading is; its title again where nothing is known of it."""
    meaning = reading_kind(row.key).meaning if row.key else ""
    if not meaning:
        return row.title
    return f"{row.title}: {meaning}"


def _width_of(cells: list[TableCell]) -> int:
    """Pixels that the widest text of a column takes, with room about it."""
    widest = 0
    for cell in sorted(cells, key=lambda c: len(c.text))[-_MEASURED:] + cells[:1]:
        widest = max(widest, QFontMetrics(cell.font).horizontalAdvance(cell.text))
    return widest + _ROOM_ABOUT
