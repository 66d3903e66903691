"""The graph on screen: zoom, pan, reading all curves at the pointer, pins. By mouse and by keyboard."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPen

from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.cursor_table import CursorRow, paint_cursor, paint_cursor_table
from epidote.desktop.plotting.pin_table import PinTable
from epidote.desktop.plotting.plot_widget import ZOOM, PlotWidget
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import Theme, font

if TYPE_CHECKING:  # what holds and paints curves needs NumPy, which is loaded after the window shows
    from epidote.desktop.plotting.figure import Figure
    from epidote.desktop.plotting.figure_painter import FigureLayout

_CLICK = 4  # pixels that the pointer may move between press and release
_KEY_STEP = 0.01  # of the width, by which a key moves the cursor
_REST_MS = 150
_DRAWING_KEYS = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape, Qt.Key.Key_Backspace)


class GraphWidget(PlotWidget):
    """Shows a figure.

    The figure itself is painted once into a pixmap; the pointer's line and table are painted over it.
    """

    pin_wanted = Signal(float)
    pin_unwanted = Signal(int)
    band_wanted = Signal(object)  # (low, high) dragged in the difference strip, or None for everywhere
    menu_wanted = Signal(QPoint)  # the context menu, and where on the screen
    line_drawn = Signal(list)  # corners (x, y) of a line drawn by hand
    zoom_changed = Signal(bool)  # whether something else than the whole is in view

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Graph")
        self._figure: Figure | None = None
        self._instead = ""
        self._view: Viewport | None = None
        self._home: Viewport | None = None
        self._cursor: float | None = None
        self._zoomed = False
        self._drag: QPointF | None = None
        self._box: QRectF | None = None
        self._banding: float | None = None  # where a band began to be dragged
        self._drawn: list[tuple[float, float]] | None = None  # corners of the line that is being drawn
        self.pin_table = PinTable()
        self.at_rest = QTimer(self)  # once nothing has moved for a while, everything is painted with care
        self.at_rest.setSingleShot(True)
        self.at_rest.timeout.connect(self.redraw)
        self.setMouseTracking(True)

    # -- what is shown -----------------------------------------------------------------------------

    def figure(self) -> Figure | None:
        return self._figure

    def view(self) -> Viewport | None:
        return self._view

    def set_figure(self, figure: Figure | None, *, keep_zoom: bool, instead: str = "") -> None:
        """Show a figure; without one the words that say why there is none, such as “Loading…”."""
        self._figure, self._instead = figure, instead
        if figure is None:
            self._view = self._home = self._cursor = None
        else:
            x = figure.x_extent()
            zoomed = self.is_zoomed()
            self._home = Viewport(x, figure.y_extent(x), figure.y_extent(x, differences=True))
            fits = (
                self._view is not None
                and keep_zoom
                and zoomed
                and self._view.x.log == x.log
                and self._view.y.log == self._home.y.log
            )
            if self._view is None or not fits:
                self._view = self._home
            else:
                self._view = Viewport(self._view.x, self._view.y, self._home.dy)
        self.redraw()

    @property
    def instead(self) -> str:
        """The words that are shown because there is no figure; "" beside one."""
        return self._instead if self._figure is None else ""

    def is_zoomed(self) -> bool:
        """Whether a part of the figure is in view, or more than all of it."""
        if self._view is None or self._home is None:
            return False
        return (self._view.x, self._view.y) != (self._home.x, self._home.y)

    def redraw(self) -> None:
        super().redraw()
        if self.is_zoomed() != self._zoomed:
            self._zoomed = self.is_zoomed()
            self.zoom_changed.emit(self._zoomed)

    def reset_view(self) -> None:
        self._view = self._home
        self.redraw()

    def zoom_x(self, factor: float, about: float = 0.5) -> None:
        if self._view and self._home:
            self.at_rest.start(_REST_MS)
            x = self._view.x.zoomed(factor, about).within(self._home.x.low, self._home.x.high)
            self._view = Viewport(x, self._view.y, self._view.dy)
            self.redraw()

    def zoom_y(self, factor: float, about: float = 0.5) -> None:
        if self._view:
            self._view = Viewport(self._view.x, self._view.y.zoomed(factor, about), self._view.dy)
            self.redraw()

    def fit_y(self) -> None:
        """Fit the y axis to the part in view."""
        if self._view and self._figure:
            self._view = Viewport(
                self._view.x, self._figure.y_extent(self._view.x), self._figure.y_extent(self._view.x, differences=True)
            )
            self.redraw()

    def pan(self, dx: float, dy: float) -> None:
        if self._view and self._home:
            self.at_rest.start(_REST_MS)
            moved = self._view.x.moved(dx)
            if moved.low >= self._home.x.low * (1 - 1e-9) and moved.high <= self._home.x.high * (1 + 1e-9):
                x = moved
            else:
                x = self._view.x
            self._view = Viewport(x, self._view.y.moved(dy), self._view.dy)
            self.redraw()

    def cursor_x(self) -> float | None:
        """Where all curves are read just now."""
        return self._cursor

    def set_cursor_x(self, x: float | None) -> None:
        self._cursor = x
        self.update()

    def readings_at_cursor(self) -> list[tuple[str, int, int, str]]:
        """(name, channel, colour, value in words) of every curve at the cursor."""
        if self._figure is None or self._cursor is None:
            return []
        f = self._figure
        return [
            (t.name, t.channel, -1 if t.baseline else t.colour, f.y_text(t.at(self._cursor, f.log_x))) for t in f.traces
        ]

    # -- painting ----------------------------------------------------------------------------------

    def sizeHint(self) -> QSize:
        return QSize(760, 400)

    def _area(self) -> QRectF:
        return QRectF(self.rect())

    def strips(self) -> FigureLayout:
        from epidote.desktop.plotting.figure_painter import layout

        assert self._figure is not None
        return layout(self._figure, self._area())

    def plot_box(self) -> QRectF:
        if self._figure is None:
            return self._area()
        return self.strips().main

    def paint_still(self, p: QPainter) -> None:
        if self._figure is None or self._view is None:
            p.setPen(self.theme.colour("quiet"))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self._instead)
            return
        from epidote.desktop.plotting.figure_painter import FigurePainter

        painter = FigurePainter(self._figure, self._view, self.theme, moving=self.at_rest.isActive())
        painter.paint(p, self._area())

    def paint_over(self, p: QPainter) -> None:
        if self._figure is None or self._view is None:
            return
        if self._box is not None:
            p.setPen(QPen(self.theme.colour("accent"), 1, Qt.PenStyle.DashLine))
            p.drawRect(self._box)
        self.pin_table.paint(p, self.theme, self._figure, self.strips().main, self._view)
        self._paint_cursor(p)
        self._paint_drawn(p, self.strips())

    def _paint_cursor(self, p: QPainter) -> None:
        if self._cursor is None or self._figure is None or self._view is None:
            return
        where = self.strips()
        place = self._view.x.place(self._cursor)
        if not 0 <= place <= 1:
            return
        x = where.main.left() + place * where.main.width()
        bottom = where.main.bottom()
        if self._figure.differences:
            bottom = where.difference.bottom()
        paint_cursor(p, self.theme, where.main, x, bottom)
        rows = []
        for name, channel, colour, value in self.readings_at_cursor():
            ink = self.theme.colour("quiet")
            if colour >= 0:
                ink = self.theme.row(colour)
            rows.append(CursorRow(f"{name}  {channel}", value, ink))
        paint_cursor_table(p, self.theme, where.main, x, self._figure.x_text(self._cursor), rows=rows)

    # -- mouse -------------------------------------------------------------------------------------

    def _place(self, point: QPointF) -> tuple[float, float] | None:
        """Return the shares of the main strip's width and height at a point of the graph (y from below)."""
        if self._figure is None or self._view is None:
            return None
        return self.share_at(point)

    def start_drawing(self) -> None:
        """From now on clicks set the corners of a line; Enter or a double click ends it, Escape forgets it."""
        if self._figure is not None:
            self._drawn = []
            self.setFocus()
            self.update()

    def drawing(self) -> bool:
        return self._drawn is not None

    def _end_drawing(self, *, keep: bool) -> None:
        drawn, self._drawn = self._drawn, None
        self.update()
        if keep and drawn:
            self.line_drawn.emit(sorted(drawn))

    def _corner(self, place: tuple[float, float]) -> None:
        if self._drawn is not None and self._view is not None and 0 <= place[0] <= 1 and 0 <= place[1] <= 1:
            self._drawn.append((self._view.x.value(place[0]), self._view.y.value(place[1])))
            self.update()

    def _paint_drawn(self, p: QPainter, where: FigureLayout) -> None:
        if self._drawn is None or self._view is None:
            return
        p.setPen(QPen(self.theme.colour("accent"), 2))
        points = [
            QPointF(
                where.main.left() + self._view.x.place(x) * where.main.width(),
                where.main.bottom() - self._view.y.place(y) * where.main.height(),
            )
            for x, y in sorted(self._drawn)
        ]
        p.drawPolyline(points)
        for point in points:
            p.drawEllipse(point, 3, 3)
        words = "Click to add points · Enter: finish · Backspace: remove last point · Esc: cancel"
        p.setFont(font(0.85))
        p.drawText(where.main.adjusted(8, 0, -8, -6), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, words)

    def _in_difference(self, point: QPointF) -> bool:
        return self._figure is not None and bool(self._figure.differences) and self.strips().difference.contains(point)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._figure is not None and self.pin_table.drag(event.position(), self.strips().main):
            self.update()
            return
        place = self._place(event.position())
        if place is None or self._view is None:
            return
        if self._banding is not None:
            low, high = sorted((self._banding, min(1.0, max(0.0, place[0]))))
            if high - low > 0.005:
                self.band_wanted.emit((self._view.x.value(low), self._view.x.value(high)))
            return
        if self._drag is not None and self._box is not None:
            self._box = QRectF(self._drag, event.position()).normalized()
        elif self._drag is not None:
            before = self._place(self._drag)
            assert before is not None
            self.pan(before[0] - place[0], before[1] - place[1])
            self._drag = event.position()
        self.set_cursor_x(self._view.x.value(place[0]) if 0 <= place[0] <= 1 else None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        free = event.button() is Qt.MouseButton.LeftButton and self._drawn is None
        if free and self.pin_table.press(event.position()):
            return
        place = self._place(event.position())
        if self._drawn is not None and place is not None:
            self._corner(place)
            return
        if place is not None and event.button() == Qt.MouseButton.LeftButton and self._in_difference(event.position()):
            self._banding = min(1.0, max(0.0, place[0]))
            return
        self._drag = event.position()
        if event.button() == Qt.MouseButton.RightButton or event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._box = QRectF(event.position(), event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self.pin_table.release():
            return
        if self._box is not None and self._box.width() > 8 and self._box.height() > 8 and self._view:
            one, two = self._place(self._box.bottomLeft()), self._place(self._box.topRight())
            assert one is not None and two is not None
            x, y = self._view.x, self._view.y
            self._view = Viewport(
                Scale(x.value(one[0]), x.value(two[0]), x.log),
                Scale(y.value(one[1]), y.value(two[1]), y.log),
                self._view.dy,
            )
        clicked = self._box is None or (self._box.width() < _CLICK and self._box.height() < _CLICK)
        if event.button() == Qt.MouseButton.RightButton and clicked and self._drawn is None:
            self.menu_wanted.emit(event.globalPosition().toPoint())
        self._drag = self._box = self._banding = None
        self.redraw()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """By key only: the right button draws a box first."""
        if event.reason() is QContextMenuEvent.Reason.Keyboard:
            self.menu_wanted.emit(self.mapToGlobal(self.rect().center()))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        place = self._place(event.position())
        if self._drawn is not None:
            self._end_drawing(keep=True)
            return
        if self._in_difference(event.position()):
            self._banding = None
            self.band_wanted.emit(None)
            return
        if place and self._view and 0 <= place[0] <= 1:
            self._drag = None
            self.pin_wanted.emit(self._view.x.value(place[0]))

    def leaveEvent(self, event: object) -> None:
        self.set_cursor_x(None)

    # -- keyboard ----------------------------------------------------------------------------------

    def event(self, event: QEvent) -> bool:
        """While a line is drawn, its keys are not the window's commands."""
        if (
            self._drawn is not None
            and event.type() == QEvent.Type.ShortcutOverride
            and isinstance(event, QKeyEvent)
            and event.key() in _DRAWING_KEYS
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if self._drawn is not None and key in _DRAWING_KEYS:
            if key == Qt.Key.Key_Backspace:
                self._drawn = self._drawn[:-1]
                self.update()
            else:
                self._end_drawing(keep=key != Qt.Key.Key_Escape)
            return
        super().keyPressEvent(event)

    def key_commands(self, *, big: bool) -> dict[int, Callable[[], None]]:
        """Return what each key does; ``big``: the cursor moves ten steps at once."""
        if self._view is None:
            return {}
        step = _KEY_STEP
        if big:
            step *= 10
        k = Qt.Key
        return {
            k.Key_Left: lambda: self._move_cursor(-step),
            k.Key_Right: lambda: self._move_cursor(step),
            k.Key_Plus: lambda: self._zoom_at_cursor(ZOOM),
            k.Key_Equal: lambda: self._zoom_at_cursor(ZOOM),
            k.Key_Minus: lambda: self._zoom_at_cursor(1 / ZOOM),
            k.Key_PageUp: lambda: self.zoom_y(ZOOM),
            k.Key_PageDown: lambda: self.zoom_y(1 / ZOOM),
            k.Key_Up: lambda: self.pan(0, 0.1),
            k.Key_Down: lambda: self.pan(0, -0.1),
            k.Key_Home: self.reset_view,
            k.Key_End: self.fit_y,
            k.Key_P: self._pin_cursor,
            k.Key_Delete: self._unpin_near_cursor,
            k.Key_Backspace: self._unpin_near_cursor,
        }

    def _cursor_place(self) -> float:
        """Where the cursor is across the graph, from 0 to 1; the middle without one."""
        if self._cursor is None or self._view is None:
            return 0.5
        return self._view.x.place(self._cursor)

    def _move_cursor(self, by: float) -> None:
        if self._view is not None:
            place = min(1.0, max(0.0, self._cursor_place() + by))
            self.set_cursor_x(self._view.x.value(place))

    def _zoom_at_cursor(self, factor: float) -> None:
        self.zoom_x(factor, self._cursor_place())

    def _pin_cursor(self) -> None:
        if self._cursor is not None:
            self.pin_wanted.emit(self._cursor)

    def _unpin_near_cursor(self) -> None:
        near = self.pin_near_cursor()
        if near is not None:
            self.pin_unwanted.emit(near)

    def pin_near_cursor(self) -> int | None:
        """Return the pin nearest to the cursor, or the last one."""
        if self._figure is None or self._view is None or not self._figure.pins:
            return None
        if self._cursor is None:
            return self._figure.pins[-1].key
        here = self._view.x.place(self._cursor)
        view = self._view
        return min(self._figure.pins, key=lambda pin: abs(view.x.place(pin.x) - here)).key
