"""Sorted values over what a normal distribution would give: a straight line where they are normal."""

from __future__ import annotations

import numpy as np

from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas, Plane, with_room
from epidote.desktop.pages.routine.statistics_pictures.picture import PlottedReading, ReadingPicture


class NormalPicture(ReadingPicture):
    """The normal plot with its line; outliers are marked."""

    key, title = "normal", "Normal plot"

    def paint_reading(self, canvas: Canvas, reading: PlottedReading) -> None:
        plot, found = reading.statistics.normal_plot, reading.statistics
        canvas.frame("Normal quantile, std. deviations", reading.axis)
        if plot is None:
            canvas.say("A normal plot needs at least three units with different values.")
            return
        values = found.values[plot.order]
        ends = with_room(float(plot.expected[0]), float(plot.expected[-1]))
        plane = Plane(canvas.box, *ends, *with_room(float(values[0]), float(values[-1])))
        canvas.ticks_across(plane, "")
        canvas.ticks_up(plane, reading.unit)
        canvas.cloud(plane, plot.expected, values, plot.order.tolist(), set(found.outliers.places))
        x = np.array(ends)
        canvas.expected(plane, x, found.mean + (found.s or 0.0) * x)
