"""Latencies as bars: the part of the buffers and the rest, the guides for live playing, and those that are equal."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from epidote.core.quantities.formatting import format_quantity
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded

_LINE = 1.9  # height of a bar with the room about it, in heights of the text


@dataclass(frozen=True)
class LatencyBar:
    """seconds: the whole latency; of_buffers: the part that twice the buffer size explains."""

    name: str
    seconds: float
    of_buffers: float = 0.0

    @property
    def words(self) -> str:
        """Return the bar in words."""
        whole = format_quantity(self.seconds, "s", digits=4)
        if not self.of_buffers:
            return f"{self.name}: {whole}"
        return f"{self.name}: {whole}, of which buffers {format_quantity(self.of_buffers, 's', digits=3)}"


class LatencyBars(QWidget):
    """guides: (name, seconds) of the lines across all bars."""

    def __init__(self, theme: Theme, guides: Sequence[tuple[str, float]]) -> None:
        super().__init__()
        self.theme, self._guides = theme, tuple(guides)
        self._bars: tuple[LatencyBar, ...] = ()
        self._equal: frozenset[str] = frozenset()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        self.setAccessibleName("Latencies as bars")

    def show_bars(self, bars: Sequence[LatencyBar]) -> None:
        self._bars = tuple(bars)
        self.setAccessibleDescription("; ".join(bar.words for bar in bars))
        self.updateGeometry()
        self.update()

    def mark_equal(self, names: frozenset[str]) -> None:
        """Set off the bars with these names."""
        self._equal = names
        self.update()

    def sizeHint(self) -> QSize:
        height = QFontMetricsF(font(0.9)).height()
        return QSize(600, round(height * (_LINE * len(self._bars) + 1.8)))

    def minimumSizeHint(self) -> QSize:
        return QSize(400, self.sizeHint().height())

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._bars:
            return
        p, t = QPainter(self), self.theme
        small = font(0.9)
        metrics = QFontMetricsF(small)
        line = metrics.height() * _LINE
        names = min(0.45 * self.width(), max(metrics.horizontalAdvance(b.name) for b in self._bars) + 14)
        values = metrics.horizontalAdvance("000.000 ms = ") + 8
        area = QRectF(names, metrics.height() * 1.4, self.width() - names - values, line * len(self._bars))
        longest = max([b.seconds for b in self._bars] + [1.1 * seconds for _, seconds in self._guides])
        for number, bar in enumerate(self._bars):
            top = area.top() + number * line
            equal = bar.name in self._equal
            p.setFont(font(0.9, bold=equal))
            p.setPen(t.colour("text"))
            words = metrics.elidedText(bar.name, Qt.TextElideMode.ElideMiddle, names - 10)
            p.drawText(QRectF(0, top, names - 8, line), Qt.AlignmentFlag.AlignVCenter, words)
            whole = area.width() * bar.seconds / longest
            buffers = min(whole, area.width() * bar.of_buffers / longest)
            box = QRectF(area.left(), top + 0.22 * line, whole, 0.56 * line)
            p.fillRect(box, t.row(0))
            p.fillRect(QRectF(box.left(), box.top(), buffers, box.height()), t.row(8))
            value = f"{'= ' if equal else ''}{format_quantity(bar.seconds, 's', digits=4)}"
            where = QRectF(box.right() + 6, top, values, line)
            p.setPen(t.colour("text"))
            p.drawText(where, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, value)
        p.setFont(small)
        for name, seconds in self._guides:
            x = area.left() + area.width() * seconds / longest
            p.setPen(QPen(t.colour("caution"), 1, Qt.PenStyle.DashLine))
            p.drawLine(QPointF(x, area.top() - 2), QPointF(x, area.bottom()))
            p.setPen(t.colour("caution"))
            width = metrics.horizontalAdvance(name) + 4
            left = min(x - width / 2, self.width() - width)
            p.drawText(QRectF(left, 0, width, metrics.height() * 1.3), Qt.AlignmentFlag.AlignCenter, name)
        p.end()
