"""The waveform of the original with the loop on it and the place that sounds."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen

from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.waveform_widget import Lane, WaveformWidget, outline_of
from epidote.desktop.theme import Theme

_CLICK = 4.0  # pixels within which a press and a release are a click


class LoopView(WaveformWidget):
    """Dragging sets the loop, a click goes to a place. looped: first and last time in s, (0, 0) for the whole."""

    looped = Signal(float, float)
    jumped = Signal(float)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, over=True, picking=True)
        self.setAccessibleName("Waveform of the original with loop")
        self.setToolTip("Drag to set the loop, double-click to remove it; click to move the playback position")
        self.setMinimumHeight(96)
        self._place = 0.0
        self._pressed = QPointF()
        self.picked.connect(self.looped)

    def sizeHint(self) -> QSize:
        return QSize(700, 140)

    def show_original(self, original: Samples, rate: float) -> None:
        """Show the original (frames,) at a rate in Hz, without a loop."""
        x = np.ascontiguousarray(original)

        def fetch(first: int, frames: int) -> Samples:
            return x[first : first + frames]

        self.stretch = None
        self.set_lanes([Lane("", 7, x.size, fetch, outline_of(x))], rate)

    def clear_loop(self) -> None:
        """Play the whole again."""
        self.stretch = None
        self.looped.emit(0.0, 0.0)
        self.redraw()

    def show_place(self, seconds: float) -> None:
        """Show the place that sounds; only its line is painted anew."""
        self._place = seconds
        self.update()

    def paint_over(self, p: QPainter) -> None:
        if not self.lanes:
            return
        box = self.plot_box()
        x = self._x(box, self._place * self.rate)
        if box.left() <= x <= box.right():
            p.setPen(QPen(self.theme.colour("accent"), 2))
            p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        self._pressed = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if (event.position() - self._pressed).manhattanLength() > _CLICK:
            super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        if (event.position() - self._pressed).manhattanLength() <= _CLICK and self.lanes:
            self.jumped.emit(self._frame(event.position()) / self.rate)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.clear_loop()

    def key_commands(self, *, big: bool) -> dict[int, Callable[[], None]]:
        commands = super().key_commands(big=big)
        for key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Space):  # the page's own
            commands.pop(key, None)
        return commands
