"""The matrix's table: its row heads stay in sight when the columns are scrolled, since they are the graph's legend."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QItemSelectionModel, QModelIndex, QPersistentModelIndex, QPoint, QRect, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemDelegate,
    QAbstractItemView,
    QApplication,
    QFrame,
    QHeaderView,
    QPushButton,
    QTableView,
    QWidget,
)

from epidote.desktop.pages.matrix.matrix_table.model import MatrixModel
from epidote.desktop.widgets.painting import guarded

Index = QModelIndex | QPersistentModelIndex
_FOLD_WIDTH = 18  # of a row's head, in which a click folds the rows of its unit


class MatrixTable(QTableView):
    """A table over which a second view of the same model shows the first column only.

    menu_wanted: a context menu, of a "row", a "cell", a "column" or the "empty" space, and where on the screen.
    row_moved: a row's head was dragged; number of the row, and of the one that it is to stand before (the row count:
    at the end). column_moved: the same of a column's head. rename_wanted: the name in a row's head is to be edited.
    """

    menu_wanted = Signal(str, QPoint)
    row_moved = Signal(int, int)
    column_moved = Signal(int, int)
    rename_wanted = Signal(int)
    head_pointed_at = Signal(int)  # the row whose head the pointer is over; -1: none

    def __init__(
        self,
        cells: QItemSelectionModel,
        delegate: QAbstractItemDelegate,
        header: QHeaderView,
        own_header: QHeaderView,
        row_height: int,
    ) -> None:
        super().__init__()
        self.heads = _Heads(self)
        model = cells.model()
        for view, above in ((self, header), (self.heads, own_header)):
            view.setModel(model)
            view.setItemDelegate(delegate)
            view.setHorizontalHeader(above)
            view.verticalHeader().hide()
            view.verticalHeader().setDefaultSectionSize(row_height)
            view.setShowGrid(False)
            view.setFrameShape(QFrame.Shape.NoFrame)
            view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
            view.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
            view.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerItem)
            view.setTabKeyNavigation(False)
            above.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            above.customContextMenuRequested.connect(lambda at, h=above: self._head_menu(h, at))
        self.setSelectionModel(cells)
        self.heads.setSelectionModel(cells)
        own_header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setSectionsMovable(True)
        header.setFirstSectionMovable(False)
        header.sectionMoved.connect(self._section_moved)
        header.sectionResized.connect(self._lay_out)
        self._tools: QWidget | None = None
        self.add_column = QPushButton("Add column…", self)
        self.add_column.setProperty("link", True)
        self.add_column.setToolTip("Add a procedure as a column (Ctrl+Shift+C)")
        model.modelReset.connect(self._lay_out)
        model.columnsInserted.connect(self._lay_out)
        self.horizontalScrollBar().valueChanged.connect(lambda _: self._lay_out())
        self.verticalScrollBar().valueChanged.connect(self.heads.verticalScrollBar().setValue)
        self.heads.verticalScrollBar().valueChanged.connect(self.verticalScrollBar().setValue)

    def put_into_head(self, tools: QWidget) -> None:
        """Put widgets into the head of the first column."""
        self._tools = tools
        tools.setParent(self)
        tools.show()
        self._lay_out()

    def _lay_out(self, *_: object) -> None:
        model = self.model()
        for column in range(1, model.columnCount()):
            self.heads.setColumnHidden(column, True)
        width, head = self.columnWidth(0), self.horizontalHeader().height()
        self.heads.setColumnWidth(0, width)
        self.heads.setGeometry(0, 0, width, self.viewport().height() + head)
        self.heads.setVisible(model.columnCount() > 0)
        self.heads.raise_()
        if self._tools is not None:
            self._tools.setGeometry(0, 0, width, head)
            self._tools.setVisible(model.columnCount() > 0)
            self._tools.raise_()
        self._place_add_column(width, head)

    def _place_add_column(self, heads_width: int, head: int) -> None:
        """Put the button right of the last column's head; over the end of the heads where there is no room."""
        header, button = self.horizontalHeader(), self.add_column
        end = header.length() - header.offset()
        room = self.viewport().width() - end
        words = button.fontMetrics().horizontalAdvance("Add column…") + 16
        button.setText("Add column…" if room >= words else "+")
        width = words if room >= words else 26
        button.setAccessibleName("Add column…")
        left = min(max(end + 4, heads_width + 4), self.viewport().width() - width)
        button.setGeometry(left, 0, width, head)
        if button.property("over") != (room < words):
            button.setProperty("over", room < words)
            button.style().unpolish(button)
            button.style().polish(button)
        button.setVisible(self.model().columnCount() > 0)
        button.raise_()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_out()

    # -- moving rows and columns -------------------------------------------------------------------

    def _section_moved(self, _logical: int, old: int, new: int) -> None:
        """Put the head back, since the model itself is to have the new order."""
        header = self.horizontalHeader()
        header.blockSignals(True)
        header.moveSection(new, old)
        header.blockSignals(False)
        if old > 0:
            self.column_moved.emit(old, max(1, new) + (1 if new > old else 0))

    # -- context menus -----------------------------------------------------------------------------

    def _head_menu(self, header: QHeaderView, at: QPoint) -> None:
        section = header.logicalIndexAt(at)
        where = header.mapToGlobal(at)
        if section < 1:
            self.menu_wanted.emit("empty", where)
            return
        row = max(0, self.currentIndex().row())
        self.setCurrentIndex(self.model().index(row, section))
        self.menu_wanted.emit("column", where)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """By mouse at what is under it, which is selected first; by key at the current cell."""
        if event.reason() is QContextMenuEvent.Reason.Keyboard:
            index = self.currentIndex()
            where = self.viewport().mapToGlobal(self.visualRect(index).center())
        else:
            index = self.indexAt(event.pos())
            where = event.globalPos()
        self.offer_menu(index, where)

    def offer_menu(self, index: Index, where: QPoint) -> None:
        """Ask for the menu of a cell or of a row's head."""
        if not index.isValid():
            self.menu_wanted.emit("empty", where)
            return
        if index.column() == 0:
            current = self.currentIndex().column()
            self.setCurrentIndex(self.model().index(index.row(), max(1, current)))
            self.menu_wanted.emit("row", where)
            return
        if not self.selectionModel().isSelected(index):
            self.setCurrentIndex(index)
        self.menu_wanted.emit("cell", where)

    def scrollTo(
        self, index: Index, hint: QAbstractItemView.ScrollHint = QAbstractItemView.ScrollHint.EnsureVisible
    ) -> None:
        super().scrollTo(index, hint)
        hidden = self.columnWidth(0) - self.visualRect(index).left()
        if index.column() > 0 and hidden > 0:  # the row heads lie over it
            bar = self.horizontalScrollBar()
            bar.setValue(bar.value() - hidden)


class _Heads(QTableView):
    """The row heads: dragged to move a row, double-clicked to edit its name, folded at the triangle."""

    def __init__(self, table: MatrixTable) -> None:
        super().__init__(table)
        self._table = table
        self._pressed: QPoint | None = None
        self._target: int | None = None  # the row that the dragged one would stand before
        self.setAccessibleName("Row headers")
        self.setFocusProxy(table)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMouseTracking(True)
        for policy in (self.setHorizontalScrollBarPolicy, self.setVerticalScrollBarPolicy):
            policy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self._table.offer_menu(self.indexAt(event.pos()), event.globalPos())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        model, at = self.model(), event.position().toPoint()
        row = self.rowAt(at.y())
        if isinstance(model, MatrixModel) and at.x() < _FOLD_WIDTH and model.folds(row) is not None:
            model.toggle_fold(row)
            return
        self._pressed = at if event.button() is Qt.MouseButton.LeftButton else None
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position().toPoint()
        if self._pressed is None:
            self._table.head_pointed_at.emit(self.rowAt(at.y()))
            super().mouseMoveEvent(event)
            return
        far = (at - self._pressed).manhattanLength() >= QApplication.startDragDistance()
        if far or self._target is not None:
            self._target = self._row_boundary(at.y())
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
            self.viewport().update()

    def viewportEvent(self, event: QEvent) -> bool:
        if event.type() is QEvent.Type.Leave:
            self._table.head_pointed_at.emit(-1)
        return super().viewportEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, target = self._pressed, self._target
        self._pressed = self._target = None
        self.unsetCursor()
        self.viewport().update()
        if pressed is not None and target is not None:
            self._table.row_moved.emit(self.rowAt(pressed.y()), target)
            return
        super().mouseReleaseEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        row = self.rowAt(event.position().toPoint().y())
        if row >= 0:
            self._table.rename_wanted.emit(row)

    def _row_boundary(self, y: int) -> int:
        """Return the row before which something dropped at y would be put."""
        row = self.rowAt(y)
        if row < 0:
            return self.model().rowCount()
        middle = self.rowViewportPosition(row) + self.rowHeight(row) / 2
        return row if y < middle else row + 1

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if self._target is None:
            return
        last = self._target >= self.model().rowCount()
        row = self.model().rowCount() - 1 if last else self._target
        y = self.rowViewportPosition(row) + (self.rowHeight(row) - 1 if last else 0)
        p = QPainter(self.viewport())
        p.setPen(QPen(self.palette().highlight().color(), 3))
        p.drawLine(0, y, self.viewport().width(), y)
        p.end()

    def head_rect(self, row: int) -> QRect:
        """Where a row's head is, in the coordinates of the viewport."""
        return QRect(0, self.rowViewportPosition(row), self.columnWidth(0), self.rowHeight(row))

    def name_rect(self, row: int) -> QRect:
        """Where the name in a row's head is, in the coordinates of the viewport."""
        top = self.rowViewportPosition(row)
        return QRect(42, top + 4, self.columnWidth(0) - 52, round(self.rowHeight(row) * 0.5))
