"""Values over the times at which they were measured, with the straight line of their drift."""

from __future__ import annotations

import numpy as np

from epidote.core.quantities.formatting import format_quantity
from epidote.core.statistics.relations import Drift
from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas, Plane, with_room
from epidote.desktop.pages.routine.statistics_pictures.picture import PlottedReading, ReadingPicture

_LINE = 60  # points of the band about the line, which is bent
# the longest time in days that is shown in a unit, how many of it make a day, its sign, and its name after a rate
_SCALES = ((2 / 24, 1440.0, "min", "a minute"), (2.0, 24.0, "h", "an hour"), (np.inf, 1.0, "days", "a day"))


class OverTimePicture(ReadingPicture):
    """Points, the line, and the band in which it lies with 95 %."""

    key, title = "time", "Over time"
    tells_more = True

    def paint_reading(self, canvas: Canvas, reading: PlottedReading) -> None:
        found = reading.statistics
        canvas.frame("", reading.axis)
        if found.days is None or found.span <= 0:
            canvas.say("All units have the same time of measurement.")
            return
        in_a_day, sign, _ = _scale(found.span)
        values = found.values
        left, right = with_room(float(found.days.min()), float(found.days.max()))
        days = np.linspace(left, right, _LINE)
        plane = Plane(
            canvas.box, left * in_a_day, right * in_a_day, *with_room(float(values.min()), float(values.max()))
        )
        canvas.frame(f"Time since the first unit, {sign}", "")
        canvas.ticks_across(plane, "")
        canvas.ticks_up(plane, reading.unit)
        if found.drift is not None:
            line, half = found.drift.line(days)
            canvas.band(plane, days * in_a_day, (line + half, line - half))
            canvas.expected(plane, days * in_a_day, line)
        places = range(values.size)
        canvas.cloud(plane, found.days * in_a_day, values, places, set(found.outliers.places))

    def words_of(self, reading: PlottedReading) -> str:
        found = reading.statistics
        if found.drift is None:
            return super().words_of(reading)
        return drift_words(found.drift, reading.unit, found.span)


def drift_words(drift: Drift, unit: str, days: float) -> str:
    """Return the drift of a reading that was measured over so many days, in a unit of time that suits them."""
    in_a_day, _, name = _scale(days)
    rate, half = drift.per_day / in_a_day, drift.interval / in_a_day
    shown = [
        format_quantity(v, unit, digits=3, uncertainty=half / 2, signed=True) for v in (rate, rate - half, rate + half)
    ]
    words = f"Drift {shown[0]} {name}, 95 % interval {shown[1]} to {shown[2]}"
    return words if drift.significant else f"{words}: no significant drift"


def _scale(days: float) -> tuple[float, str, str]:
    """Return how many of a unit of time make a day, its sign, and its name after a rate."""
    return next((many, sign, name) for longest, many, sign, name in _SCALES if days <= longest)
