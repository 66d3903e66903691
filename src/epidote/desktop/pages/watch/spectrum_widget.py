"""The live spectrum painted: a still layer of axes and held states, and the present over it thirty times a second."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from epidote.core.live.spectrum_analyser import View
from epidote.core.quantities.formatting import format_axis, format_quantity
from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.axis_scale import Scale, ticks
from epidote.desktop.plotting.figure_painter import DASHES
from epidote.desktop.plotting.polyline import polygon
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded


@dataclass(frozen=True, eq=False)
class Layer:
    """A curve over the view's pixels: low and high (width,) in the shown unit, NaN where there is none."""

    name: str
    colour: int
    channel: int
    low: Samples
    high: Samples
    dashed: bool = False


class SpectrumWidget(QWidget):
    """``view_changed`` when the stretch of frequency or the width in pixels changes.

    ``key`` for keys that the page knows.
    """

    view_changed = Signal(object)
    pressed = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.unit, self.title = "dBFS", "Level"
        self.top_hertz = 24000.0
        self.log = True
        self._x = Scale(10, 24000, True)
        self._y = Scale(-160, 0)
        self._home_y = self._y
        self.held_layers: tuple[Layer, ...] = ()
        self.live_layers: tuple[Layer, ...] = ()
        self._marks: tuple[float, ...] = ()
        self._note = ""
        self._cursor: float | None = None
        self._drag: QPointF | None = None
        self._pixmap: QPixmap | None = None
        self.setAttribute(
            Qt.WidgetAttribute.WA_OpaquePaintEvent
        )  # all of it is painted here, so nothing beneath needs to be
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(120)
        self.setAccessibleName("Live spectrum")

    def sizeHint(self) -> QSize:
        return QSize(1240, 400)

    # -- what is shown -----------------------------------------------------------------------------

    def view(self) -> View:
        return View(self._x.low, self._x.high, self._x.log, max(64, round(self._box().width())))

    def set_range(self, top_hertz: float, log: bool) -> None:
        """From 10 Hz (or 0) to half the rate."""
        if (top_hertz, log) != (self.top_hertz, self.log):
            self.top_hertz, self.log = top_hertz, log
            self._home_x()

    def _home_x(self) -> None:
        if self.log:
            self._x = Scale(10, self.top_hertz, True)
        else:
            self._x = Scale(0, self.top_hertz)
        self._tell()

    def set_levels(self, low: float, high: float, unit: str, title: str) -> None:
        """Set the unit shown, and the levels that are in view to begin with."""
        self.unit, self.title = unit, title
        self._y = self._home_y = Scale(low, high)
        self._redraw()

    def show_still(self, layers: tuple[Layer, ...], marks: tuple[float, ...], note: str) -> None:
        """Held states and the threshold; marks: frequencies of the mains."""
        self.held_layers, self._marks, self._note = layers, marks, note
        self._redraw()

    def show_now(self, layers: tuple[Layer, ...]) -> None:
        self.live_layers = layers
        self.update()

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self._redraw()

    def _redraw(self) -> None:
        self._pixmap = None
        self.update()

    def _tell(self) -> None:
        self.live_layers = ()
        self._redraw()
        self.view_changed.emit(self.view())

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._tell()

    # -- painting ----------------------------------------------------------------------------------

    def _box(self) -> QRectF:
        height = QFontMetricsF(font(0.82)).height()
        return QRectF(self.rect()).adjusted(3.6 * height, 1.5 * height, -1.2 * height, -1.9 * height)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        box = self._box()
        if self._pixmap is None:
            ratio = self.devicePixelRatioF()
            self._pixmap = QPixmap(self.size() * ratio)
            self._pixmap.setDevicePixelRatio(ratio)
            self._pixmap.fill(self.theme.colour("back"))
            still = QPainter(self._pixmap)
            still.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._axes(still, box)
            for layer in self.held_layers:
                self._curve(still, box, layer)
            still.end()
        p.drawPixmap(0, 0, self._pixmap)
        for layer in self.live_layers:
            self._curve(p, box, layer)
        if not self.live_layers:
            p.setPen(self.theme.colour("quiet"))
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, self._note)
        self._pointer(p, box)
        if self.hasFocus():
            p.setPen(QPen(self.theme.colour("accent"), 1))
            p.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _axes(self, p: QPainter, box: QRectF) -> None:
        t, small = self.theme, font(0.82)
        metrics = QFontMetricsF(small)
        p.setFont(small)
        end = -1e9
        for value, named in ticks(self._x, max(4, int(box.width() / (metrics.height() * 4)))):
            x = box.left() + self._x.place(value) * box.width()
            p.setPen(QPen(t.colour("line" if named else "faint_line"), 1 if named else 0.6))
            p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            words = format_axis(value, "Hz")
            half = metrics.horizontalAdvance(words) / 2
            if named and x - half > end + 5:
                p.setPen(t.colour("quiet"))
                p.drawText(
                    QRectF(x - half - 2, box.bottom() + 6, 2 * half + 4, metrics.height()),
                    Qt.AlignmentFlag.AlignCenter,
                    words,
                )
                end = x + half
        for value, _ in ticks(self._y, max(2, int(box.height() / (metrics.height() * 2)))):
            y = box.bottom() - self._y.place(value) * box.height()
            p.setPen(QPen(t.colour("faint_line"), 1))
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            p.setPen(t.colour("quiet"))
            where = QRectF(0, y - metrics.height() / 2, box.left() - 7, metrics.height())
            p.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{value:g}")
        p.drawText(
            QRectF(6, 0, box.width(), box.top() - 2),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            f"{self.title}, {self.unit}",
        )
        p.drawText(
            QRectF(box.left(), 0, box.width(), box.top() - 2),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            "Frequency, Hz",
        )
        p.setPen(QPen(t.colour("quiet"), 2))
        for f in self._marks:
            if self._x.low <= f <= self._x.high:
                x = box.left() + self._x.place(f) * box.width()
                p.drawLine(QPointF(x, box.bottom()), QPointF(x, box.bottom() + 5))

    def _curve(self, p: QPainter, box: QRectF, layer: Layer) -> None:
        n = layer.high.size
        if n < 2:
            return
        scale = box.height() / (self._y.high - self._y.low)
        top, low = (
            np.clip(box.bottom() - (v - self._y.low) * scale, box.top() - 2, box.bottom() + 1)
            for v in (layer.high, layer.low)
        )
        xs = box.left() + (np.arange(n, dtype=np.float64) + 0.5) * np.float64(box.width() / n)
        pen = QPen(self.theme.colour("caution") if layer.colour < 0 else self.theme.row(layer.colour), 1)
        dash = DASHES.get(layer.channel, [])
        if layer.dashed:
            pen.setDashPattern([6, 4])
        elif dash and layer.colour >= 0:
            colour = pen.color()
            colour.setAlphaF(0.55)  # dashes vanish in a line that jumps at every pixel
            pen.setColor(colour)
        edges = np.flatnonzero(np.diff(np.concatenate([[False], np.isfinite(top), [False]]).astype(np.int8)))
        for a, b in zip(edges[::2], edges[1::2], strict=True):
            if layer.low is not layer.high and layer.channel == 1:
                # between the least and the greatest bin of each pixel, faint: how thick the noise is
                fill = pen.color()
                fill.setAlphaF(0.28)
                p.setPen(Qt.PenStyle.NoPen)
                p.setBrush(fill)
                p.drawPolygon(
                    polygon(np.concatenate([xs[a:b], xs[a:b][::-1]]), np.concatenate([top[a:b], low[a:b][::-1]]))
                )
                p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(pen)
            p.drawPolyline(polygon(xs[a:b], top[a:b]))

    def readings_at_cursor(self) -> list[tuple[str, str]]:
        """(name, level in words) of every curve at the pointer; the highest within three pixels, so that lines can be
        read.
        """
        if self._cursor is None:
            return []
        rows = []
        for layer in (*self.live_layers, *self.held_layers):
            n = layer.high.size
            centre = int(self._x.place(self._cursor) * n)
            part = layer.high[max(0, centre - 3) : centre + 4]
            part = part[np.isfinite(part)]
            if part.size:
                if layer.colour < 0:
                    name = layer.name
                else:
                    name = f"{layer.name}  {layer.channel}"
                rows.append((name, format_quantity(float(part.max()), "dB").replace("dB", self.unit)))
        return rows

    def _pointer(self, p: QPainter, box: QRectF) -> None:
        if self._cursor is None or not 0 <= self._x.place(self._cursor) <= 1:
            return
        x = box.left() + self._x.place(self._cursor) * box.width()
        p.setPen(QPen(self.theme.colour("quiet"), 1, Qt.PenStyle.DotLine))
        p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        rows = [(format_quantity(self._cursor, "Hz", digits=4), ""), *self.readings_at_cursor()]
        small = font(0.85)
        p.setFont(small)
        metrics = QFontMetricsF(small)
        wide = max(metrics.horizontalAdvance(a + b) for a, b in rows) + 36
        table = QRectF(x + 12, box.top() + 8, wide, (metrics.height() + 2) * len(rows) + 8)
        if table.right() > box.right():
            table.moveRight(x - 12)
        p.setPen(QPen(self.theme.colour("line"), 1))
        p.setBrush(self.theme.colour("raised", 235))
        p.drawRect(table)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(self.theme.colour("text"))
        for i, (name, value) in enumerate(rows):
            line = QRectF(
                table.left() + 8, table.top() + 4 + i * (metrics.height() + 2), table.width() - 16, metrics.height()
            )
            p.drawText(line, Qt.AlignmentFlag.AlignLeft, name)
            p.drawText(line, Qt.AlignmentFlag.AlignRight, value)

    # -- mouse and keys ----------------------------------------------------------------------------

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        box = self._box()
        if self._drag is not None:
            moved = event.position() - self._drag
            self._drag = event.position()
            self._y = self._y.moved(moved.y() / box.height())
            self._shift(-moved.x() / box.width())
        place = (event.position().x() - box.left()) / box.width()
        if 0 <= place <= 1:
            self._cursor = self._x.value(place)
        else:
            self._cursor = None
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._drag = event.position()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.reset()

    def leaveEvent(self, event: object) -> None:
        self._cursor = None
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.angleDelta().y() > 0:
            factor = 0.8
        else:
            factor = 1.25
        box = self._box()
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._y = self._y.zoomed(factor, 1 - (event.position().y() - box.top()) / box.height())
            self._redraw()
        else:
            self.zoom(factor, (event.position().x() - box.left()) / box.width())

    def zoom(self, factor: float, about: float = 0.5) -> None:
        """Along the frequencies."""
        self._x = self._x.zoomed(factor, about).within(10 if self.log else 0, self.top_hertz)
        self._tell()

    def _shift(self, share: float) -> None:
        moved = self._x.moved(share)
        if moved.low >= (10 if self.log else 0) * (1 - 1e-9) and moved.high <= self.top_hertz * (1 + 1e-9):
            self._x = moved
        self._tell()

    def reset(self) -> None:
        """Everything in view again."""
        self._y = self._home_y
        self._home_x()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = Qt.Key(event.key())
        named = {
            Qt.Key.Key_Space: "output",
            Qt.Key.Key_H: "hold",
            Qt.Key.Key_S: "hold",
            Qt.Key.Key_R: "restart",
            Qt.Key.Key_Z: "zero",
        }.get(key)
        if named:
            self.pressed.emit(named)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(0.8)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1.25)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            if self._cursor is not None:
                middle = self._cursor
            else:
                middle = self._x.value(0.5)
            place = self._x.place(middle) + (0.005 if key == Qt.Key.Key_Right else -0.005)
            self._cursor = self._x.value(min(max(place, 0), 1))
            self.update()
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._y = self._y.moved(0.05 if key == Qt.Key.Key_Up else -0.05)
            self._redraw()
        elif key == Qt.Key.Key_Home:
            self.reset()
        else:
            super().keyPressEvent(event)
