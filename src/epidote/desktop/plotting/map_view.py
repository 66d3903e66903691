"""A colour map of frequency against a numeric condition."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from epidote.core.quantities.formatting import format_axis
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded

if TYPE_CHECKING:
    from epidote.core.comparison.conditions.curve_map import CurveMap

_TICKS = (20.0, 50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0, 20000.0)
_RANGE_DB = 40.0  # below the greatest level, beyond which all is one colour
_BAR = 12  # pixels
_MOST_NAMED = 12  # rows whose values are written; of more, round values
_STEPS = [m * 10.0**e for e in range(-3, 7) for m in (1, 2, 2.5, 5)]


class MapView(QWidget):
    """Levels by colour; each row of the map fills the room half way to its neighbours."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._shown: CurveMap | None = None
        self._range = (0.0, 1.0)
        self.setMinimumHeight(140)
        self.setAccessibleName("Map of frequency and condition")
        self.hide()

    def show_map(self, shown: CurveMap | None) -> None:
        """Show a map; None hides it."""
        self._shown = shown
        if shown is not None:
            high = float(shown.levels.max())
            self._range = max(float(shown.levels.min()), high - _RANGE_DB), high
        self.setVisible(shown is not None)
        self.update()

    def _colours(self) -> np.ndarray:
        """Return 256 colours (256, 3) from the background over the accent to the text."""
        stops = [self.theme.colour(name) for name in ("faint_line", "accent", "text")]
        table = np.array([[c.red(), c.green(), c.blue()] for c in stops], dtype=float)
        at = np.linspace(0, 2, 256)
        return np.stack([np.interp(at, [0, 1, 2], table[:, k]) for k in range(3)], axis=1)

    def _image(self, width: int, height: int) -> QImage:
        assert self._shown is not None
        low, high = self._range
        values = self._shown.values
        edges = np.concatenate([[values[0]], (values[1:] + values[:-1]) / 2, [values[-1]]])
        places = np.linspace(edges[-1], edges[0], height)
        rows = np.clip(np.searchsorted(edges, places, side="right") - 1, 0, values.size - 1)
        columns = np.clip(np.round(np.linspace(0, self._shown.x.size - 1, width)).astype(int), 0, None)
        share = np.clip((self._shown.levels[np.ix_(rows, columns)] - low) / max(high - low, 1e-9), 0, 1)
        pixels = self._colours()[(share * 255).astype(int)].astype(np.uint8)
        filled = np.full((height, width, 4), 255, np.uint8)
        filled[:, :, :3] = pixels[:, :, ::-1]  # blue first, as RGB32 stands in memory
        image = QImage(filled.tobytes(), width, height, 4 * width, QImage.Format.Format_RGB32)
        return image.copy()  # the bytes above do not outlive this function

    def _ticks(self) -> list[float]:
        """Return the values that are written beside the map: those of its rows, or round ones among many."""
        assert self._shown is not None
        values = self._shown.values
        if values.size <= _MOST_NAMED:
            return [float(v) for v in values]
        span = float(values[-1] - values[0])
        step = next(s for s in _STEPS if span / s <= _MOST_NAMED)
        first = math.ceil(float(values[0]) / step) * step
        return [first + n * step for n in range(int((float(values[-1]) - first) / step) + 1)]

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        shown = self._shown
        if shown is None:
            return
        painter = QPainter(self)
        small = font(0.8)
        painter.setFont(small)
        metrics = QFontMetricsF(small)
        names = [f"{v:.4g}" for v in self._ticks()]
        title = f"{shown.condition}, {shown.unit}" if shown.unit == "%" else shown.condition
        left = max(metrics.horizontalAdvance(n) for n in names) + 12
        scale_room = metrics.horizontalAdvance("-100 dB") + _BAR + 14
        top = metrics.height() + 4
        box = QRectF(left, top, self.width() - left - scale_room, self.height() - metrics.height() - top - 10)
        if box.width() < 20 or box.height() < 20:
            return
        painter.setPen(self.theme.colour("quiet"))
        painter.drawText(QRectF(0, 0, self.width(), metrics.height()), Qt.AlignmentFlag.AlignLeft, title)
        painter.drawImage(box, self._image(max(1, round(box.width())), max(1, round(box.height()))))
        self._axes(painter, metrics, box, names)
        self._scale(painter, metrics, box)

    def _axes(self, painter: QPainter, metrics: QFontMetricsF, box: QRectF, names: list[str]) -> None:
        assert self._shown is not None
        values, x = self._shown.values, self._shown.x
        painter.setPen(QPen(self.theme.colour("quiet"), 1))
        last = -math.inf
        for value, name in zip(self._ticks(), names, strict=True):
            share = (value - values[0]) / (values[-1] - values[0])
            y = box.bottom() - share * box.height()
            if abs(y - last) < metrics.height():
                continue
            last = y
            area = QRectF(0, y - metrics.height() / 2, box.left() - 6, metrics.height())
            painter.drawText(area, Qt.AlignmentFlag.AlignRight, name)
        for tick in _TICKS:
            if x[0] <= tick <= x[-1]:
                place = box.left() + math.log(tick / x[0]) / math.log(x[-1] / x[0]) * box.width()
                painter.drawLine(QPointF(place, box.bottom()), QPointF(place, box.bottom() + 3))
                area = QRectF(place - 40, box.bottom() + 5, 80, metrics.height())
                painter.drawText(area, Qt.AlignmentFlag.AlignCenter, format_axis(tick, "Hz"))

    def _scale(self, painter: QPainter, metrics: QFontMetricsF, box: QRectF) -> None:
        """Draw what the colours stand for."""
        low, high = self._range
        colours = self._colours()
        left = box.right() + 8
        for step in range(round(box.height())):
            red, green, blue = colours[round(255 * (1 - step / box.height()))]
            painter.setPen(QColor(round(red), round(green), round(blue)))
            painter.drawLine(QPointF(left, box.top() + step), QPointF(left + _BAR, box.top() + step))
        painter.setPen(self.theme.colour("quiet"))
        for share, value in ((0.0, high), (0.5, (low + high) / 2), (1.0, low)):
            y = box.top() + share * box.height() - metrics.height() / 2
            area = QRectF(left + _BAR + 4, y, self.width() - left - _BAR - 4, metrics.height())
            painter.drawText(area, Qt.AlignmentFlag.AlignLeft, f"{value:.0f} dB")
