"""Units in the order of measurement: values above, moving ranges below (NIST/SEMATECH e-Handbook, 6.3.2.2)."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF

from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas, Plane, with_room
from epidote.desktop.pages.routine.statistics_pictures.picture import PlottedReading, ReadingPicture

_UPPER, _LOWER = 0.66, 0.26  # shares of the height
_MOST_NAMED = 6


class ControlChartPicture(ReadingPicture):
    """Individuals and moving ranges; units at which a rule holds are marked."""

    key, title = "chart", "Control chart"
    tells_more = True

    def paint_reading(self, canvas: Canvas, reading: PlottedReading) -> None:
        box, chart = canvas.box, reading.statistics.chart
        upper = QRectF(box.left(), box.top(), box.width(), _UPPER * box.height())
        lower = QRectF(box.left(), box.bottom() - _LOWER * box.height(), box.width(), _LOWER * box.height())
        canvas.frame("", reading.axis, upper)
        if chart is None:
            canvas.say("A control chart needs at least three units.")
            return
        values = reading.statistics.values
        low, high = with_room(min(float(values.min()), chart.lower), max(float(values.max()), chart.upper))
        plane = Plane(upper, 0.0, values.size - 1.0, low, high)
        canvas.ticks_up(plane, reading.unit)
        canvas.chain(plane, values, {signal.place for signal in chart.signals})
        canvas.level(plane, chart.upper, "UCL (mean + 3 s)")
        canvas.level(plane, chart.centre, "mean", "quiet")
        canvas.level(plane, chart.lower, "LCL (mean - 3 s)")
        canvas.frame("Units in order of measurement; moving ranges below", "", lower)
        most = 1.1 * max(float(chart.ranges.max()), chart.upper_range) or 1.0
        ranges = Plane(lower, 0.0, values.size - 1.0, 0.0, most)
        canvas.ticks_up(ranges, reading.unit)
        canvas.chain(ranges, np.concatenate([[0.0], chart.ranges]), set(), told=False)
        canvas.level(ranges, chart.upper_range, "limit")

    def words_of(self, reading: PlottedReading) -> str:
        chart = reading.statistics.chart
        if chart is None:
            return super().words_of(reading)
        if not chart.signals:
            return "No signal"
        named = dict.fromkeys(f"{reading.names[s.place]} ({s.rule})" for s in chart.signals[:_MOST_NAMED])
        count = "1 signal" if len(chart.signals) == 1 else f"{len(chart.signals)} signals"
        return f"{count} of the Western Electric rules: {', '.join(named)}"
