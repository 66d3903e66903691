"""What the pictures of a reading over units are painted with: a frame with axes, lines, points that stand for units."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen

from epidote.core.quantities.formatting import format_axis
from epidote.core.signals.signal import Samples
from epidote.desktop.theme import Theme, font

_LEFT, _RIGHT, _TOP, _BOTTOM = 76, 20, 30, 44  # pixels
_DOT = 3.0
_MOST_DOTS = 4000


@dataclass(frozen=True)
class Plane:
    """Part of the picture on which values have their place: from left to right across, from low to high upwards."""

    box: QRectF
    left: float
    right: float
    low: float
    high: float

    def x(self, value: float) -> float:
        """Return the pixel of a value across."""
        return self.box.left() + (value - self.left) / (self.right - self.left) * self.box.width()

    def y(self, value: float) -> float:
        """Return the pixel of a value upwards."""
        return self.box.bottom() - (value - self.low) / (self.high - self.low) * self.box.height()

    def point(self, x: float, y: float) -> QPointF:
        return QPointF(self.x(x), self.y(y))

    def line(self, x: Samples, y: Samples) -> list[QPointF]:
        """Return the points of a line (count,)."""
        return [self.point(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]


class Canvas:
    """points: where units were painted, and the place of each among the units."""

    def __init__(self, painter: QPainter, theme: Theme, size: QSize) -> None:
        self.painter, self.theme = painter, theme
        self.width = size.width()
        self.box = QRectF(_LEFT, _TOP, size.width() - _LEFT - _RIGHT, size.height() - _TOP - _BOTTOM)
        self.points: list[tuple[QPointF, int]] = []

    def frame(self, across: str, up: str, box: QRectF | None = None) -> None:
        """Paint the frame with the titles of both axes."""
        box = box or self.box
        p = self.painter
        p.setPen(QPen(self.theme.colour("line"), 1))
        p.drawRect(box)
        p.setFont(font(0.9))
        p.setPen(self.theme.colour("quiet"))
        p.drawText(QRectF(box.left(), box.bottom() + 22, box.width(), 18), Qt.AlignmentFlag.AlignCenter, across)
        p.drawText(QRectF(4, 4, self.width - 8, 20), Qt.AlignmentFlag.AlignLeft, up)

    def say(self, words: str) -> None:
        """Write why there is no picture."""
        self.painter.setPen(self.theme.colour("quiet"))
        self.painter.setFont(font())
        self.painter.drawText(self.box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)

    # -- axes ----------------------------------------------------------------------------------------

    def ticks_across(self, plane: Plane, unit: str) -> None:
        """Paint a handful of values across."""
        for value in round_values(plane.left, plane.right):
            self.tick_across(plane, value, format_axis(value, unit))

    def tick_across(self, plane: Plane, value: float, words: str) -> None:
        """Paint one value across, with its line."""
        x, box, p = plane.x(value), plane.box, self.painter
        p.setPen(QPen(self.theme.colour("faint_line"), 1))
        p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        p.setPen(self.theme.colour("quiet"))
        p.drawText(QRectF(x - 40, box.bottom() + 4, 80, 16), Qt.AlignmentFlag.AlignCenter, words)

    def ticks_up(self, plane: Plane, unit: str) -> None:
        """Paint a handful of values upwards."""
        box, p = plane.box, self.painter
        for value in round_values(plane.low, plane.high):
            y = plane.y(value)
            p.setPen(QPen(self.theme.colour("faint_line"), 1))
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            p.setPen(self.theme.colour("quiet"))
            where = QRectF(0, y - 9, box.left() - 6, 18)
            p.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, format_axis(value, unit))

    # -- lines and points ----------------------------------------------------------------------------

    def level(self, plane: Plane, value: float, words: str, colour: str = "caution") -> None:
        """Paint a dashed line across at a value, with what it is."""
        y, box, p = plane.y(value), plane.box, self.painter
        p.setPen(QPen(self.theme.colour(colour), 1.4, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        p.setFont(font(0.85))
        p.drawText(QPointF(box.right() - 70, y - 4), words)

    def upright(self, plane: Plane, value: float, words: str) -> None:
        """Paint a dashed line from bottom to top at a value, with what it is beside it."""
        x, box, p = plane.x(value), plane.box, self.painter
        p.setPen(QPen(self.theme.colour("caution"), 1.4, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        p.setFont(font(0.85))
        room = p.fontMetrics().horizontalAdvance(words) + 8
        beside = x + 4 if x + room < box.right() else x - room + 4
        p.drawText(QPointF(beside, box.top() + 14), words)

    def expected(self, plane: Plane, x: Samples, y: Samples) -> None:
        """Paint a dashed line that values are compared with, as far as it is within the frame."""
        self.painter.setPen(QPen(self.theme.colour("quiet"), 1, Qt.PenStyle.DashLine))
        self.painter.setClipRect(plane.box)
        self.painter.drawPolyline(plane.line(x, y))
        self.painter.setClipping(False)

    def band(self, plane: Plane, x: Samples, ends: tuple[Samples, Samples]) -> None:
        """Fill what is between two lines."""
        colour = self.theme.row(0)
        colour.setAlpha(60)
        p = self.painter
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(colour)
        p.setClipRect(plane.box)
        p.drawPolygon(plane.line(x, ends[0]) + plane.line(x, ends[1])[::-1])
        p.setClipping(False)
        p.setBrush(Qt.BrushStyle.NoBrush)

    def cloud(
        self, plane: Plane, x: Samples, y: Samples, places: Sequence[int], marked: set[int] | frozenset[int]
    ) -> None:
        """Paint points; places: which unit each is; marked: units in the colour of a caution."""
        points = [(point, int(place)) for point, place in zip(plane.line(x, y), places, strict=True)]
        self._dots(points, marked)
        self.points += points

    def chain(self, plane: Plane, values: Samples, marked: set[int], *, told: bool = True) -> None:
        """Paint values from left to right, joined by a line; told: by the pointer."""
        every = max(1, values.size // _MOST_DOTS)
        points = [(plane.point(n, float(values[n])), n) for n in range(0, values.size, every)]
        self.painter.setPen(QPen(self.theme.colour("line"), 1))
        self.painter.drawPolyline([point for point, _ in points])
        self._dots(points, marked)
        if told:
            self.points += points

    def _dots(self, points: Sequence[tuple[QPointF, int]], marked: set[int] | frozenset[int]) -> None:
        p = self.painter
        p.setPen(Qt.PenStyle.NoPen)
        for point, place in points:
            p.setBrush(self.theme.colour("caution") if place in marked else self.theme.row(0))
            p.drawEllipse(point, _DOT + (place in marked), _DOT + (place in marked))
        p.setBrush(Qt.BrushStyle.NoBrush)


def with_room(low: float, high: float) -> tuple[float, float]:
    """Return ends a little apart from the values, and never together."""
    room = 0.06 * (high - low) or 0.5 * abs(high) or 0.5
    return low - room, high + room


def round_values(low: float, high: float) -> list[float]:
    """Return a handful of round values between two ends."""
    rough = (high - low) / 5
    power = 10.0 ** np.floor(np.log10(rough))
    step = next(power * n for n in (1, 2, 5, 10) if power * n >= rough)
    first = np.ceil(low / step)
    return [float(step * n) + 0.0 for n in np.arange(first, np.floor(high / step) + 1)]
