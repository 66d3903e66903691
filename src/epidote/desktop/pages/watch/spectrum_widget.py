"""The live spectrum painted: a still layer of axes and held states, and the present over it thirty times a second."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QMouseEvent, QPainter, QPen, QResizeEvent

from epidote.core.live.spectrum_analyser import View
from epidote.core.quantities.formatting import format_axis, format_quantity
from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.axis_painter import LABEL_SIZE, AxisPainter
from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.cursor_table import CursorRow, paint_cursor, paint_cursor_table
from epidote.desktop.plotting.figure_painter import dashes_of
from epidote.desktop.plotting.plot_widget import ZOOM, PlotWidget
from epidote.desktop.plotting.polyline import fill_between, polygon
from epidote.desktop.theme import Theme, font

_KEY_STEP = 0.005  # of the width, by which a key moves the cursor
_LEVEL_STEP = 0.05  # of the height, by which a key moves the levels
# what the page does at a key while the spectrum has the focus
_PAGE_KEYS = {
    Qt.Key.Key_Space: "output",
    Qt.Key.Key_H: "hold",
    Qt.Key.Key_S: "hold",
    Qt.Key.Key_R: "restart",
    Qt.Key.Key_Z: "zero",
}


@dataclass(frozen=True, eq=False)
class Layer:
    """A curve over the view's pixels: low and high (width,) in the shown unit, NaN where there is none."""

    name: str
    colour: int
    channel: int
    low: Samples
    high: Samples
    dashed: bool = False


class SpectrumWidget(PlotWidget):
    """``view_changed`` when the stretch of frequency or the width in pixels changes.

    ``key`` for keys that the page knows.
    """

    view_changed = Signal(object)
    pressed = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Live spectrum")
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
        self.setAttribute(
            Qt.WidgetAttribute.WA_OpaquePaintEvent
        )  # all of it is painted here, so nothing beneath needs to be
        self.setMouseTracking(True)
        self.setMinimumHeight(120)

    def sizeHint(self) -> QSize:
        return QSize(1240, 400)

    # -- what is shown -----------------------------------------------------------------------------

    def view(self) -> View:
        return View(self._x.low, self._x.high, self._x.log, max(64, round(self.plot_box().width())))

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
        self.redraw()

    def show_still(self, layers: tuple[Layer, ...], marks: tuple[float, ...], note: str) -> None:
        """Held states and the threshold; marks: frequencies of the mains."""
        self.held_layers, self._marks, self._note = layers, marks, note
        self.redraw()

    def show_now(self, layers: tuple[Layer, ...]) -> None:
        self.live_layers = layers
        self.update()

    def _tell(self) -> None:
        self.live_layers = ()
        self.redraw()
        self.view_changed.emit(self.view())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._tell()

    # -- painting ----------------------------------------------------------------------------------

    def plot_box(self) -> QRectF:
        height = QFontMetricsF(font(LABEL_SIZE)).height()
        return QRectF(self.rect()).adjusted(3.6 * height, 1.5 * height, -1.2 * height, -1.9 * height)

    def paint_still(self, p: QPainter) -> None:
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self.plot_box()
        self._axes(p, box)
        for layer in self.held_layers:
            self._curve(p, box, layer)

    def paint_over(self, p: QPainter) -> None:
        box = self.plot_box()
        for layer in self.live_layers:
            self._curve(p, box, layer)
        if not self.live_layers:
            p.setPen(self.theme.colour("quiet"))
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, self._note)
        self._pointer(p, box)

    def _axes(self, p: QPainter, box: QRectF) -> None:
        axes = AxisPainter(self.theme)
        axes.paint_x(p, box, self._x, lambda value, _: format_axis(value, "Hz"))
        axes.paint_y(p, box, self._y, lambda value, _: f"{value:g}")
        p.setPen(self.theme.colour("quiet"))
        above = QRectF(6, 0, self.width() - 6.0, box.top() - 2)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        p.drawText(above, left, f"{self.title}, {self.unit}")
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        p.drawText(QRectF(box.left(), 0, box.width(), box.top() - 2), right, "Frequency, Hz")
        p.setPen(QPen(self.theme.colour("quiet"), 2))
        for frequency in self._marks:
            if self._x.low <= frequency <= self._x.high:
                x = box.left() + self._x.place(frequency) * box.width()
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
        dash = dashes_of(layer.channel)
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
                fill_between(p, xs[a:b], (top[a:b], low[a:b]), fill)
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
        paint_cursor(p, self.theme, box, x, box.bottom())
        ink = self.theme.colour("text")
        rows = [CursorRow(name, value, ink) for name, value in self.readings_at_cursor()]
        paint_cursor_table(p, self.theme, box, x, format_quantity(self._cursor, "Hz", digits=4), rows=rows)

    # -- mouse and keys ----------------------------------------------------------------------------

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        box = self.plot_box()
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

    def zoom_x(self, factor: float, about: float = 0.5) -> None:
        self._x = self._x.zoomed(factor, about).within(self._least_hertz(), self.top_hertz)
        self._tell()

    def zoom_y(self, factor: float, about: float = 0.5) -> None:
        self._y = self._y.zoomed(factor, about)
        self.redraw()

    def _least_hertz(self) -> float:
        """Return where the axis of frequency begins."""
        if self.log:
            return 10.0
        return 0.0

    def _shift(self, share: float) -> None:
        moved = self._x.moved(share)
        if moved.low >= self._least_hertz() * (1 - 1e-9) and moved.high <= self.top_hertz * (1 + 1e-9):
            self._x = moved
        self._tell()

    def reset(self) -> None:
        """Everything in view again."""
        self._y = self._home_y
        self._home_x()

    def key_commands(self, *, big: bool) -> dict[int, Callable[[], None]]:
        step = _KEY_STEP
        if big:
            step *= 10
        k = Qt.Key
        return {
            **super().key_commands(big=big),
            **{key: partial(self.pressed.emit, name) for key, name in _PAGE_KEYS.items()},
            k.Key_Left: lambda: self._move_cursor(-step),
            k.Key_Right: lambda: self._move_cursor(step),
            k.Key_PageUp: lambda: self.zoom_y(ZOOM),
            k.Key_PageDown: lambda: self.zoom_y(1 / ZOOM),
            k.Key_Up: lambda: self._move_y(_LEVEL_STEP),
            k.Key_Down: lambda: self._move_y(-_LEVEL_STEP),
            k.Key_Home: self.reset,
        }

    def _move_cursor(self, by: float) -> None:
        place = 0.5
        if self._cursor is not None:
            place = self._x.place(self._cursor)
        self._cursor = self._x.value(min(max(place + by, 0.0), 1.0))
        self.update()

    def _move_y(self, share: float) -> None:
        self._y = self._y.moved(share)
        self.redraw()
