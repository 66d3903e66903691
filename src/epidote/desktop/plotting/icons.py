"""The project's few drawn signs: its mark, the caution, those of a row's head."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF


def caution_mark(p: QPainter, box: QRectF, colour: QColor, ink: QColor) -> None:
    """Paint the triangle that marks a caution."""
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(colour)
    p.drawPolygon(QPolygonF([QPointF(box.center().x(), box.top()), box.bottomRight(), box.bottomLeft()]))
    p.setBrush(ink)
    middle = box.center().x()
    p.drawRect(QRectF(middle - 0.75, box.top() + box.height() * 0.38, 1.5, box.height() * 0.3))
    p.drawRect(QRectF(middle - 0.75, box.top() + box.height() * 0.78, 1.5, 1.5))
    p.setBrush(Qt.BrushStyle.NoBrush)


def eye_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint a closed eye: this row is left out of the graph."""
    p.setPen(QPen(colour, 1.3))
    path = QPainterPath(box.topLeft())
    path.quadTo(QPointF(box.center().x(), box.bottom() + 2), box.topRight())
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawPath(path)
    for share in (0.2, 0.5, 0.8):
        x = box.left() + share * box.width()
        y = box.top() + box.height() * (0.55 if share == 0.5 else 0.35)
        p.drawLine(QPointF(x, y), QPointF(x + (share - 0.5) * 4, y + 3.5))


def open_eye_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint an open eye: this row is shown in the graph."""
    p.setPen(QPen(colour, 1.3))
    p.setBrush(Qt.BrushStyle.NoBrush)
    middle, reach = box.center().y(), 0.62 * box.height()
    path = QPainterPath(QPointF(box.left(), middle))
    path.quadTo(QPointF(box.center().x(), middle - reach), QPointF(box.right(), middle))
    path.quadTo(QPointF(box.center().x(), middle + reach), QPointF(box.left(), middle))
    p.drawPath(path)
    p.setBrush(colour)
    p.drawEllipse(box.center(), 0.13 * box.width(), 0.13 * box.width())
    p.setBrush(Qt.BrushStyle.NoBrush)


def reference_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint the triangle on a line that marks a datum in drawings: the others are compared with this row."""
    line = box.bottom() - 2
    p.setPen(QPen(colour, 1.5))
    p.drawLine(QPointF(box.left(), line), QPointF(box.right(), line))
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(colour)
    middle, half = box.center().x(), 0.3 * box.width()
    top = box.top() + 0.2 * box.height()
    p.drawPolygon(QPolygonF([QPointF(middle - half, top), QPointF(middle + half, top), QPointF(middle, line - 1)]))
    p.setBrush(Qt.BrushStyle.NoBrush)


def dots_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint three dots, one above the other: a menu opens."""
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(colour)
    radius = 0.1 * box.height()
    for share in (0.15, 0.5, 0.85):
        p.drawEllipse(QPointF(box.center().x(), box.top() + share * box.height()), radius, radius)
    p.setBrush(Qt.BrushStyle.NoBrush)


def sheets_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint two sheets, one partly behind the other: copy."""
    p.setPen(QPen(colour, 1.3))
    p.setBrush(Qt.BrushStyle.NoBrush)
    width, height = 0.58 * box.width(), 0.7 * box.height()
    front = QRectF(box.right() - width, box.bottom() - height, width, height)
    p.drawRect(front)
    back = QPainterPath(QPointF(front.left() - 3, front.bottom() - 4))
    back.lineTo(QPointF(box.left() + 1, front.bottom() - 4))
    back.lineTo(box.topLeft() + QPointF(1, 1))
    back.lineTo(QPointF(front.right() - 4, box.top() + 1))
    back.lineTo(QPointF(front.right() - 4, front.top() - 3))
    p.drawPath(back)


def outward_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint two arrows that point apart: larger."""
    _arrows(p, box, colour, apart=True)


def inward_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint two arrows that point at each other: smaller."""
    _arrows(p, box, colour, apart=False)


def _arrows(p: QPainter, box: QRectF, colour: QColor, *, apart: bool) -> None:
    p.setPen(QPen(colour, 1.5))
    p.setBrush(Qt.BrushStyle.NoBrush)
    reach = 0.36 * box.width()
    for corner, side in ((box.topRight(), 1), (box.bottomLeft(), -1)):
        inner = box.center() + QPointF(1.5 * side, -1.5 * side)
        tip = corner if apart else inner
        back = -side if apart else side
        p.drawLine(inner, corner)
        p.drawLine(tip, tip + QPointF(back * reach, 0))
        p.drawLine(tip, tip - QPointF(0, back * reach))


def fold_mark(p: QPainter, box: QRectF, colour: QColor, *, folded: bool) -> None:
    """Paint the triangle of rows that can be folded: it points right while they are, else down."""
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(colour)
    if folded:
        corners = [box.topLeft(), box.bottomLeft(), QPointF(box.right(), box.center().y())]
    else:
        corners = [box.topLeft(), box.topRight(), QPointF(box.center().x(), box.bottom())]
    p.drawPolygon(QPolygonF(corners))
    p.setBrush(Qt.BrushStyle.NoBrush)


def page_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint a sheet with two lines: notes or pictures belong here."""
    p.setPen(QPen(colour, 1.2))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(box)
    for share in (0.35, 0.65):
        y = box.top() + share * box.height()
        p.drawLine(QPointF(box.left() + 2.5, y), QPointF(box.right() - 2.5, y))


def crystal_mark(p: QPainter, box: QRectF, colour: QColor) -> None:
    """Paint the application's mark: three blades of a crystal."""
    p.setPen(Qt.PenStyle.NoPen)
    w, h, x, y = box.width(), box.height(), box.left(), box.top()
    for alpha, points in (
        (255, ((0.42, 0.0), (0.62, 0.12), (0.56, 1.0), (0.36, 1.0))),
        (190, ((0.70, 0.22), (0.92, 0.34), (0.80, 1.0), (0.61, 1.0))),
        (150, ((0.08, 0.34), (0.30, 0.18), (0.32, 1.0), (0.16, 1.0))),
    ):
        shade = QColor(colour)
        shade.setAlpha(alpha)
        p.setBrush(shade)
        p.drawPolygon(QPolygonF([QPointF(x + a * w, y + b * h) for a, b in points]))
    p.setBrush(Qt.BrushStyle.NoBrush)
