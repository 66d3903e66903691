"""How often each value occurs, with the limits."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPen

from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas, Plane, with_room
from epidote.desktop.pages.routine.statistics_pictures.picture import PlottedReading, ReadingPicture

_NEAR = 2.0  # times the values' range, beyond which a limit is left out: it would flatten the bars


class HistogramPicture(ReadingPicture):
    """Bars, and those limits that are near."""

    key, title = "histogram", "Histogram"

    def paint_reading(self, canvas: Canvas, reading: PlottedReading) -> None:
        found = reading.statistics.histogram
        canvas.frame(reading.axis, "Units")
        if found is None:
            canvas.say("No histogram: only one unit, or all values are equal.")
            return
        first, last = float(found.edges[0]), float(found.edges[-1])
        reach = _NEAR * (last - first)
        named = ((reading.statistics.lower, "lower limit"), (reading.statistics.upper, "upper limit"))
        limits = [(v, words) for v, words in named if v is not None and first - reach < v < last + reach]
        ends = [first, last, *(value for value, _ in limits)]
        left, right = with_room(min(ends), max(ends))
        plane = Plane(canvas.box, left, right, 0.0, 1.1 * float(found.counts.max()))
        canvas.ticks_across(plane, reading.unit)
        canvas.ticks_up(plane, "")
        p = canvas.painter
        p.setPen(QPen(canvas.theme.colour("back"), 1))
        p.setBrush(canvas.theme.row(0))
        for begin, end, count in zip(found.edges[:-1], found.edges[1:], found.counts, strict=True):
            p.drawRect(QRectF(plane.point(float(begin), float(count)), plane.point(float(end), 0.0)))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for value, words in limits:
            canvas.upright(plane, value, words)
