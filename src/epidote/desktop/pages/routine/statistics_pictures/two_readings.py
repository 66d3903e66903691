"""A reading over another one of the same units."""

from __future__ import annotations

from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas, Plane, with_room
from epidote.desktop.pages.routine.statistics_pictures.picture import PlottedReading, ReadingPicture


class TwoReadingsPicture(ReadingPicture):
    """A point for each unit that has both."""

    key, title = "pairs", "Two readings"
    needs_other = True

    def paint_reading(self, canvas: Canvas, reading: PlottedReading) -> None:
        other = reading.other
        if other is None or other.x.size < 2:
            canvas.frame("", "")
            canvas.say("Select a second reading to plot the correlation.")
            return
        canvas.frame(f"{other.title}, {other.unit}".rstrip(", "), reading.axis)
        across = with_room(float(other.x.min()), float(other.x.max()))
        plane = Plane(canvas.box, *across, *with_room(float(other.y.min()), float(other.y.max())))
        canvas.ticks_across(plane, other.unit)
        canvas.ticks_up(plane, reading.unit)
        canvas.cloud(plane, other.x, other.y, other.places, set())
