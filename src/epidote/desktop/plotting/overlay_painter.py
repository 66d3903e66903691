"""Painting what stands beside the curves: guides, limits, claims, the band of a deviation.

None of it is told by colour alone.
"""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.figure import Figure, Line
from epidote.desktop.plotting.polyline import polygon
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import Theme, font

_TICK_EVERY, _TICK = 14, 5
_VEIL = 225  # of 255


def _places(values: np.ndarray, scale: Scale) -> np.ndarray:
    if scale.log:
        return np.asarray(np.log(np.maximum(values, 1e-300) / scale.low) / np.log(scale.high / scale.low))
    return np.asarray((values - scale.low) / (scale.high - scale.low))


class LinePainter:
    """Paints guides, limits and claims over a graph."""

    def __init__(self, figure: Figure, view: Viewport, theme: Theme) -> None:
        self.figure, self.view, self.theme = figure, view, theme

    def areas(self, p: QPainter, box: QRectF) -> None:
        """Areas lie under the curves."""
        p.save()
        p.setClipRect(box)
        for line in self.figure.lines:
            if line.other is None:
                continue
            fill = QColor(self.theme.colour("accent_back"))
            fill.setAlpha(150)
            if line.x is None and line.y is not None:
                one, two = (float(v) for v in _places(np.array([line.y[0], line.other]), self.view.y))
                p.fillRect(
                    QRectF(
                        box.left(),
                        box.bottom() - max(one, two) * box.height(),
                        box.width(),
                        abs(two - one) * box.height(),
                    ),
                    fill,
                )
            elif line.x is not None:
                one, two = (float(v) for v in _places(np.array([line.x[0], line.other]), self.view.x))
                p.fillRect(
                    QRectF(
                        box.left() + min(one, two) * box.width(), box.top(), abs(two - one) * box.width(), box.height()
                    ),
                    fill,
                )
        p.restore()

    def lines(self, p: QPainter, box: QRectF) -> None:
        """Guides thin and dashed, limits with ticks on their forbidden side, claims dash-dotted in their row's colour;
        each with its name.
        """
        small = font(0.75)
        metrics = QFontMetricsF(small)
        labels: dict[str, tuple[QRectF, QColor]] = {}
        p.save()
        p.setClipRect(box)
        p.setFont(small)
        for line in self.figure.lines:
            px, py = self._corners(line, box)
            pen = self._pen(line)
            p.setPen(pen)
            if px.size > 1:
                p.drawPolyline(polygon(px, py))
            if line.kind in ("upper", "lower"):
                self._ticks(p, px, py, -1 if line.kind == "upper" else 1)
            if line.name not in labels:
                label = self._label(line, px, py, box, metrics)
                while any(label.intersects(other) for other, _ in labels.values()):
                    label.translate(0, metrics.height())
                labels[line.name] = (label, pen.color())
        veil = self.theme.colour(
            "back", _VEIL
        )  # so that a name can be read where curves and other lines pass behind it
        for name, (label, colour) in labels.items():
            p.fillRect(label.adjusted(-2, 1, 1, -1), veil)
            p.setPen(colour)
            p.drawText(label, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        p.restore()

    def _corners(self, line: Line, box: QRectF) -> tuple[np.ndarray, np.ndarray]:
        across = np.array([0.0, 1.0])
        if line.x is None:
            px = across
        else:
            px = _places(line.x, self.view.x)
        if line.y is None:
            py = across
        else:
            py = _places(line.y, self.view.y)
        if px.size != py.size:  # one value right across the other axis
            if px.size == 1:
                px, py = np.full(2, px[0]), across
            else:
                py = np.full(px.size, py[0])
        return box.left() + np.clip(px, -5, 6) * box.width(), box.bottom() - np.clip(py, -20, 20) * box.height()

    def _pen(self, line: Line) -> QPen:
        if line.kind == "guide":
            pen = QPen(self.theme.colour("quiet"), 1)
            pen.setDashPattern([6, 4])
        elif line.kind == "claim":
            pen = QPen(self.theme.row(line.colour), 1.2)
            pen.setDashPattern([8, 3, 1.5, 3])
        else:
            pen = QPen(self.theme.colour("caution" if line.failed else "text"), 1.5)
        return pen

    def _ticks(self, p: QPainter, px: np.ndarray, py: np.ndarray, up: int) -> None:
        """Short slanted strokes on the side where nothing may lie."""
        if px.size < 2:
            return
        for x in np.arange(float(px.min()) + _TICK_EVERY, float(px.max()), _TICK_EVERY):
            y = float(np.interp(x, px, py))
            p.drawLine(QPointF(x, y), QPointF(x + _TICK, y + up * _TICK))

    def _label(self, line: Line, px: np.ndarray, py: np.ndarray, box: QRectF, metrics: QFontMetricsF) -> QRectF:
        width = metrics.horizontalAdvance(line.name) + 2
        if line.y is None:  # a place along x: beside the line, at the top
            return QRectF(min(float(px[0]) + 4, box.right() - width), box.top() + 16, width, metrics.height())
        inside = np.flatnonzero((px >= box.left() - 1) & (px <= box.right() + 1))
        if inside.size:
            y = float(py[inside[0]])
        else:
            y = float(py[0])
        x = max(box.left(), float(px[inside[0]]) if inside.size else box.left()) + 6
        return QRectF(x, y - metrics.height() - 1, width, metrics.height())

    def band(self, p: QPainter, box: QRectF) -> None:
        """Where the greatest deviation is looked for."""
        if self.figure.band is None:
            return
        low, high = (min(1.0, max(0.0, self.view.x.place(x))) for x in self.figure.band)
        area = QRectF(box.left() + low * box.width(), box.top(), (high - low) * box.width(), box.height())
        fill = QColor(self.theme.colour("accent_back"))
        fill.setAlpha(170)
        p.fillRect(area, fill)
        p.setPen(QPen(self.theme.colour("accent"), 1))
        p.drawLine(area.topLeft(), area.bottomLeft())
        p.drawLine(area.topRight(), area.bottomRight())

    def deviations(self, p: QPainter, area: QRectF) -> float:
        """Return the greatest deviation of each difference, at the right above the strip; where they begin."""
        small = font(0.8)
        metrics = QFontMetricsF(small)
        p.setFont(small)
        right = area.right()
        for colour, words in reversed(self.figure.deviations[:4]):
            width = metrics.horizontalAdvance(words) + 14
            p.setPen(self.theme.row(colour))
            p.drawText(
                QRectF(right - width, area.top(), width, area.height()),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                words,
            )
            right -= width
        return right
