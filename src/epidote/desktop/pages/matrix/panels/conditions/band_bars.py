"""Deviation between rows, band by band, as bars over frequency."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from epidote.core.quantities.formatting import format_axis
from epidote.desktop.plotting.axis_scale import nice_range
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded

if TYPE_CHECKING:
    from epidote.core.comparison.conditions.uniformity import Uniformity

_LEAST_SPAN = 1.0  # dB
_DECADES = (20.0, 50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0, 10000.0, 20000.0)


class BandBars(QWidget):
    """A bar for each band; those that do not count are hollow, the worst one is in the colour of attention."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._shown: Uniformity | None = None
        self.setMinimumHeight(110)
        self.setAccessibleName("Deviation by band")
        self.hide()

    def show_bands(self, shown: Uniformity | None) -> None:
        """Show the bands of a comparison; None hides the bars."""
        self._shown = shown
        self.setVisible(shown is not None)
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        if self._shown is None:
            return
        bands = self._shown.bands
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        small = font(0.8)
        painter.setFont(small)
        metrics = QFontMetricsF(small)
        _, top = nice_range(0.0, max(band.deviation for band in bands), _LEAST_SPAN)
        left = metrics.horizontalAdvance(f"{top:g} dB") + 12
        box = QRectF(left, 8, self.width() - left - 10, self.height() - metrics.height() - 18)
        self._axis(painter, metrics, box, top)
        first, last = math.log(bands[0].frequency), math.log(bands[-1].frequency)
        span = max(last - first, 1e-6)
        width = max(2.0, 0.7 * box.width() / max(1, len(bands)))
        for band in bands:
            place = box.left() + width / 2 + (math.log(band.frequency) - first) / span * (box.width() - width)
            height = band.deviation / top * box.height()
            bar = QRectF(place - width / 2, box.bottom() - height, width, height)
            self._bar(painter, bar, band.frequency, counted=not band.near_background)
        painter.setPen(self.theme.colour("quiet"))
        for frequency in _DECADES:
            if bands[0].frequency * 0.98 <= frequency <= bands[-1].frequency * 1.02:
                place = box.left() + width / 2 + (math.log(frequency) - first) / span * (box.width() - width)
                area = QRectF(place - 40, box.bottom() + 4, 80, metrics.height())
                painter.drawText(area, Qt.AlignmentFlag.AlignCenter, format_axis(frequency, "Hz"))

    def _axis(self, painter: QPainter, metrics: QFontMetricsF, box: QRectF, top: float) -> None:
        for share in (0.0, 0.5, 1.0):
            y = box.bottom() - share * box.height()
            painter.setPen(QPen(self.theme.colour("faint_line"), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(self.theme.colour("quiet"))
            area = QRectF(0, y - metrics.height() / 2, box.left() - 8, metrics.height())
            painter.drawText(area, Qt.AlignmentFlag.AlignRight, f"{share * top:g} dB")

    def _bar(self, painter: QPainter, bar: QRectF, frequency: float, *, counted: bool) -> None:
        assert self._shown is not None
        worst = frequency == self._shown.worst_frequency
        colour = self.theme.colour("caution" if worst else "accent")
        painter.setPen(QPen(colour, 1))
        painter.setBrush(colour if counted else Qt.BrushStyle.NoBrush)
        painter.drawRect(bar)
