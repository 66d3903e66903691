"""The matrix with what belongs to it: filter and sorting in its head, "Add row…" at its foot, moving and renaming."""

from __future__ import annotations

import json

from PySide6.QtCore import QItemSelectionModel, QTimer, Signal
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.pages.matrix.matrix_table.delegate import MatrixDelegate, MatrixHeader, head_width, row_height
from epidote.desktop.pages.matrix.matrix_table.frozen_columns import MatrixTable
from epidote.desktop.pages.matrix.matrix_table.head_tools import HeadTools
from epidote.desktop.pages.matrix.matrix_table.model import MatrixModel
from epidote.desktop.pages.matrix.matrix_table.row_order import RowOrder
from epidote.desktop.pages.matrix.matrix_table.row_tools import RowTools
from epidote.desktop.state import edits
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.plain import Label

_WIDTHS = "column widths"  # setting of the study: JSON of column numbers and pixels at the normal text size
_KEEP_AFTER_MS = 400
_LEAST_COLUMN, _LEAST_ROWS = 70, 2.4


class MatrixPane(QWidget):
    """command_wanted: the name of one of the window's commands. failed: a sentence for the user."""

    command_wanted = Signal(str)
    failed = Signal(str)

    def __init__(self, session: Session, model: MatrixModel, cells: QItemSelectionModel, theme: Theme) -> None:
        super().__init__()
        self._session, self._model = session, model
        self._fitting = False
        self._by_hand: dict[int, int] = {}  # widths that the user set, by column
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.delegate = MatrixDelegate(model, theme)
        self.header, self.own_header = MatrixHeader(theme), MatrixHeader(theme)
        self.table = MatrixTable(cells, self.delegate, self.header, self.own_header, row_height())
        self.table.setAccessibleName("Matrix")
        self.delegate.covered = self.table  # its second view of the heads lies over them
        self.tools = RowTools(lambda: model.order, lambda: session.overview)
        self.table.put_into_head(self.tools)
        self._pointed_at = -1  # the row whose head the pointer is over
        self.head_tools = HeadTools(self.table.heads.viewport(), theme)
        self.header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.header.setMinimumSectionSize(_LEAST_COLUMN)
        self.header.sectionResized.connect(self._resized)
        self.table.setMinimumHeight(self._least_height())
        layout.addWidget(self.table, 1)
        layout.addWidget(self._build_foot())
        self._keep = QTimer(self)
        self._keep.setSingleShot(True)
        self._keep.setInterval(_KEEP_AFTER_MS)
        self._keep.timeout.connect(self._keep_widths)
        self.tools.order_wanted.connect(self.show_order)
        self.table.add_column.clicked.connect(lambda _: self.command_wanted.emit("add column"))
        self.table.row_moved.connect(self.move_row)
        self.table.column_moved.connect(self.move_column)
        self.table.rename_wanted.connect(self.rename)
        self.table.head_pointed_at.connect(self._point_at)
        self.head_tools.command_wanted.connect(self._command_head)
        self.head_tools.menu_wanted.connect(self._offer_head_menu)
        for moved in (
            model.modelReset,
            model.dataChanged,
            cells.currentChanged,
            self.table.verticalScrollBar().valueChanged,
        ):
            moved.connect(lambda *_: self._place_head_tools())
        QApplication.instance().focusChanged.connect(self._place_head_tools)  # type: ignore[union-attr]
        session.leaving.connect(self._finish)
        session.opened.connect(self._forget)

    def _finish(self) -> None:
        """Save column widths that were about to be saved."""
        if self._keep.isActive():
            self._keep.stop()
            self._keep_widths()

    def _forget(self) -> None:
        """Another study is open: all its rows are shown, in their own order."""
        self._by_hand = {}
        self.tools.words.blockSignals(True)
        self.tools.words.clear()
        self.tools.words.blockSignals(False)
        self._model.forget()

    def _least_height(self) -> int:
        return self.header.sizeHint().height() + round(_LEAST_ROWS * row_height())

    def _build_foot(self) -> QWidget:
        foot = QWidget()
        foot.setObjectName("matrixFoot")
        line = QHBoxLayout(foot)
        line.setContentsMargins(16, 1, 8, 1)
        self.add_row, self.show_all = QPushButton("Add row…"), QPushButton("Show all rows")
        self.add_row.setToolTip("Add a unit, or another row of one, to measure (Ctrl+R)")
        self.hidden_words = Label()
        self.hidden_words.setProperty("quiet", True)
        for button in (self.add_row, self.show_all):
            button.setProperty("link", True)
        self.add_row.clicked.connect(lambda _: self.command_wanted.emit("add row"))
        self.show_all.clicked.connect(lambda _: self.clear_filter())
        line.addWidget(self.add_row)
        line.addSpacing(16)
        line.addWidget(self.hidden_words)
        line.addWidget(self.show_all)
        line.addStretch(1)
        return foot

    # -- the buttons in a row's head ---------------------------------------------------------------

    def _point_at(self, row: int) -> None:
        if row != self._pointed_at:
            self._pointed_at = row
            self._place_head_tools()

    def _place_head_tools(self, *_: object) -> None:
        """Show the buttons in the head that the pointer is over, else in that of the current row while it has focus."""
        row, focused = self._pointed_at, QApplication.focusWidget()
        if row < 0 and focused is not None and (focused is self.table or self.head_tools.isAncestorOf(focused)):
            row = self.table.currentIndex().row()
        subject = self._model.subject(row)
        if subject is None or subject.is_claims:
            self.head_tools.hide()
            return
        self.head_tools.show_row(
            row,
            self.table.heads.head_rect(row),
            shown=subject.shown,
            reference=self._model.is_reference(row),
            writable=self._session.writable,
        )

    def _command_head(self, command: str) -> None:
        self._select_head()
        self.command_wanted.emit(command)

    def _offer_head_menu(self) -> None:
        self._select_head()
        more = self.head_tools.more
        self.table.menu_wanted.emit("row", more.mapToGlobal(more.rect().bottomLeft()))

    def _select_head(self) -> None:
        """Make the row of the buttons the current one, in the column that is in view."""
        row, column = self.head_tools.row, max(1, self.table.currentIndex().column())
        if self.table.currentIndex().row() != row:
            self.table.setCurrentIndex(self._model.index(row, column))

    # -- which rows --------------------------------------------------------------------------------

    def show_order(self, order: RowOrder) -> None:
        """Show other rows, or the same in another order."""
        self._model.set_order(order)
        self.refresh()

    def clear_filter(self) -> None:
        """Show every row again, in the order chosen."""
        self.tools.words.clear()
        self.show_order(RowOrder(key=self._model.order.key, folded=self._model.order.folded))

    def refresh(self) -> None:
        """Say how many rows the filter leaves out, and what can be added."""
        hidden, writable = self._model.hidden_rows(), self._session.writable
        self.hidden_words.setText(f"{hidden} row{'s' if hidden != 1 else ''} hidden by the filter")
        self.hidden_words.setVisible(hidden > 0)
        self.show_all.setVisible(hidden > 0)
        self.add_row.setEnabled(writable)
        self.table.add_column.setEnabled(writable)

    # -- widths ------------------------------------------------------------------------------------

    def fit_columns(self) -> None:
        """Give each column the width of its head, or the one that was set by hand."""
        overview = self._session.overview
        self._by_hand = _widths_of(overview.settings.get(_WIDTHS, "") if overview is not None else "")
        self._fitting = True
        for section in range(self._model.columnCount()):
            column = self._model.column(section)
            if column is None:
                self.header.setSectionResizeMode(section, QHeaderView.ResizeMode.Fixed)
                width = head_width()
            else:
                width = self._by_hand.get(column.id, self.header.content_width(section))
            if self.header.sectionSize(section) != width:
                self.header.resizeSection(section, width)
        self._fitting = False

    def wanted_height(self, most: int) -> int:
        """Return the height in which all rows are in view, or ``most`` of it."""
        rows = row_height() * self._model.rowCount()
        around = self.header.sizeHint().height() + self.add_row.sizeHint().height() + 4
        bar = self.table.horizontalScrollBar()
        if self.header.length() > self.table.width():
            around += bar.sizeHint().height()
        return min(rows + around, max(most, around + 3 * row_height()))

    def _resized(self, section: int, _old: int, new: int) -> None:
        column = self._model.column(section)
        if not self._fitting and column is not None:
            self._by_hand[column.id] = new
            self._keep.start()

    def _keep_widths(self) -> None:
        text = json.dumps({str(key): width for key, width in self._by_hand.items()})
        if self._session.writable:
            self._session.ask(lambda study: study.set_setting(_WIDTHS, text), lambda _: self._session.refresh())

    # -- moving and renaming -----------------------------------------------------------------------

    def move_row(self, row: int, before: int) -> None:
        """Put a row before another; ``before``: its place in the matrix, the row count for the end."""
        subject, overview = self._model.subject(row), self._session.overview
        if subject is None or overview is None or subject.is_baseline or subject.is_claims:
            return
        if not self._model.order.is_own:
            self.failed.emit("Rows are sorted. Select “Own order, by hand” in the Rows menu to move them.")
            return
        following = (self._model.subject(n) for n in range(max(1, before), self._model.rowCount()))
        target = next((s for s in following if s is not None and not s.is_claims), None)
        if target is None or target.id != subject.id:
            edits.move_row(self._session, subject, target)

    def move_current(self, by: int) -> None:
        """Move the current row up (-1) or down (1) past the row beside it."""
        row = self.table.currentIndex().row()
        place = row + by
        while self._is_claims(place):  # they stay with their unit
            place += by
        if 1 <= place < self._model.rowCount():
            self.move_row(row, place if by < 0 else place + 1)

    def _is_claims(self, row: int) -> bool:
        subject = self._model.subject(row)
        return subject is not None and subject.is_claims

    def move_column(self, section: int, before: int) -> None:
        """Put a column before another; ``before``: its section, the section count for the end."""
        column, target = self._model.column(section), self._model.column(before)
        if column is not None and column is not target:
            edits.move_column(self._session, column, target)

    def rename(self, row: int) -> None:
        """Edit the name of a row's unit in its head."""
        subject = self._model.subject(row)
        if subject is None or subject.unit is None or not self._session.writable:
            return
        unit = subject.unit
        self.head_tools.hide()
        line = QLineEdit(unit.name, self.table.heads.viewport())
        line.setAccessibleName("Name of the unit")
        line.setGeometry(self.table.heads.name_rect(row))
        line.selectAll()
        line.show()
        line.setFocus()
        line.returnPressed.connect(line.clearFocus)
        self._session.leaving.connect(line.clearFocus)

        def done() -> None:
            text = line.text().strip()
            line.hide()
            line.deleteLater()
            self.table.setFocus()
            if text and text != unit.name:
                edits.rename_unit(self._session, unit, text)

        line.editingFinished.connect(done)

    def set_theme(self, theme: Theme) -> None:
        self.delegate.theme = self.header.theme = self.own_header.theme = theme
        self.tools.set_fonts()
        self.head_tools.set_theme(theme)
        self.table.setMinimumHeight(self._least_height())
        for view in (self.table, self.table.heads):
            view.verticalHeader().setDefaultSectionSize(row_height())
            view.viewport().update()
            view.horizontalHeader().viewport().update()
        self.fit_columns()


def _widths_of(text: str) -> dict[int, int]:
    """Read the widths that a study keeps; a text that is none of ours says nothing."""
    try:
        stored = json.loads(text or "{}")
        return {int(key): max(_LEAST_COLUMN, int(width)) for key, width in stored.items()}
    except (ValueError, AttributeError, TypeError):
        return {}
