"""The graph on screen: zoom, pan, reading all curves at the pointer, pins. By mouse and by keyboard."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer, Signal
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

from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded

if TYPE_CHECKING:  # what holds and paints curves needs NumPy, which is loaded after the window shows
    from epidote.desktop.plotting.figure import Figure
    from epidote.desktop.plotting.figure_painter import FigureLayout

_KEY_STEP, _ZOOM, _REST_MS = 0.01, 0.8, 150
_DRAWING_KEYS = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape, Qt.Key.Key_Backspace)


class GraphWidget(QWidget):
    """Shows a figure.

    The figure itself is painted once into a pixmap; the pointer's line and table are painted over it.
    """

    pin_wanted = Signal(float)
    pin_unwanted = Signal(int)
    band_wanted = Signal(object)  # (low, high) dragged in the difference strip, or None for everywhere
    line_drawn = Signal(list)  # corners (x, y) of a line drawn by hand

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._figure: Figure | None = None
        self._view: Viewport | None = None
        self._home: Viewport | None = None
        self._cursor: float | None = None
        self._drag: QPointF | None = None
        self._box: QRectF | None = None
        self._banding: float | None = None  # where a band began to be dragged
        self._drawn: list[tuple[float, float]] | None = None  # corners of the line that is being drawn
        self._painted: QPixmap | None = None
        self.at_rest = QTimer(self)  # once nothing has moved for a while, everything is painted with care
        self.at_rest.setSingleShot(True)
        self.at_rest.timeout.connect(self._repaint)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Graph")

    # -- what is shown -----------------------------------------------------------------------------

    def figure(self) -> Figure | None:
        return self._figure

    def view(self) -> Viewport | None:
        return self._view

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        self._repaint()

    def set_figure(self, figure: Figure | None, *, keep_zoom: bool) -> None:
        self._figure = figure
        if figure is None:
            self._view = self._home = self._cursor = None
        else:
            x = figure.x_extent()
            zoomed = (
                self._view is not None
                and self._home is not None
                and (self._view.x, self._view.y) != (self._home.x, self._home.y)
            )
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
        self._repaint()

    def reset_view(self) -> None:
        self._view = self._home
        self._repaint()

    def zoom_x(self, factor: float, about: float = 0.5) -> None:
        if self._view and self._home:
            self.at_rest.start(_REST_MS)
            x = self._view.x.zoomed(factor, about).within(self._home.x.low, self._home.x.high)
            self._view = Viewport(x, self._view.y, self._view.dy)
            self._repaint()

    def zoom_y(self, factor: float, about: float = 0.5) -> None:
        if self._view:
            self._view = Viewport(self._view.x, self._view.y.zoomed(factor, about), self._view.dy)
            self._repaint()

    def fit_y(self) -> None:
        """Fit the y axis to the part in view."""
        if self._view and self._figure:
            self._view = Viewport(
                self._view.x, self._figure.y_extent(self._view.x), self._figure.y_extent(self._view.x, differences=True)
            )
            self._repaint()

    def pan(self, dx: float, dy: float) -> None:
        if self._view and self._home:
            self.at_rest.start(_REST_MS)
            moved = self._view.x.moved(dx)
            if moved.low >= self._home.x.low * (1 - 1e-9) and moved.high <= self._home.x.high * (1 + 1e-9):
                x = moved
            else:
                x = self._view.x
            self._view = Viewport(x, self._view.y.moved(dy), self._view.dy)
            self._repaint()

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

    def _repaint(self) -> None:
        self._painted = None
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(760, 400)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._painted = None

    def _area(self) -> QRectF:
        return QRectF(self.rect())

    def strips(self) -> FigureLayout:
        from epidote.desktop.plotting.figure_painter import layout

        assert self._figure is not None
        return layout(self._figure, self._area())

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        if self._figure is None or self._view is None:
            p.setPen(self._theme.colour("quiet"))
            p.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                "No measured cell selected. Select cells of one column to overlay their curves.",
            )
            return
        if self._painted is None:
            ratio = self.devicePixelRatioF()
            self._painted = QPixmap(self.size() * ratio)
            self._painted.setDevicePixelRatio(ratio)
            self._painted.fill(self._theme.colour("back"))
            inner = QPainter(self._painted)
            from epidote.desktop.plotting.figure_painter import FigurePainter

            FigurePainter(self._figure, self._view, self._theme, moving=self.at_rest.isActive()).paint(
                inner, self._area()
            )
            inner.end()
        p.drawPixmap(0, 0, self._painted)
        if self._box is not None:
            p.setPen(QPen(self._theme.colour("accent"), 1, Qt.PenStyle.DashLine))
            p.drawRect(self._box)
        self._paint_cursor(p)
        self._paint_drawn(p, self.strips())
        if self.hasFocus():
            p.setPen(QPen(self._theme.colour("accent"), 1))
            p.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _paint_cursor(self, p: QPainter) -> None:
        if self._cursor is None or self._figure is None or self._view is None:
            return
        where = self.strips()
        place = self._view.x.place(self._cursor)
        if not 0 <= place <= 1:
            return
        px = where.main.left() + place * where.main.width()
        if self._figure.differences:
            bottom = where.difference.bottom()
        else:
            bottom = where.main.bottom()
        p.setPen(QPen(self._theme.colour("quiet"), 1, Qt.PenStyle.DotLine))
        p.drawLine(QPointF(px, where.main.top()), QPointF(px, bottom))
        rows = self.readings_at_cursor()
        plain = font(0.85)
        metrics = QFontMetricsF(plain)
        height = metrics.height() + 2
        names = [f"{name}  {channel}" for name, channel, _, _ in rows]
        wide = (
            max([metrics.horizontalAdvance(n) for n in names] + [60])
            + max([metrics.horizontalAdvance(r[3]) for r in rows] + [60])
            + 36
        )
        table = QRectF(px + 12, where.main.top() + 8, wide, height * (len(rows) + 1) + 10)
        if table.right() > where.main.right():
            table.moveRight(px - 12)
        p.setPen(QPen(self._theme.colour("line"), 1))
        p.setBrush(self._theme.colour("raised", 240))
        p.drawRect(table)
        p.setFont(plain)
        p.setPen(self._theme.colour("text"))
        p.drawText(table.adjusted(8, 4, -8, 0), Qt.AlignmentFlag.AlignLeft, self._figure.x_text(self._cursor))
        for i, (name, (_, _, colour, value)) in enumerate(zip(names, rows, strict=True), start=1):
            line = QRectF(table.left() + 8, table.top() + 4 + i * height, table.width() - 16, height)
            p.setFont(plain)
            p.setPen(self._theme.colour("quiet") if colour < 0 else self._theme.row(colour))
            p.drawText(line, Qt.AlignmentFlag.AlignLeft, name)
            p.setFont(plain)
            p.setPen(self._theme.colour("text"))
            p.drawText(line, Qt.AlignmentFlag.AlignRight, value)

    # -- mouse -------------------------------------------------------------------------------------

    def _place(self, point: QPointF) -> tuple[float, float] | None:
        """Shares of the main strip's width and height at a point of the graph (y from below)."""
        if self._figure is None or self._view is None:
            return None
        box = self.strips().main
        return (point.x() - box.left()) / box.width(), (box.bottom() - point.y()) / box.height()

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
        p.setPen(QPen(self._theme.colour("accent"), 2))
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
        if self._box is not None and self._box.width() > 8 and self._box.height() > 8 and self._view:
            one, two = self._place(self._box.bottomLeft()), self._place(self._box.topRight())
            assert one is not None and two is not None
            x, y = self._view.x, self._view.y
            self._view = Viewport(
                Scale(x.value(one[0]), x.value(two[0]), x.log),
                Scale(y.value(one[1]), y.value(two[1]), y.log),
                self._view.dy,
            )
        self._drag = self._box = self._banding = None
        self._repaint()

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

    def wheelEvent(self, event: QWheelEvent) -> None:
        place = self._place(event.position())
        if place is None:
            return
        steps = event.angleDelta().y() / 120
        factor = _ZOOM**steps
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.zoom_y(factor, place[1])
        else:
            self.zoom_x(factor, min(1.0, max(0.0, place[0])))
        event.accept()

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
        if self._view is None or self._figure is None:
            super().keyPressEvent(event)
            return
        if self._drawn is not None and key in _DRAWING_KEYS:
            if key == Qt.Key.Key_Backspace:
                self._drawn = self._drawn[:-1]
                self.update()
            else:
                self._end_drawing(keep=key != Qt.Key.Key_Escape)
            return
        do = self._key_commands(big=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)).get(key)
        if do is None:
            super().keyPressEvent(event)
            return
        do()

    def _key_commands(self, *, big: bool) -> dict[int, Callable[[], None]]:
        """Return what each key does; ``big``: the cursor moves ten steps at once."""
        step = _KEY_STEP * (10 if big else 1)
        k = Qt.Key
        return {
            k.Key_Left: lambda: self._move_cursor(-step),
            k.Key_Right: lambda: self._move_cursor(step),
            k.Key_Plus: lambda: self._zoom_at_cursor(_ZOOM),
            k.Key_Equal: lambda: self._zoom_at_cursor(_ZOOM),
            k.Key_Minus: lambda: self._zoom_at_cursor(1 / _ZOOM),
            k.Key_PageUp: lambda: self.zoom_y(_ZOOM),
            k.Key_PageDown: lambda: self.zoom_y(1 / _ZOOM),
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
