"""A figure as data: which curves, on which axes, with which pins. What paints it knows nothing else."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from epidote.core.quantities.formatting import format_axis, format_quantity
from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.axis_scale import Scale, nice_range

LEAST_SPAN = {
    "dB": 1.0,
    "dBFS": 1.0,
    "dBV": 1.0,
    "dBu": 1.0,
    "°": 5.0,
    "s": 1e-7,
    "V": 1e-9,
    "FS": 1e-9,
    "ratio": 1e-9,
    "%": 1e-9,
}
GRID_POINTS = 3000


@dataclass(frozen=True, eq=False)
class Trace:
    """One curve: colour by row, dashes by channel; ``floor`` (points,) or None: below it the curve is drawn faint."""

    name: str
    channel: int
    colour: int
    x: Samples
    y: Samples
    floor: Samples | None = None
    baseline: bool = False

    def at(self, x: float, log: bool) -> float | None:
        """Return the value under the pointer: between points of a smooth curve, the highest line nearby in a
        spectrum.
        """
        if self.x.size > GRID_POINTS:
            i = int(np.searchsorted(self.x, x))
            if self.x[0] <= x <= self.x[-1]:
                return float(self.y[min(i, self.x.size - 1)])
            return None
        from epidote.core.results.curve_features import interpolate  # SciPy is loaded after the window

        return interpolate(self.x, self.y, x, log_x=log)


def _telling_digits(labels: list[float]) -> int:
    """How many digits tell the labels of an axis apart."""
    span = max(labels, default=0.0) - min(labels, default=0.0)
    if span <= 0:
        return 3
    step = span / (len(labels) - 1)
    greatest = max(abs(v) for v in labels)
    return min(10, max(3, math.floor(math.log10(greatest)) - math.floor(math.log10(step) + 1e-6) + 1))


def _low_end(values: Samples) -> float:
    """Where an axis begins: at the least value, or 20 below the lower quartile of a spectrum, whose deep gaps are
    not worth the room.
    """
    if values.size <= GRID_POINTS:
        return float(values.min())
    every = (
        values.size // GRID_POINTS + 1
    )  # a quartile of a few thousand values is that of all of them, and ten times as quick
    return float(np.quantile(values[::every], 0.25)) - 20


@dataclass(frozen=True)
class PinMark:
    """A pin of a figure: its key, its number and its x."""

    key: int
    number: int
    x: float


@dataclass(frozen=True, eq=False)
class Line:
    """A guide, a limit or a claim beside the curves.

    x and y (corners,), or None for a line right across; other: an area's other side.

        kind: "guide", "upper" or "lower" (a limit: which side is open tells its ticks), or "claim", in a row's colour.
    """

    name: str
    kind: str
    x: Samples | None
    y: Samples | None
    other: float | None = None
    failed: bool = False
    colour: int = 0
    words: str = ""  # for a picture: a guide's sentence and source


@dataclass(frozen=True)
class Figure:
    """Everything on a graph. y_unit "%" is drawn on a logarithmic axis. notes: lines for an exported picture."""

    title: str
    x_title: str
    x_unit: str
    y_title: str
    y_unit: str
    log_x: bool
    traces: tuple[Trace, ...] = ()
    differences: tuple[Trace, ...] = ()
    difference_unit: str = "dB"
    reference_name: str = ""
    pins: tuple[PinMark, ...] = ()
    notes: tuple[str, ...] = ()
    crossings: tuple[str, ...] = ()  # where curves and the reference change places, in words
    marks: tuple[tuple[float, str], ...] = ()  # what lies where on x, such as harmonics
    lines: tuple[Line, ...] = ()
    band: tuple[float, float] | None = None  # where the greatest deviation is looked for; None: everywhere
    deviations: tuple[tuple[int, str], ...] = ()  # (row's colour, words) of each difference
    held: tuple[str, ...] = ()  # what the curves do at their limits, in words
    aligned: str = ""  # how gains were brought to one level, in words
    x_is_count: bool = False  # x numbers something, such as bursts, and has no unit

    @property
    def log_y(self) -> bool:
        return self.y_unit == "%"

    def x_extent(self) -> Scale:
        ends = [(float(t.x[0]), float(t.x[-1])) for t in self.traces if t.x.size > 1]
        if not ends:
            if self.log_x:
                return Scale(20, 20000, True)
            return Scale(0, 1)
        low, high = min(e[0] for e in ends), max(e[1] for e in ends)
        if self.log_x:
            if self.x_unit == "Hz" and high > 100 and low < 5:
                low = max(low, 10.0)
            else:
                low = max(low, 1e-12)
        return Scale(low, high, self.log_x)

    def y_extent(self, x: Scale, differences: bool = False) -> Scale:
        """Return a range that holds the curves where they are shown."""
        low, high = math.inf, -math.inf
        for trace in self.differences if differences else self.traces:
            inside = trace.y[(trace.x >= x.low) & (trace.x <= x.high)]
            inside = inside[np.isfinite(inside)]
            if inside.size:
                low = min(low, _low_end(inside))
                high = max(high, float(inside.max()))
        if not differences and math.isfinite(low):
            room = 0.6 * max(high - low, LEAST_SPAN.get(self.y_unit, 0.0))
            neighbours = [
                float(v)
                for line in self.lines
                if line.y is not None
                for v in (line.y.min(), line.y.max())
                if np.isfinite(v)
            ]
            for value in neighbours:  # lines near the curves come into view, far ones do not squeeze them
                if not self.log_y and low - room <= value <= high + room:
                    low, high = min(low, value), max(high, value)
        if differences:
            if not math.isfinite(low):
                return Scale(-1, 1)
            # with zero in view, and never so near that differences of nothing look like something
            least = LEAST_SPAN.get(self.difference_unit, 0.2) * 0.2
            return Scale(*nice_range(min(low, 0.0), max(high, 0.0), least))
        if not math.isfinite(low):
            return Scale(-1, 1)
        if self.log_y:
            return Scale(
                10 ** math.floor(math.log10(max(low, 1e-9)) - 0.05),
                10 ** math.ceil(math.log10(max(high, 1e-8)) + 0.05),
                True,
            )
        return Scale(*nice_range(low, high, LEAST_SPAN.get(self.y_unit, 1e-9)))

    @property
    def x_words(self) -> str:
        """Below the axis: what it is, and in what unit; a count has none."""
        if self.x_is_count:
            return self.x_title
        return f"{self.x_title}, {self.x_unit}"

    def x_text(self, x: float) -> str:
        if self.x_is_count:
            return f"{self.x_title} {x:.0f}"
        return format_quantity(x, self.x_unit, digits=4)

    def y_text(self, y: float | None, unit: str | None = None, signed: bool = False) -> str:
        return format_quantity(y, unit or self.y_unit, digits=4, signed=signed)

    def tick_text(self, value: float, unit: str, labels: list[float]) -> str:
        """Return a tick's label; small engineering values get the prefix that fits all of them."""
        if unit in ("s", "V", "W"):
            if value:
                text = format_quantity(value, unit, digits=_telling_digits(labels))
            else:
                text = "0"
            wide = (
                labels and min(labels) > 0 and max(labels) >= 10 * min(labels)
            )  # 1, 2, 5, which need no zeros to line up
            if wide and "." in text:
                return re.sub(r"\.?0+(?= )", "", text)
            return text
        if unit in ("FS", "ratio") and labels:
            return f"{value:.3g}"
        return format_axis(value, unit)
