"""Painting a figure with a QPainter: the same for the screen, a PNG and an SVG."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF, QTransform

from epidote.desktop.plotting.axis_painter import AxisPainter
from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.envelope import drawn_trace
from epidote.desktop.plotting.figure import GRID_POINTS, Figure, Trace
from epidote.desktop.plotting.overlay_painter import LinePainter
from epidote.desktop.plotting.polyline import draw_line, fill_between, polygon
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import Theme, font

_DASHES: tuple[tuple[float, ...], ...] = ((), (5, 3), (1.5, 2.5), (7, 2.5, 1.5, 2.5), (10, 3), (4, 1.5), (2, 4))
DIFFERENCE_SHARE, CROWDED = 0.3, 12
_MOST_KEPT = 2000  # points
_RANGE_ALPHA = 110
_THINNINGS, _FEWEST, _SEEN = 6, 16, 0.05  # the last in pixels
_OVER_TICK = 9  # pixels by which the title clears the uppermost label


def dashes_of(channel: int) -> list[float]:
    """Return the pattern of a channel's line; the average's and the first channel's are solid."""
    return list(_DASHES[max(0, channel - 1) % len(_DASHES)])


@dataclass(frozen=True)
class FigureLayout:
    """Where the two strips lie; ``difference`` is empty when there is none."""

    main: QRectF
    difference: QRectF


def layout(figure: Figure, area: QRectF) -> FigureLayout:
    """Return where the parts of a figure lie within an area."""
    height = QFontMetricsF(font(0.85)).height()
    left, top, bottom = 5.2 * height, height * 1.8, 2.7 * height
    inner = area.adjusted(left, top, -height * 0.8, -bottom)
    if not figure.differences:
        return FigureLayout(inner, QRectF())
    gap = height * 1.5
    lower = inner.height() * DIFFERENCE_SHARE
    main = QRectF(inner.left(), inner.top(), inner.width(), inner.height() - lower - gap)
    return FigureLayout(main, QRectF(inner.left(), main.bottom() + gap, inner.width(), lower))


def simplify(px: np.ndarray, py: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return a polyline in pixels without the points that a straight line passes within a twentieth of a pixel: a
    smooth curve is painted in a tenth of the time, and a lively one stays as it is.
    """
    for _ in range(_THINNINGS):
        if px.size < _FEWEST:
            break
        i = np.arange(1, px.size - 1, 2)
        across = px[i + 1] - px[i - 1]
        share = np.divide(px[i] - px[i - 1], across, out=np.zeros(i.size), where=across > 0)
        off = np.abs(py[i] - (py[i - 1] + share * (py[i + 1] - py[i - 1])))
        keep = np.ones(px.size, bool)
        keep[i] = ~(off < _SEEN) | (across <= 0)  # what is not a number stays
        if keep.all():
            break
        px, py = px[keep], py[keep]
    return px, py


_KEPT: WeakKeyDictionary[Trace, dict[tuple[bool, bool], QPolygonF]] = WeakKeyDictionary()


def kept_line(trace: Trace, *, log_x: bool, log_y: bool) -> QPolygonF | None:
    """Return the polyline of a trace in its own coordinates, logarithms where the axes are logarithmic, made once.

    None for one that has gaps, has more points than there are pixels, or lies below its floor somewhere.
    """
    if trace.x.size > _MOST_KEPT:
        return None
    lines = _KEPT.setdefault(trace, {})
    if (log_x, log_y) not in lines:
        faint = trace.floor is not None and bool((trace.y <= trace.floor).any())
        whole = trace.x.size > 1 and not faint and bool(np.isfinite(trace.y).all())
        xs, ys = ((np.log(np.maximum(v, 1e-300)) if log else v) for v, log in ((trace.x, log_x), (trace.y, log_y)))
        if whole:
            lines[log_x, log_y] = polygon(xs, ys)
        else:
            lines[log_x, log_y] = QPolygonF()
    made = lines[log_x, log_y]
    if made.size():
        return made
    return None


class FigurePainter:
    """Paints one figure into an area in a theme's colours.

    ``moving``: many curves are drawn plainly, so that they follow the hand.
    """

    def __init__(self, figure: Figure, view: Viewport, theme: Theme, *, moving: bool = False) -> None:
        self.figure, self.view, self.theme = figure, view, theme
        # lines wider than a pixel cost twenty times as much, and many of them hide each other
        self.crowded = len(figure.traces) > CROWDED
        self.plainly = moving and self.crowded

    def paint(self, p: QPainter, area: QRectF) -> None:
        where = layout(self.figure, area)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._axes(p, where.main, self.view.y, self.figure.y_unit, labels_below=not self.figure.differences)
        lines = LinePainter(self.figure, self.view, self.theme)
        lines.areas(p, where.main)
        self._traces(p, where.main, self.figure.traces, self.view.y)
        lines.lines(p, where.main)
        self._marks(p, where.main)
        if self.figure.differences:
            self._axes(p, where.difference, self.view.dy, self.figure.difference_unit, labels_below=True)
            lines.band(p, where.difference)
            self._zero(p, where.difference)
            self._traces(p, where.difference, self.figure.differences, self.view.dy)
            above = QRectF(
                where.difference.left(),
                where.main.bottom(),
                where.difference.width(),
                where.difference.top() - where.main.bottom(),
            )
            words = f"Difference from {self.figure.reference_name}, {self.figure.difference_unit}{self.figure.aligned}"
            room = lines.deviations(p, above) - above.left() - 8
            p.setFont(font(0.8))
            p.setPen(self.theme.colour("quiet"))
            fitting = QFontMetricsF(p.font()).elidedText(words, Qt.TextElideMode.ElideMiddle, room)
            p.drawText(above, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, fitting)
        self._pins(p, where)
        p.setPen(self.theme.colour("quiet"))
        p.setFont(font(0.85))
        p.drawText(
            QRectF(area.left(), area.top(), area.width(), where.main.top() - area.top() - _OVER_TICK),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom,
            (
                f" {self.figure.y_title}, {self.figure.y_unit}"
                if self.figure.y_unit != "ratio"
                else f" {self.figure.y_title}"
            ),
        )
        p.drawText(
            QRectF(
                where.main.left(),
                area.bottom() - QFontMetricsF(p.font()).height() * 1.25,
                where.main.width(),
                QFontMetricsF(p.font()).height() * 1.2,
            ),
            Qt.AlignmentFlag.AlignCenter,
            self.figure.x_words,
        )

    def _axes(self, p: QPainter, box: QRectF, y: Scale, unit: str, *, labels_below: bool) -> None:
        figure, axes = self.figure, AxisPainter(self.theme)
        axes.paint_x(
            p,
            box,
            self.view.x,
            lambda value, values: figure.tick_text(value, figure.x_unit, values),
            labelled=labels_below,
        )
        axes.paint_y(p, box, y, lambda value, values: figure.tick_text(value, unit, values))

    def _marks(self, p: QPainter, box: QRectF) -> None:
        """Names of harmonics and products along the upper edge, as far as there is room for them."""
        small = font(0.72)
        metrics = QFontMetricsF(small)
        p.setFont(small)
        used_places: list[tuple[float, float]] = []
        for x, name in self.figure.marks:  # the first of them matter most
            place = self.view.x.place(x)
            if not 0 <= place <= 1:
                continue
            px = box.left() + place * box.width()
            p.setPen(QPen(self.theme.colour("quiet"), 1))
            p.drawLine(QPointF(px, box.top()), QPointF(px, box.top() + 4))
            width = metrics.horizontalAdvance(name)
            left, right = px - width / 2 - 2, px + width / 2 + 2
            if right < box.right() and all(right < a or left > b for a, b in used_places):
                p.drawText(
                    QRectF(left, box.top() + 4, right - left, metrics.height()), Qt.AlignmentFlag.AlignCenter, name
                )
                used_places.append((left, right))

    def _zero(self, p: QPainter, box: QRectF) -> None:
        py = box.bottom() - self.view.dy.place(0) * box.height()
        p.setPen(QPen(self.theme.colour("quiet"), 1))
        p.drawLine(QPointF(box.left(), py), QPointF(box.right(), py))

    def _pen(self, trace: Trace) -> QPen:
        colour, width = self.theme.row(trace.colour), 1.7
        if trace.baseline:
            colour, width = self.theme.colour("quiet"), 1.2
        if trace.x.size > GRID_POINTS or self.crowded:
            width = 1.0
        pen = QPen(colour, width)
        if self.plainly:
            return pen
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        if trace.x.size > GRID_POINTS:
            return pen  # dashes would only chop a noise floor
        if trace.baseline:
            pen.setDashPattern([1.5, 2.5])
        elif dashes_of(trace.channel):
            pen.setDashPattern(dashes_of(trace.channel))
        return pen

    def _traces(self, p: QPainter, box: QRectF, traces: tuple[Trace, ...], y: Scale) -> None:
        p.save()
        p.setClipRect(box)
        p.setRenderHint(QPainter.RenderHint.Antialiasing, not self.plainly)
        for trace in traces:
            if self.plainly and (polyline := kept_line(trace, log_x=self.view.x.log, log_y=y.log)) is not None:
                self._moved(p, box, trace, polyline, y)
                continue
            drawn = drawn_trace(
                trace, self.view.x, max(64, int(box.width())), levels=self.figure.y_unit.startswith("dB")
            )
            if drawn.x.size < 2:
                continue
            floor = drawn.floor
            if floor is not None and bool((drawn.y > floor).all()):
                floor = None  # nothing of it is drawn faint
            px, py = self._across(drawn.x, box), self._up(drawn.y, box, y)
            if drawn.low is not None and drawn.high is not None:
                shade = self._pen(trace).color()
                shade.setAlpha(_RANGE_ALPHA)
                fill_between(p, px, (self._up(drawn.high, box, y), self._up(drawn.low, box, y)), shade)
            if floor is None and not self.crowded and trace.x.size <= GRID_POINTS:
                px, py = simplify(px, py)  # lines of a pixel are quick as they are
            pen = self._pen(trace)
            if floor is None:
                p.setPen(pen)
                draw_line(p, px, py)
                continue
            # below what the recording can show the curve is there, but faint
            faint = QColor(pen.color())
            faint.setAlpha(70)
            heard = ~(drawn.y <= floor)  # where nothing is known of the floor, too
            for keep, colour in ((heard | np.roll(heard, 1), pen.color()), (~heard | np.roll(~heard, 1), faint)):
                own = QPen(pen)
                own.setColor(colour)
                p.setPen(own)
                draw_line(p, px, np.where(keep, py, np.nan))
        p.restore()

    def _moved(self, p: QPainter, box: QRectF, trace: Trace, polyline: QPolygonF, y: Scale) -> None:
        """Paint a line that is kept in its own coordinates where the scales say: nothing of it is computed anew."""
        (left, right), (bottom, top) = self.view.x.ends(), y.ends()
        across, up = box.width() / (right - left), -box.height() / (top - bottom)
        pen = self._pen(trace)
        pen.setCosmetic(True)
        p.save()
        p.setTransform(QTransform(across, 0, 0, up, box.left() - left * across, box.bottom() - bottom * up), True)
        p.setPen(pen)
        p.drawPolyline(polyline)
        p.restore()

    def _across(self, xs: np.ndarray, box: QRectF) -> np.ndarray:
        x = self.view.x
        if x.log:
            place = np.log(np.maximum(xs, 1e-300) / x.low) / np.log(x.high / x.low)
        else:
            place = (xs - x.low) / (x.high - x.low)
        return np.asarray(box.left() + np.clip(place, -5, 6) * box.width())

    @staticmethod
    def _up(ys: np.ndarray, box: QRectF, y: Scale) -> np.ndarray:
        if y.log:
            place = np.log(np.maximum(ys, 1e-300) / y.low) / np.log(y.high / y.low)
        else:
            place = (ys - y.low) / (y.high - y.low)
        return np.asarray(box.bottom() - np.clip(place, -20, 20) * box.height())

    def _pins(self, p: QPainter, where: FigureLayout) -> None:
        small = font(0.8, bold=True)
        p.setFont(small)
        height = QFontMetricsF(small).height() + 2
        if self.figure.differences:
            bottom = where.difference.bottom()
        else:
            bottom = where.main.bottom()
        for pin in self.figure.pins:
            place = self.view.x.place(pin.x)
            if not -1e-6 <= place <= 1 + 1e-6:
                continue
            px = where.main.left() + place * where.main.width()
            p.setPen(QPen(self.theme.colour("text"), 1))
            p.drawLine(QPointF(px, where.main.top()), QPointF(px, bottom))
            badge = QRectF(px - height * 0.55, where.main.top() - height, height * 1.1, height)
            p.fillRect(badge, self.theme.colour("text"))
            p.setPen(self.theme.colour("back"))
            p.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(pin.number))
