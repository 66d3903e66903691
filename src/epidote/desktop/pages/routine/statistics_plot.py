"""One reading over units as a picture: histogram, control chart, normal plot, or another reading beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from epidote.core.quantities.formatting import format_axis, format_quantity
from epidote.core.signals.signal import Samples
from epidote.core.statistics.overall import ValueStatistics
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import plain_tip
from epidote.measurement.unit_statistics import BandStatistics

HISTOGRAM, CHART, NORMAL, PAIRS, CURVES = "histogram", "chart", "normal", "pairs", "curves"
_LEFT, _RIGHT, _TOP, _BOTTOM = 76, 20, 30, 44  # pixels
_DOT, _NEAR = 3.0, 8.0
_MOST_DOTS = 4000


@dataclass(frozen=True, eq=False)
class PlottedReading:
    """names: of the units, in the order of the values. pairs: values of two readings, and the other's title and unit,
    for the picture of both.
    """

    title: str
    unit: str
    statistics: ValueStatistics
    names: Sequence[str]
    pairs: tuple[Samples, Samples, str, str] | None = None


@dataclass(frozen=True, eq=False)
class PlottedBands:
    """A curve over units under its title."""

    title: str
    over_units: BandStatistics


class StatisticsPlot(QWidget):
    """Points tell their unit under the pointer. unit_picked: place of the unit that was clicked."""

    unit_picked = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.kind = HISTOGRAM
        self.reading: PlottedReading | None = None
        self.bands: PlottedBands | None = None
        self._points: list[tuple[QPointF, int]] = []
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Picture of the reading over units")

    def set_theme(self, theme: Theme) -> None:
        """Show the same in another theme."""
        self.theme = theme
        self.update()

    def show_reading(self, reading: PlottedReading | None, kind: str) -> None:
        """Show a reading in one of the four pictures; None shows nothing."""
        self.reading, self.kind = reading, kind
        self.setAccessibleDescription(self.words())
        self.update()

    def show_bands(self, bands: PlottedBands | None) -> None:
        """Show a curve over units; None until it is computed."""
        self.bands, self.kind = bands, CURVES
        self.setAccessibleDescription(self.words())
        self.update()

    def words(self) -> str:
        """Return in a sentence what the picture shows."""
        if self.kind == CURVES:
            if self.bands is None:
                return ""
            units = self.bands.over_units.units
            return f"{self.bands.title}: mean of {units} units, ±2 std. deviations, minimum and maximum"
        reading = self.reading
        if reading is None:
            return ""
        chart = reading.statistics.chart
        if self.kind == CHART and chart is not None:
            beyond = ", ".join(dict.fromkeys(f"{reading.names[s.place]} ({s.rule})" for s in chart.signals[:6]))
            return f"{len(chart.signals)} signals of the Western Electric rules: {beyond}" if beyond else "No signal"
        return f"{reading.title}: {reading.statistics.values.size} units"

    def sizeHint(self) -> QSize:
        return QSize(560, 420)

    def minimumSizeHint(self) -> QSize:
        return QSize(300, 220)

    # -- painting ------------------------------------------------------------------------------------

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._points = []
        if self.kind == CURVES:
            self._curves(p, QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM))
        elif self.reading is not None:
            box = QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM)
            paint = {HISTOGRAM: self._histogram, CHART: self._chart, NORMAL: self._normal, PAIRS: self._pairs}
            paint[self.kind](p, box, self.reading)
        p.end()

    def _frame(self, p: QPainter, box: QRectF, across: str, up: str) -> None:
        """Paint the frame with the titles of both axes."""
        p.setPen(QPen(self.theme.colour("line"), 1))
        p.drawRect(box)
        p.setFont(font(0.9))
        p.setPen(self.theme.colour("quiet"))
        p.drawText(QRectF(box.left(), box.bottom() + 22, box.width(), 18), Qt.AlignmentFlag.AlignCenter, across)
        p.drawText(QRectF(4, 4, self.width() - 8, 20), Qt.AlignmentFlag.AlignLeft, up)

    def _nothing(self, p: QPainter, box: QRectF, words: str) -> None:
        p.setPen(self.theme.colour("quiet"))
        p.setFont(font())
        p.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)

    def _ticks(self, p: QPainter, box: QRectF, low: float, high: float, *, across: bool, unit: str) -> None:
        """Paint a handful of values along an axis."""
        for value in _round_values(low, high):
            share = (value - low) / (high - low)
            p.setPen(QPen(self.theme.colour("faint_line"), 1))
            words = format_axis(value, unit)
            if across:
                x = box.left() + share * box.width()
                p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
                p.setPen(self.theme.colour("quiet"))
                p.drawText(QRectF(x - 40, box.bottom() + 4, 80, 16), Qt.AlignmentFlag.AlignCenter, words)
            else:
                y = box.bottom() - share * box.height()
                p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
                p.setPen(self.theme.colour("quiet"))
                where = QRectF(0, y - 9, box.left() - 6, 18)
                p.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)

    def _limit(self, p: QPainter, ends: tuple[QPointF, QPointF], words: str, colour: str = "caution") -> None:
        """Paint a line across with what it is."""
        p.setPen(QPen(self.theme.colour(colour), 1.4, Qt.PenStyle.DashLine))
        p.drawLine(*ends)
        p.setFont(font(0.85))
        p.drawText(ends[1] + QPointF(-70, -4), words)

    def _histogram(self, p: QPainter, box: QRectF, reading: PlottedReading) -> None:
        found = reading.statistics.histogram
        self._frame(p, box, f"{reading.title}, {reading.unit}".rstrip(", "), "Units")
        if found is None:
            self._nothing(p, box, "All units have the same value, or there is only one.")
            return
        limits = [v for v in (reading.statistics.lower, reading.statistics.upper) if v is not None]
        spread = float(found.edges[-1] - found.edges[0])
        near = [v for v in limits if found.edges[0] - 2 * spread < v < found.edges[-1] + 2 * spread]
        low, high = _with_room(min(found.edges[0], *near, found.edges[-1]), max(found.edges[-1], *near, found.edges[0]))
        most = float(found.counts.max())
        self._ticks(p, box, low, high, across=True, unit=reading.unit)
        self._ticks(p, box, 0.0, most * 1.1, across=False, unit="")
        across = box.width() / (high - low)
        up = box.height() / (most * 1.1)
        p.setPen(QPen(self.theme.colour("back"), 1))
        p.setBrush(self.theme.row(0))
        for begin, end, count in zip(found.edges[:-1], found.edges[1:], found.counts, strict=True):
            left = box.left() + (begin - low) * across
            p.drawRect(QRectF(left, box.bottom() - count * up, (end - begin) * across, count * up))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for value, words in ((reading.statistics.lower, "lower limit"), (reading.statistics.upper, "upper limit")):
            if value in near and value is not None:
                x = box.left() + (value - low) * across
                p.setPen(QPen(self.theme.colour("caution"), 1.4, Qt.PenStyle.DashLine))
                p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
                p.setFont(font(0.85))
                room = p.fontMetrics().horizontalAdvance(words) + 8
                beside = x + 4 if x + room < box.right() else x - room + 4
                p.drawText(QPointF(beside, box.top() + 14), words)

    def _chart(self, p: QPainter, box: QRectF, reading: PlottedReading) -> None:
        """Paint the individuals above and the moving ranges below."""
        chart = reading.statistics.chart
        upper = QRectF(box.left(), box.top(), box.width(), 0.66 * box.height())
        lower = QRectF(box.left(), box.top() + 0.74 * box.height(), box.width(), 0.26 * box.height())
        self._frame(p, upper, "", f"{reading.title}, {reading.unit}".rstrip(", "))
        if chart is None:
            self._nothing(p, upper, "A control chart needs three units at least.")
            return
        values = reading.statistics.values
        low, high = _with_room(min(float(values.min()), chart.lower), max(float(values.max()), chart.upper))
        self._ticks(p, upper, low, high, across=False, unit=reading.unit)
        signalled = {signal.place for signal in chart.signals}
        self._dots(p, upper, values, (low, high), signalled)

        def line(value: float) -> tuple[QPointF, QPointF]:
            y = upper.bottom() - (value - low) / (high - low) * upper.height()
            return QPointF(upper.left(), y), QPointF(upper.right(), y)

        self._limit(p, line(chart.upper), "mean + 3 s")
        self._limit(p, line(chart.centre), "mean", "quiet")
        self._limit(p, line(chart.lower), "mean - 3 s")
        p.setPen(QPen(self.theme.colour("line"), 1))
        p.drawRect(lower)
        most = 1.1 * max(float(chart.ranges.max()), chart.upper_range) or 1.0
        self._ticks(p, lower, 0.0, most, across=False, unit=reading.unit)
        self._dots(p, lower, np.concatenate([[0.0], chart.ranges]), (0.0, most), set(), picked=False)
        y = lower.bottom() - chart.upper_range / most * lower.height()
        self._limit(p, (QPointF(lower.left(), y), QPointF(lower.right(), y)), "limit")
        p.setPen(self.theme.colour("quiet"))
        p.setFont(font(0.9))
        words = "Units in the order of measurement; below, moving ranges"
        p.drawText(QRectF(box.left(), box.bottom() + 22, box.width(), 18), Qt.AlignmentFlag.AlignCenter, words)

    def _dots(
        self,
        p: QPainter,
        box: QRectF,
        values: Samples,
        ends: tuple[float, float],
        marked: set[int],
        *,
        picked: bool = True,
    ) -> None:
        """Paint values from left to right, joined by a line; the marked ones in the caution colour."""
        low, high = ends
        step = box.width() / max(1, values.size - 1)
        every = max(1, values.size // _MOST_DOTS)
        points = [
            (QPointF(box.left() + n * step, box.bottom() - (values[n] - low) / (high - low) * box.height()), n)
            for n in range(0, values.size, every)
        ]
        p.setPen(QPen(self.theme.colour("line"), 1))
        p.drawPolyline([point for point, _ in points])
        p.setPen(Qt.PenStyle.NoPen)
        for point, n in points:
            p.setBrush(self.theme.colour("caution") if n in marked else self.theme.row(0))
            p.drawEllipse(point, _DOT + (n in marked), _DOT + (n in marked))
        p.setBrush(Qt.BrushStyle.NoBrush)
        if picked:
            self._points = points

    def _normal(self, p: QPainter, box: QRectF, reading: PlottedReading) -> None:
        plot = reading.statistics.normal_plot
        self._frame(p, box, "Expected of a normal distribution, s", f"{reading.title}, {reading.unit}".rstrip(", "))
        if plot is None:
            self._nothing(p, box, "A normal plot needs three units with different values at least.")
            return
        values = reading.statistics.values[plot.order]
        low, high = _with_room(float(values[0]), float(values[-1]))
        left, right = _with_room(float(plot.expected[0]), float(plot.expected[-1]))
        self._ticks(p, box, left, right, across=True, unit="")
        self._ticks(p, box, low, high, across=False, unit=reading.unit)
        outliers = set(reading.statistics.outliers.places)
        self._cloud(p, box, (plot.expected, values), (left, right, low, high), places=list(plot.order), marked=outliers)
        s = reading.statistics.s or 0.0
        ends = [reading.statistics.mean + s * x for x in (left, right)]
        p.setPen(QPen(self.theme.colour("quiet"), 1, Qt.PenStyle.DashLine))
        p.setClipRect(box)
        y = [box.bottom() - (v - low) / (high - low) * box.height() for v in ends]
        p.drawLine(QPointF(box.left(), y[0]), QPointF(box.right(), y[1]))
        p.setClipping(False)

    def _pairs(self, p: QPainter, box: QRectF, reading: PlottedReading) -> None:
        if reading.pairs is None or reading.pairs[0].size < 2:
            self._frame(p, box, "", "")
            self._nothing(p, box, "Select another reading to see how the two go together.")
            return
        x, y, title, unit = reading.pairs
        self._frame(p, box, f"{title}, {unit}".rstrip(", "), f"{reading.title}, {reading.unit}".rstrip(", "))
        left, right = _with_room(float(x.min()), float(x.max()))
        low, high = _with_room(float(y.min()), float(y.max()))
        self._ticks(p, box, left, right, across=True, unit=unit)
        self._ticks(p, box, low, high, across=False, unit=reading.unit)
        self._cloud(p, box, (x, y), (left, right, low, high), places=range(x.size), marked=set())

    def _curves(self, p: QPainter, box: QRectF) -> None:
        """Paint the mean with ±2 s as a band, minimum and maximum as lines."""
        if self.bands is None:
            self._frame(p, box, "", "")
            self._nothing(p, box, "Computing…")
            return
        bands = self.bands.over_units
        self._frame(p, box, bands.x_unit, f"{self.bands.title}, {bands.y_unit}".rstrip(", "))
        logarithmic = bands.x_unit == "Hz" and bool(bands.x[0] > 0)
        x = np.log10(bands.x) if logarithmic else bands.x
        low, high = _with_room(float(bands.least.min()), float(bands.greatest.max()))
        self._ticks(p, box, low, high, across=False, unit=bands.y_unit)
        left, right = float(x[0]), float(x[-1]) if x[-1] > x[0] else float(x[0]) + 1.0
        for value in _axis_values(bands.x, logarithmic=logarithmic):
            place = box.left() + ((np.log10(value) if logarithmic else value) - left) / (right - left) * box.width()
            p.setPen(QPen(self.theme.colour("faint_line"), 1))
            p.drawLine(QPointF(place, box.top()), QPointF(place, box.bottom()))
            p.setPen(self.theme.colour("quiet"))
            where = QRectF(place - 40, box.bottom() + 4, 80, 16)
            p.drawText(where, Qt.AlignmentFlag.AlignCenter, format_axis(value, bands.x_unit))
        across = box.left() + (x - left) / (right - left) * box.width()

        def line(values: Samples) -> list[QPointF]:
            heights = box.bottom() - (np.clip(values, low, high) - low) / (high - low) * box.height()
            return [QPointF(a, b) for a, b in zip(across, heights, strict=True)]

        colour = self.theme.row(0)
        band = QColor(colour)
        band.setAlpha(60)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(band)
        p.drawPolygon(line(bands.mean + 2 * bands.s) + list(reversed(line(bands.mean - 2 * bands.s))))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(self.theme.colour("quiet"), 1, Qt.PenStyle.DashLine))
        p.drawPolyline(line(bands.least))
        p.drawPolyline(line(bands.greatest))
        p.setPen(QPen(colour, 2))
        p.drawPolyline(line(bands.mean))

    def _cloud(
        self,
        p: QPainter,
        box: QRectF,
        values: tuple[Samples, Samples],
        ends: tuple[float, float, float, float],
        *,
        places: Sequence[int],
        marked: set[int],
    ) -> None:
        """Paint points; places: which unit each is."""
        left, right, low, high = ends
        p.setPen(Qt.PenStyle.NoPen)
        for x, y, place in zip(*values, places, strict=True):
            point = QPointF(
                box.left() + (x - left) / (right - left) * box.width(),
                box.bottom() - (y - low) / (high - low) * box.height(),
            )
            p.setBrush(self.theme.colour("caution") if place in marked else self.theme.row(0))
            p.drawEllipse(point, _DOT + (place in marked), _DOT + (place in marked))
            self._points.append((point, int(place)))
        p.setBrush(Qt.BrushStyle.NoBrush)

    # -- the pointer ---------------------------------------------------------------------------------

    def _at(self, where: QPointF) -> int | None:
        """Return the place of the unit under the pointer."""
        near = [((point - where).manhattanLength(), place) for point, place in self._points]
        distance, place = min(near, default=(_NEAR + 1, -1))
        return place if distance <= _NEAR else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place, reading = self._at(event.position()), self.reading
        if place is None or reading is None:
            QToolTip.hideText()
            return
        value = format_quantity(float(reading.statistics.values[place]), reading.unit, digits=4)
        QToolTip.showText(event.globalPosition().toPoint(), plain_tip(f"{reading.names[place]}: {value}"), self)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self._at(event.position())
        if place is not None:
            self.unit_picked.emit(place)


def _axis_values(x: Samples, *, logarithmic: bool) -> list[float]:
    """Return the values along an axis: 1, 2 and 5 of each decade where it is logarithmic."""
    low, high = float(x[0]), float(x[-1])
    if not logarithmic:
        return _round_values(low, high) if high > low else [low]
    decades = range(int(np.floor(np.log10(low))), int(np.ceil(np.log10(high))) + 1)
    values = [step * 10.0**power for power in decades for step in (1, 2, 5)]
    return [value for value in values if low <= value <= high]


def _with_room(low: float, high: float) -> tuple[float, float]:
    """Return ends a little apart from the values, and never together."""
    room = 0.06 * (high - low) or 0.5 * abs(high) or 0.5
    return low - room, high + room


def _round_values(low: float, high: float) -> list[float]:
    """Return a handful of round values between two ends."""
    rough = (high - low) / 5
    power = 10.0 ** np.floor(np.log10(rough))
    step = next(power * n for n in (1, 2, 5, 10) if power * n >= rough)
    first = np.ceil(low / step)
    return [float(step * n) + 0.0 for n in np.arange(first, np.floor(high / step) + 1)]
