"""The matrix's table: its row heads stay in sight when the columns are scrolled, since they are the graph's legend."""

from __future__ import annotations

from PySide6.QtCore import QItemSelectionModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QContextMenuEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractItemDelegate, QAbstractItemView, QFrame, QHeaderView, QMenu, QTableView

Index = QModelIndex | QPersistentModelIndex


class MatrixTable(QTableView):
    """A table over which a second view of the same model shows the first column only."""

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
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        self.setSelectionModel(cells)
        self.heads.setSelectionModel(cells)
        own_header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.sectionResized.connect(self._lay_out)
        model.modelReset.connect(self._lay_out)
        model.columnsInserted.connect(self._lay_out)
        self.verticalScrollBar().valueChanged.connect(self.heads.verticalScrollBar().setValue)
        self.heads.verticalScrollBar().valueChanged.connect(self.verticalScrollBar().setValue)

    def _lay_out(self, *_: object) -> None:
        model = self.model()
        for column in range(1, model.columnCount()):
            self.heads.setColumnHidden(column, True)
        width = self.columnWidth(0)
        self.heads.setColumnWidth(0, width)
        self.heads.setGeometry(0, 0, width, self.viewport().height() + self.horizontalHeader().height())
        self.heads.setVisible(model.columnCount() > 0)
        self.heads.raise_()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_out()

    def scrollTo(
        self, index: Index, hint: QAbstractItemView.ScrollHint = QAbstractItemView.ScrollHint.EnsureVisible
    ) -> None:
        super().scrollTo(index, hint)
        hidden = self.columnWidth(0) - self.visualRect(index).left()
        if index.column() > 0 and hidden > 0:  # the row heads lie over it
            bar = self.horizontalScrollBar()
            bar.setValue(bar.value() - hidden)


class _Heads(QTableView):
    def __init__(self, table: MatrixTable) -> None:
        super().__init__(table)
        self._table = table
        self.setAccessibleName("Row headers")
        self.setFocusProxy(table)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        for policy in (self.setHorizontalScrollBarPolicy, self.setVerticalScrollBarPolicy):
            policy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addActions(self._table.actions())
        menu.exec(event.globalPos())
