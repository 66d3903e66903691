"""A curve over units: mean and scatter at each frequency."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPen

from epidote.core.quantities.formatting import format_axis
from epidote.core.signals.signal import Samples
from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas, Plane, round_values, with_room
from epidote.desktop.pages.routine.statistics_pictures.picture import Plotted, PlottedBands
from epidote.desktop.widgets.wording import LOADING


class CurvePicture:
    """The mean with ±2 s as a band, minimum and maximum as lines."""

    key, title = "curves", "Curve"
    needs_other, needs_curve, tells_more = False, True, True

    def paint(self, canvas: Canvas, plotted: Plotted | None) -> None:
        """Paint the curve; a word until it is computed."""
        if not isinstance(plotted, PlottedBands):
            canvas.frame("", "")
            canvas.say(LOADING)
            return
        bands = plotted.over_units
        canvas.frame(bands.x_unit, f"{plotted.title}, {bands.y_unit}".rstrip(", "))
        logarithmic = bands.x_unit == "Hz" and bool(bands.x[0] > 0)
        x = np.log10(bands.x) if logarithmic else bands.x
        left, right = float(x[0]), float(x[-1]) if x[-1] > x[0] else float(x[0]) + 1.0
        low, high = with_room(float(bands.least.min()), float(bands.greatest.max()))
        plane = Plane(canvas.box, left, right, low, high)
        canvas.ticks_up(plane, bands.y_unit)
        for value in _axis_values(bands.x, logarithmic=logarithmic):
            place = float(np.log10(value)) if logarithmic else value
            canvas.tick_across(plane, place, format_axis(value, bands.x_unit))
        canvas.band(plane, x, (bands.mean + 2 * bands.s, bands.mean - 2 * bands.s))
        canvas.painter.setPen(QPen(canvas.theme.colour("quiet"), 1, Qt.PenStyle.DashLine))
        for ends in (bands.least, bands.greatest):
            canvas.painter.drawPolyline(plane.line(x, ends))
        canvas.painter.setPen(QPen(canvas.theme.row(0), 2))
        canvas.painter.drawPolyline(plane.line(x, bands.mean))

    def words(self, plotted: Plotted) -> str:
        """Return in a sentence what the picture shows."""
        if not isinstance(plotted, PlottedBands):
            return ""
        return f"{plotted.title}: mean of {plotted.over_units.units} units, ±2 std. deviations, minimum and maximum"


def _axis_values(x: Samples, *, logarithmic: bool) -> list[float]:
    """Return the values along an axis: 1, 2 and 5 of each decade where it is logarithmic."""
    low, high = float(x[0]), float(x[-1])
    if not logarithmic:
        return round_values(low, high) if high > low else [low]
    decades = range(int(np.floor(np.log10(low))), int(np.ceil(np.log10(high))) + 1)
    values = [step * 10.0**power for power in decades for step in (1, 2, 5)]
    return [value for value in values if low <= value <= high]
