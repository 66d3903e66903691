"""Grid lines and their labels, for every plot on screen and on paper."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QFontMetricsF, QPainter, QPen

from epidote.desktop.plotting.axis_scale import Scale, ticks
from epidote.desktop.theme import Theme, font

LABEL_SIZE = 0.82  # of the application's text
_WIDTH_PER_LABEL = 3.6  # heights of text along x
_HEIGHT_PER_LABEL = 2.1  # heights of text along y
_GAP = 8  # pixels between a label and the plot
_LABEL_WIDTH = 192  # pixels, of labels beside the y axis
OVERHANG = 8  # pixels by which the last label along x may pass the plot's right edge

# the label of a value, given all labelled values of the axis
LabelOf = Callable[[float, list[float]], str]


class AxisPainter:
    """Paints the grid of a plot in a theme's colours."""

    def __init__(self, theme: Theme) -> None:
        self._theme = theme
        self._font: QFont = font(LABEL_SIZE)
        self._metrics = QFontMetricsF(self._font)

    def paint_x(self, p: QPainter, box: QRectF, x: Scale, label_of: LabelOf, *, labelled: bool = True) -> None:
        """Paint lines across the box, with labels beneath it where ``labelled``."""
        lines = ticks(x, max(3, int(box.width() / (self._metrics.height() * _WIDTH_PER_LABEL))))
        for value, named in lines:
            px = box.left() + x.place(value) * box.width()
            self._set_pen(p, named=named)
            p.drawLine(QPointF(px, box.top()), QPointF(px, box.bottom()))
        if labelled:
            self._labels_below(p, box, x, [value for value, named in lines if named], label_of)

    def paint_y(self, p: QPainter, box: QRectF, y: Scale, label_of: LabelOf) -> None:
        """Paint lines along the box, with labels to the left of it."""
        lines = ticks(y, max(2, int(box.height() / (self._metrics.height() * _HEIGHT_PER_LABEL))))
        named_values = [value for value, named in lines if named]
        p.setFont(self._font)
        for value, named in lines:
            py = box.bottom() - y.place(value) * box.height()
            self._set_pen(p, named=named)
            p.drawLine(QPointF(box.left(), py), QPointF(box.right(), py))
            if named:
                height = self._metrics.height()
                place = QRectF(box.left() - _LABEL_WIDTH - _GAP, py - height / 2, _LABEL_WIDTH, height)
                p.setPen(self._theme.colour("quiet"))
                right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
                p.drawText(place, right, label_of(value, named_values))

    def _set_pen(self, p: QPainter, *, named: bool) -> None:
        if named:
            p.setPen(QPen(self._theme.colour("line"), 1))
        else:
            p.setPen(QPen(self._theme.colour("faint_line"), 0.6))

    def _labels_below(self, p: QPainter, box: QRectF, x: Scale, values: list[float], label_of: LabelOf) -> None:
        """Paint labels where they have room, whole decades of a logarithmic axis first."""
        p.setFont(self._font)
        p.setPen(self._theme.colour("quiet"))
        used_areas: list[QRectF] = []
        decades = [value for value in values if x.log and f"{value:.0e}".startswith("1e")]
        for value in (*decades, *(value for value in values if value not in decades)):
            text = label_of(value, values)
            width = self._metrics.horizontalAdvance(text) + 4
            centre = box.left() + x.place(value) * box.width()
            # the last one moves inwards rather than lose its end
            left = min(centre - width / 2, box.right() + OVERHANG - width)
            place = QRectF(left, box.bottom() + 4, width, self._metrics.height())
            if not any(place.adjusted(-2, 0, 2, 0).intersects(other) for other in used_areas):
                p.drawText(place, Qt.AlignmentFlag.AlignCenter, text)
                used_areas.append(place)
