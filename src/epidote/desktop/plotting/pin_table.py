"""The values of every curve at the pins, in a small table on the graph that can be dragged out of the way."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from epidote.core.results.channels import short_channel_name
from epidote.desktop.theme import Theme, font

if TYPE_CHECKING:  # what holds curves needs NumPy, which is loaded after the window shows
    from epidote.desktop.plotting.figure import Figure
    from epidote.desktop.plotting.viewport import Viewport

_MOST_PINS, _MOST_ROWS = 5, 8
_PAD, _GAP = 7, 14


@dataclass(frozen=True)
class _Line:
    """A line of the table: name and values, each with its colour."""

    name: str
    ink: QColor
    values: list[str]
    value_ink: QColor


class PinTable:
    """``place``: of the upper right corner, as shares of the box from its left and top; None: the corner of the
    box with the fewest points of curves, until it is dragged.
    """

    def __init__(self) -> None:
        self.place: QPointF | None = None
        self.rect = QRectF()
        self._dragged: QPointF | None = None

    def rows(self, figure: Figure) -> list[tuple[str, int, list[str]]]:
        """(name, colour or -1 for the baseline, value at each pin) of the first curves."""
        pins = figure.pins[:_MOST_PINS]
        channels = {trace.channel for trace in figure.traces}
        rows = []
        for trace in figure.traces[:_MOST_ROWS]:
            name = f"{trace.name}, {short_channel_name(trace.channel)}" if len(channels) > 1 else trace.name
            values = [figure.y_text(trace.at(pin.x, figure.log_x)) for pin in pins]
            rows.append((name, -1 if trace.baseline else trace.colour, values))
        return rows

    def paint(self, p: QPainter, theme: Theme, figure: Figure, box: QRectF, view: Viewport) -> None:
        """Paint the table within the box; nothing without pins."""
        if not figure.pins or not figure.traces:
            self.rect = QRectF()
            return
        small = font(0.8)
        metrics = QFontMetricsF(small)
        p.setFont(small)
        heads = [f"{pin.number}: {figure.x_text(pin.x)}" for pin in figure.pins[:_MOST_PINS]]
        rows = self.rows(figure)
        names = max(metrics.horizontalAdvance(name) for name, _, _ in rows)
        widths = [
            max(metrics.horizontalAdvance(text) for text in (head, *(values[n] for _, _, values in rows)))
            for n, head in enumerate(heads)
        ]
        line = metrics.height() + 1
        size = QRectF(0, 0, names + sum(w + _GAP for w in widths) + 2 * _PAD, line * (len(rows) + 1) + 2 * _PAD - 4)
        place = self.place or _emptiest_corner(figure, view, size.width() / box.width(), size.height() / box.height())
        size.moveTopRight(QPointF(box.left() + place.x() * box.width() - 4, box.top() + place.y() * box.height() + 4))
        size.moveLeft(max(box.left() + 2, min(size.left(), box.right() - size.width() - 2)))
        size.moveTop(max(box.top() + 2, min(size.top(), box.bottom() - size.height() - 2)))
        self.rect = size
        p.setPen(QPen(theme.colour("line"), 1))
        p.setBrush(theme.colour("raised", 235))
        p.drawRect(size)
        p.setBrush(Qt.BrushStyle.NoBrush)
        top = size.top() + _PAD - 3
        quiet, text = theme.colour("quiet"), theme.colour("text")
        lines = [_Line("", quiet, heads, quiet)]
        lines += [_Line(name, theme.row(c) if c >= 0 else quiet, values, text) for name, c, values in rows]
        for number, one in enumerate(lines):
            self._paint_line(p, QRectF(size.left(), top + number * line, size.width(), line), one, widths)

    @staticmethod
    def _paint_line(p: QPainter, area: QRectF, line: _Line, widths: list[float]) -> None:
        p.setPen(line.ink)
        p.drawText(area.adjusted(_PAD, 0, 0, 0), Qt.AlignmentFlag.AlignLeft, line.name)
        p.setPen(line.value_ink)
        right = area.right() - _PAD
        for value, width in reversed(list(zip(line.values, widths, strict=True))):
            p.drawText(QRectF(right - width, area.top(), width, area.height()), Qt.AlignmentFlag.AlignRight, value)
            right -= width + _GAP

    # -- moving ------------------------------------------------------------------------------------

    def press(self, at: QPointF) -> bool:
        """Begin to drag if the table is there."""
        self._dragged = at if self.rect.contains(at) else None
        return self._dragged is not None

    def drag(self, at: QPointF, box: QRectF) -> bool:
        """Move with the pointer while it is dragged."""
        if self._dragged is None or box.isEmpty():
            return False
        moved = self.rect.translated(at - self._dragged)
        self.place = QPointF(
            (moved.right() + 4 - box.left()) / box.width(), (moved.top() - 4 - box.top()) / box.height()
        )
        self._dragged = at
        return True

    def release(self) -> bool:
        """Stop dragging; whether it was dragged."""
        dragged, self._dragged = self._dragged is not None, None
        return dragged


def _emptiest_corner(figure: Figure, view: Viewport, width: float, height: float) -> QPointF:
    """Return the place for a table of this size, in shares of the box, at which it covers the fewest points."""
    places = [QPointF(1.0, 0.0), QPointF(1.0, 1.0 - height), QPointF(width, 1.0 - height), QPointF(width, 0.0)]

    def covered(place: QPointF) -> int:
        left, right = view.x.value(max(0.0, place.x() - width)), view.x.value(min(1.0, place.x()))
        low, high = view.y.value(1 - place.y() - height), view.y.value(1 - place.y())
        return sum(int(((t.x >= left) & (t.x <= right) & (t.y >= low) & (t.y <= high)).sum()) for t in figure.traces)

    return min(places, key=covered)
