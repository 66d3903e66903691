"""Waveforms on screen, from hours down to single samples: above one another, or laid over each other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QMouseEvent, QPainter, QPen, QWheelEvent

from epidote.core.quantities.formatting import format_quantity
from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.axis_scale import Scale, ticks
from epidote.desktop.plotting.plot_widget import PlotWidget
from epidote.desktop.plotting.polyline import least_and_greatest, polygon
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.wording import LOADING

BLOCK = 256  # frames of which an outline holds the least and the greatest
_LEAST = 8  # frames in view
_DOTS = 6.0  # pixels between samples from which they are drawn singly

Fetch = Callable[[int, int], "Samples | None"]


@dataclass
class Lane:
    """One waveform: ``fetch(first, frames)`` gives its samples, or None when they are still on their way.

    ``outline``: least and greatest (blocks, 2) of each BLOCK frames; ``shift``: by how many frames it is drawn earlier;
    ``turned``: upside down.
    """

    name: str
    colour: int
    frames: int
    fetch: Fetch
    outline: Samples = field(default_factory=lambda: np.zeros((0, 2)))
    shift: float = 0.0
    turned: bool = False


def outline_of(x: Samples) -> Samples:
    """Least and greatest (blocks, 2) of each BLOCK frames of x (frames,)."""
    if x.size == 0:
        return np.zeros((0, 2))
    edges = np.arange(0, x.size, BLOCK)
    return np.column_stack(least_and_greatest(x, x, edges))


def _scale(area: QRectF, lane: Lane, least: Samples, greatest: Samples) -> float:
    """Pixels for 1: what is in view fills the height."""
    most = max(float(greatest.max()), -float(least.min()), 1e-12)
    return (-1 if lane.turned else 1) * 0.46 * area.height() / most


class WaveformWidget(PlotWidget):
    """The wheel zooms, dragging pans; with Ctrl held, the wheel nudges; where a stretch may be picked, dragging picks
    it.
    """

    nudged = Signal(int)
    picked = Signal(float, float)

    def __init__(self, theme: Theme, *, over: bool, picking: bool = False) -> None:
        super().__init__(theme, "Waveforms")
        self._over, self._picking = over, picking
        self.lanes: list[Lane] = []
        self.rate = 1.0
        self.first, self.last = 0.0, 1.0  # frames in view
        self.stretch: tuple[float, float] | None = None  # picked, in s
        self.marks: list[float] = []  # frames
        self._drag: QPointF | None = None
        self._from = 0.0

    def sizeHint(self) -> QSize:
        return QSize(700, 320)

    @property
    def frames(self) -> int:
        return max((lane.frames for lane in self.lanes), default=1)

    def set_lanes(self, lanes: Sequence[Lane], rate: float) -> None:
        self.lanes, self.rate = list(lanes), rate
        self.show_frames(0, self.frames)

    def show_frames(self, first: float, last: float) -> None:
        """Have these frames in view, not beyond what there is and not fewer than a handful."""
        wide = min(max(last - first, _LEAST), self.frames)
        self.first = min(max(0.0, first), max(0.0, self.frames - wide))
        self.last = self.first + wide
        self.redraw()

    def zoom_x(self, factor: float, about: float = 0.5) -> None:
        wide = self.last - self.first
        middle = self.first + about * wide
        self.show_frames(middle - about * wide * factor, middle + (1 - about) * wide * factor)

    # -- painting ----------------------------------------------------------------------------------

    def plot_box(self) -> QRectF:
        height = QFontMetricsF(font(0.85)).height()
        return QRectF(8, 6, max(10, self.width() - 16), max(10, self.height() - 2.2 * height - 6))

    def paint_still(self, p: QPainter) -> None:
        t, box = self.theme, self.plot_box()
        small = font(0.85)
        p.setFont(small)
        height = QFontMetricsF(small).height()
        self._paint_times(p, box, height)
        if self.stretch is not None:
            left, right = (min(max(self._x(box, v * self.rate), box.left()), box.right()) for v in self.stretch)
            p.fillRect(QRectF(left, box.top(), max(1.0, right - left), box.height()), t.colour("accent_back", 150))
        for mark in self.marks:
            if self.first <= mark <= self.last:
                x = self._x(box, mark)
                p.setPen(QPen(t.colour("accent"), 1, Qt.PenStyle.DotLine))
                p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        count = len(self.lanes)
        if not count:
            p.setPen(t.colour("quiet"))
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, LOADING)
        each = box.height() / max(1, 1 if self._over else count)
        p.setClipRect(box)
        for number, lane in enumerate(self.lanes):
            if self._over:
                area = box
            else:
                area = QRectF(box.left(), box.top() + number * each, box.width(), each)
            p.setPen(QPen(t.colour("faint_line"), 1))
            p.drawLine(QPointF(area.left(), area.center().y()), QPointF(area.right(), area.center().y()))
            self._paint_lane(p, area, lane)
            p.setPen(t.row(lane.colour))
            if self._over:
                top = box.top() + number * height
            else:
                top = area.top()
            where = QRectF(area.left() + 4, top + 2, QFontMetricsF(small).horizontalAdvance(lane.name) + 4, height)
            p.fillRect(where, t.colour("back", 210))
            p.drawText(where, Qt.AlignmentFlag.AlignLeft, lane.name)
        p.setClipping(False)
        p.setPen(QPen(t.colour("line"), 1))
        p.drawRect(box)

    def _x(self, box: QRectF, frame: float) -> float:
        return box.left() + (frame - self.first) / (self.last - self.first) * box.width()

    def _paint_times(self, p: QPainter, box: QRectF, height: float) -> None:
        scale = Scale(self.first / self.rate, self.last / self.rate)
        wide = scale.high - scale.low
        tick_values = [v for v, _ in ticks(scale, max(2, int(box.width() / 110)))]
        if len(tick_values) > 1:
            step = tick_values[1] - tick_values[0]
        else:
            step = wide
        digits = max(0, -int(np.floor(np.log10(max(step, 1e-12)) + 1e-9)))
        for value in tick_values:
            x = self._x(box, value * self.rate)
            p.setPen(QPen(self.theme.colour("faint_line"), 1))
            p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            p.setPen(self.theme.colour("quiet"))
            if self.frames / self.rate >= 120:
                minutes = f"{int(value) // 60}:{value % 60:0{3 + digits if digits else 2}.{digits}f}"
            else:
                minutes = f"{value:.{digits}f}"
            wide_words = QFontMetricsF(p.font()).horizontalAdvance(minutes) + 2
            left = min(max(x - wide_words / 2, 0.0), self.width() - wide_words)
            p.drawText(QRectF(left, box.bottom() + 2, wide_words, height), Qt.AlignmentFlag.AlignLeft, minutes)
        p.setPen(self.theme.colour("quiet"))
        words = f"{format_quantity(wide, 's', digits=3)} in view"
        p.drawText(
            QRectF(box.left(), box.bottom() + 2 + height, box.width(), height), Qt.AlignmentFlag.AlignRight, words
        )

    def _paint_lane(self, p: QPainter, area: QRectF, lane: Lane) -> None:
        first, last = self.first + lane.shift, self.last + lane.shift
        low, high = max(0, int(np.floor(first)) - 1), min(lane.frames, int(np.ceil(last)) + 2)
        if high <= low:
            return
        per_pixel = (last - first) / max(1.0, area.width())
        middle = area.center().y()
        x_of = area.width() / (last - first)
        p.setPen(QPen(self.theme.row(lane.colour), 1))
        p.setRenderHint(QPainter.RenderHint.Antialiasing, False)  # of thousands of crossing lines it takes seconds
        if per_pixel < BLOCK or not lane.outline.size:
            samples = lane.fetch(low, high - low)
        else:
            samples = None
        if samples is not None and per_pixel <= 2:
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            xs = np.asarray(area.left() + (np.arange(low, low + samples.size) - first) * x_of, np.float64)
            ys = middle - _scale(area, lane, samples, samples) * samples
            p.drawPolyline(polygon(xs, ys))
            if x_of >= _DOTS:
                p.setBrush(self.theme.row(lane.colour))
                for x, y in zip(xs, ys, strict=True):
                    p.drawEllipse(QPointF(x, y), 2.2, 2.2)
                p.setBrush(Qt.BrushStyle.NoBrush)
            return
        if samples is not None:
            starts = np.arange(low, low + samples.size, dtype=float)
            least = greatest = samples
        else:
            begin, end = low // BLOCK, min(lane.outline.shape[0], -(-high // BLOCK))
            starts = np.arange(begin, end) * float(BLOCK)
            least, greatest = lane.outline[begin:end, 0], lane.outline[begin:end, 1]
        if starts.size == 0:
            return
        pixels = np.floor((starts - first) * x_of).astype(int)
        edges = np.flatnonzero(np.diff(pixels, prepend=pixels[0] - 1))
        low_y, high_y = least_and_greatest(least, greatest, edges)
        scale = _scale(area, lane, low_y, high_y)
        # each column reaches to the next one, so that a steep wave has no holes
        low_y[:-1], high_y[:-1] = np.minimum(low_y[:-1], high_y[1:]), np.maximum(high_y[:-1], low_y[1:])
        p.drawLines(
            [
                QLineF(x, middle - scale * low, x, middle - scale * high)
                for x, low, high in zip(
                    (area.left() + pixels[edges]).tolist(), low_y.tolist(), high_y.tolist(), strict=True
                )
            ]
        )

    # -- mouse and keys ----------------------------------------------------------------------------

    def _share_of(self, point: QPointF) -> float:
        box = self.plot_box()
        return min(1.0, max(0.0, (point.x() - box.left()) / box.width()))

    def _frame(self, point: QPointF) -> float:
        return self.first + self._share_of(point) * (self.last - self.first)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom; with Ctrl, nudge instead."""
        if not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            super().wheelEvent(event)
            return
        self.nudged.emit(1 if event.angleDelta().y() > 0 else -1)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._drag, self._from = event.position(), self._frame(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        if self._picking and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            low, high = sorted((self._from, self._frame(event.position())))
            if high - low >= 1:
                self.set_stretch(low / self.rate, high / self.rate)
        else:
            by = (self._drag.x() - event.position().x()) / self.plot_box().width() * (self.last - self.first)
            self._drag = event.position()
            self.show_frames(self.first + by, self.last + by)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag = None

    def set_stretch(self, first: float, last: float) -> None:
        """Pick a stretch, in s."""
        whole = self.frames / self.rate
        self.stretch = max(0.0, min(first, whole)), max(0.0, min(last, whole))
        self.picked.emit(*self.stretch)
        self.redraw()

    def key_commands(self, *, big: bool) -> dict[int, Callable[[], None]]:
        k = Qt.Key
        return {
            **super().key_commands(big=big),
            k.Key_PageUp: lambda: self._move(-0.5),
            k.Key_PageDown: lambda: self._move(0.5),
            k.Key_Home: lambda: self.show_frames(0, self.frames),
            k.Key_End: self._show_stretch,
        }

    def _move(self, share: float) -> None:
        """Move what is in view by a share of it."""
        by = share * (self.last - self.first)
        self.show_frames(self.first + by, self.last + by)

    def _show_stretch(self) -> None:
        if self.stretch is not None:
            self.show_frames(self.stretch[0] * self.rate, self.stretch[1] * self.rate)
