"""What every plot on screen has in common: its still picture, the wheel, the keys, the frame of the focus."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from epidote.desktop.theme import Theme
from epidote.desktop.widgets.painting import guarded

ZOOM = 0.8  # of what is in view, for one step of the wheel or of a key
_STEP = 120  # angle of one step of the wheel, in eighths of a degree
_ZOOMS_Y = Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier


class PlotWidget(QWidget):
    """A plot that is zoomed and read by mouse and keyboard.

    What does not move with the pointer is painted once, by ``paint_still``, and kept; ``paint_over`` paints the rest.
    The wheel zooms along x, with Shift or Ctrl along y.
    """

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self.theme = theme
        self._still: QPixmap | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(name)

    # -- what a plot brings ------------------------------------------------------------------------

    def plot_box(self) -> QRectF:
        """Return the area inside the axes, in pixels."""
        raise NotImplementedError

    def paint_still(self, p: QPainter) -> None:
        """Paint axes and what else stays while the pointer moves."""

    def paint_over(self, p: QPainter) -> None:
        """Paint what moves."""

    def zoom_x(self, factor: float, about: float = 0.5) -> None:
        """Show ``factor`` times as much along x, the place ``about`` (0 to 1) staying where it is."""

    def zoom_y(self, factor: float, about: float = 0.5) -> None:
        """Do the same along y."""

    def key_commands(self, *, big: bool) -> dict[int, Callable[[], None]]:
        """Return what each key does; ``big``: with Shift, for greater steps."""
        return {
            Qt.Key.Key_Plus: lambda: self.zoom_x(ZOOM),
            Qt.Key.Key_Equal: lambda: self.zoom_x(ZOOM),
            Qt.Key.Key_Minus: lambda: self.zoom_x(1 / ZOOM),
        }

    # -- what all plots do -------------------------------------------------------------------------

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.redraw()

    def redraw(self) -> None:
        """Paint everything anew."""
        self._still = None
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._still = None

    def share_at(self, point: QPointF) -> tuple[float, float]:
        """Return where a point lies in the box: 0 to 1 from the left, 0 to 1 from below."""
        box = self.plot_box()
        return (point.x() - box.left()) / box.width(), (box.bottom() - point.y()) / box.height()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        if self._still is None:
            ratio = self.devicePixelRatioF()
            self._still = QPixmap(self.size() * ratio)
            self._still.setDevicePixelRatio(ratio)
            self._still.fill(self.theme.colour("back"))
            inner = QPainter(self._still)
            self.paint_still(inner)
            inner.end()
        p.drawPixmap(0, 0, self._still)
        self.paint_over(p)
        if self.hasFocus():
            p.setPen(QPen(self.theme.colour("accent"), 1))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def wheelEvent(self, event: QWheelEvent) -> None:
        across, up = self.share_at(event.position())
        factor = ZOOM ** (event.angleDelta().y() / _STEP)
        if event.modifiers() & _ZOOMS_Y:
            self.zoom_y(factor, up)
        else:
            self.zoom_x(factor, min(1.0, max(0.0, across)))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        big = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        command = self.key_commands(big=big).get(event.key())
        if command is None:
            super().keyPressEvent(event)
            return
        command()
