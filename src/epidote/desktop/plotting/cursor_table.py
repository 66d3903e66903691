"""The line at the pointer, and the table beside it with the value of every curve there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from epidote.desktop.theme import Theme, font

_OFFSET = 12  # pixels between the line and the table
_MARGIN = 8  # pixels inside the table
_LEAST_WIDTH = 60  # pixels of names and of values


@dataclass(frozen=True)
class CursorRow:
    """A curve at the cursor: its name, its value in words, the colour of its name."""

    name: str
    value: str
    colour: QColor


def paint_cursor(p: QPainter, theme: Theme, box: QRectF, x: float, bottom: float) -> None:
    """Paint the line at ``x`` from the top of the box down to ``bottom``, in pixels."""
    p.setPen(QPen(theme.colour("quiet"), 1, Qt.PenStyle.DotLine))
    p.drawLine(QPointF(x, box.top()), QPointF(x, bottom))


def paint_cursor_table(
    p: QPainter, theme: Theme, box: QRectF, x: float, heading: str, *, rows: Sequence[CursorRow]
) -> None:
    """Paint the table at the side of the line at ``x`` where it has room, at the top of the box."""
    small = font(0.85)
    p.setFont(small)
    metrics = QFontMetricsF(small)
    height = metrics.height() + 2
    names = max([metrics.horizontalAdvance(row.name) for row in rows] + [_LEAST_WIDTH])
    values = max([metrics.horizontalAdvance(row.value) for row in rows] + [_LEAST_WIDTH])
    table = QRectF(x + _OFFSET, box.top() + _MARGIN, names + values + 36, height * (len(rows) + 1) + 10)
    if table.right() > box.right():
        table.moveRight(x - _OFFSET)
    p.setPen(QPen(theme.colour("line"), 1))
    p.setBrush(theme.colour("raised", 240))
    p.drawRect(table)
    p.setBrush(Qt.BrushStyle.NoBrush)
    inside = table.adjusted(_MARGIN, 4, -_MARGIN, 0)
    p.setPen(theme.colour("text"))
    p.drawText(inside, Qt.AlignmentFlag.AlignLeft, heading)
    for number, row in enumerate(rows, start=1):
        line = QRectF(inside.left(), inside.top() + number * height, inside.width(), height)
        p.setPen(row.colour)
        p.drawText(line, Qt.AlignmentFlag.AlignLeft, row.name)
        p.setPen(theme.colour("text"))
        p.drawText(line, Qt.AlignmentFlag.AlignRight, row.value)
