"""How the Matrix page divides its room between matrix, graph and panel; kept from one start to the next."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, Qt

from epidote.desktop.preferences import preferences

if TYPE_CHECKING:
    from PySide6.QtWidgets import QSplitter, QWidget

    from epidote.desktop.pages.matrix.graph.panel import GraphPanel

_BELOW, _ROWS, _SPLIT = "panel below", "matrix split", "panel split"
_BESIDE_SIZES, _BELOW_SIZES = (800, 480), (330, 230)
_PANEL_WIDTH = 412


class Arrangement:
    """large: the graph has the whole page. below: the panel is below the graph instead of beside it."""

    def __init__(self) -> None:
        self.large = False
        self.below = preferences().value(_BELOW, "no") == "yes"
        self.set_by_hand = False  # whether the height of the matrix was set by dragging, now or earlier
        self._rows: QSplitter | None = None

    def attach(self, rows: QSplitter, lower: QSplitter, table: QWidget, side: QWidget, graph_panel: GraphPanel) -> None:
        """Arrange the parts: ``rows`` divides matrix and lower half, ``lower`` graph and panel."""
        self._rows, self._lower, self._table, self._side, self._graph = rows, lower, table, side, graph_panel
        rows.addWidget(lower)
        rows.setStretchFactor(0, 0)
        rows.setStretchFactor(1, 1)
        side.setMinimumWidth(_PANEL_WIDTH)
        for splitter in (rows, lower):
            splitter.setChildrenCollapsible(False)
        self._arrange()
        kept = preferences().value(_ROWS)
        if isinstance(kept, QByteArray) and rows.restoreState(kept):
            self.set_by_hand = True
        rows.splitterMoved.connect(self._rows_moved)
        lower.splitterMoved.connect(lambda *_: preferences().setValue(self._split_key, lower.saveState()))

    @property
    def _split_key(self) -> str:
        return f"{_SPLIT} {'below' if self.below else 'beside'}"

    def _rows_moved(self, *_: int) -> None:
        self.set_by_hand = True
        if self._rows is not None:
            preferences().setValue(_ROWS, self._rows.saveState())

    def _arrange(self) -> None:
        orientation = Qt.Orientation.Vertical if self.below else Qt.Orientation.Horizontal
        kept = preferences().value(self._split_key)
        restored = isinstance(kept, QByteArray) and self._lower.restoreState(kept)
        self._lower.setOrientation(orientation)
        if not restored:
            self._lower.setSizes(list(_BELOW_SIZES if self.below else _BESIDE_SIZES))

    def put_below(self, below: bool) -> None:
        """Put the panel below the graph, or beside it."""
        self.below = below
        preferences().setValue(_BELOW, "yes" if below else "no")
        self._arrange()

    def show_large(self, large: bool) -> None:
        """Give the graph the whole page, or put the other parts back as they were."""
        self.large = large
        self._table.setVisible(not large)
        self._side.setVisible(not large)
        self._graph.show_large(large)
