"""A line of widgets that goes on in the next line where there is no room."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QSizePolicy, QWidget


class FlowLayout(QLayout):
    """Items side by side in their own size, in as many lines as they need.

    ``add_gap``: those that follow stand at the right end of the line, or of the next where there is no room for all.
    """

    def __init__(self, parent: QWidget | None = None, spacing: int = 8, *, centred: bool = False) -> None:
        """centred: lines stand in the middle instead of at the left."""
        super().__init__(parent)
        self._centred = centred
        self._items: list[QLayoutItem] = []
        self._gap: int | None = None  # place of the first item at the right end
        # a window asks for the same heights hundreds of times while it is laid out
        self._heights: dict[int, int] = {}
        self._hint: QSize | None = None
        self._least: QSize | None = None
        self.setSpacing(spacing)

    def add_gap(self) -> None:
        self._gap = len(self._items)
        self.invalidate()

    # -- what Qt asks ------------------------------------------------------------------------------

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)
        self.invalidate()

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:  # None ends Qt's loops
        if 0 <= index < len(self._items):
            return self._items[index]
        return None

    def takeAt(self, index: int) -> QLayoutItem | None:
        if 0 <= index < len(self._items):
            taken = self._items.pop(index)
            self.invalidate()
            return taken
        return None

    def invalidate(self) -> None:
        """Forget sizes: Qt calls this whenever an item changes."""
        self._heights.clear()
        self._hint = self._least = None
        super().invalidate()

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            self._heights[width] = self._arrange(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def sizeHint(self) -> QSize:
        if self._hint is None:
            self._hint = self._wanted_size()
        return self._hint

    def minimumSize(self) -> QSize:
        if self._least is None:
            self._least = self._least_size()
        return self._least

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._arrange(rect, move=True)

    # -- arranging ---------------------------------------------------------------------------------

    def _wanted_size(self) -> QSize:
        margins = self.contentsMargins()
        sizes = [item.sizeHint() for item in self._shown()]
        width = sum(s.width() for s in sizes) + self.spacing() * max(0, len(sizes) - 1)
        height = max((s.height() for s in sizes), default=0)
        return QSize(width + margins.left() + margins.right(), height + margins.top() + margins.bottom())

    def _least_size(self) -> QSize:
        margins = self.contentsMargins()
        sizes = [item.minimumSize().expandedTo(_least(item)) for item in self._shown()]
        width = max((s.width() for s in sizes), default=0)
        height = max((s.height() for s in sizes), default=0)
        return QSize(width + margins.left() + margins.right(), height + margins.top() + margins.bottom())

    def _shown(self) -> list[QLayoutItem]:
        return [item for item in self._items if not item.isEmpty()]

    def _arrange(self, rect: QRect, *, move: bool) -> int:
        """Put the items into lines; return the height that they need."""
        margins = self.contentsMargins()
        area = rect.marginsRemoved(margins)
        lines: list[list[tuple[QLayoutItem, QSize]]] = [[]]
        used = 0
        shown = [(item, _size_in(item, area.width())) for item in self._shown()]
        after_gap = self._gap_in(shown)
        for number, (item, size) in enumerate(shown):
            needed = size.width() + (self.spacing() if lines[-1] else 0)
            wanted = needed
            if number == after_gap:
                wanted += self._width_of(shown[number + 1 :])
            if lines[-1] and used + wanted > area.width():
                lines.append([])
                used, needed = 0, size.width()
            lines[-1].append((item, size))
            used += needed
        top = area.top()
        for line in lines:
            height = max((size.height() for _, size in line), default=0)
            if move:
                self._place(line, QRect(area.left(), top, area.width(), height))
            top += height + self.spacing() // 2
        return top - self.spacing() // 2 - rect.top() + margins.bottom()

    def _gap_in(self, line: list[tuple[QLayoutItem, QSize]]) -> int | None:
        """Return the place of the first item at the right end; None: there is none."""
        if self._gap is None:
            return None
        right = self._items[self._gap :]
        return next((number for number, (item, _) in enumerate(line) if item in right), None)

    def _width_of(self, items: list[tuple[QLayoutItem, QSize]]) -> int:
        """Return the width of items that follow others, each with the space before it."""
        return sum(size.width() + self.spacing() for _, size in items)

    def _place(self, line: list[tuple[QLayoutItem, QSize]], area: QRect) -> None:
        left, after_gap = area.left(), self._gap_in(line)
        if self._centred:
            used = self._width_of([*line]) - self.spacing()
            left += max(0, (area.width() - used) // 2)
        for number, (item, size) in enumerate(line):
            if number == after_gap:
                left = max(left, area.right() + 1 - size.width() - self._width_of(line[number + 1 :]))
            down = (area.height() - size.height()) // 2
            item.setGeometry(QRect(QPoint(left, area.top() + down), size))
            left += size.width() + self.spacing()


def _least(item: QLayoutItem) -> QSize:
    """Return the least size of an item; one that can be wrapped itself may be narrower than it would like to be."""
    if item.hasHeightForWidth():
        return item.minimumSize()
    return item.sizeHint()


def _size_in(item: QLayoutItem, width: int) -> QSize:
    """Return the size of an item in a line of this width; one that is too wide is narrowed, and may grow in height."""
    hint = item.sizeHint()
    widget = item.widget()
    grows = widget is not None and widget.sizePolicy().horizontalPolicy() in (
        QSizePolicy.Policy.Expanding,
        QSizePolicy.Policy.MinimumExpanding,
    )
    wanted = min(hint.width(), width)
    if grows and widget is not None and widget.maximumWidth() < width:
        wanted = min(wanted, widget.maximumWidth())
    height = item.heightForWidth(wanted) if item.hasHeightForWidth() else hint.height()
    return QSize(wanted, height)
