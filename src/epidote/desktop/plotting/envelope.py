"""What is drawn of a trace: its points, or with many to a pixel the range and the mean of each pixel."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.figure import Trace
from epidote.desktop.plotting.polyline import least_and_greatest

_CROWDED = 1.2  # points per pixel from which ranges are drawn


@dataclass(frozen=True)
class DrawnTrace:
    """All arrays (points,). y: the points, or the mean of each pixel; low, high: the range of each pixel, None where
    every point is drawn; floor: what the recording can show, None where that is not known.
    """

    x: Samples
    y: Samples
    floor: Samples | None
    low: Samples | None = None
    high: Samples | None = None


def drawn_trace(trace: Trace, x: Scale, width: int, *, levels: bool) -> DrawnTrace:
    """Return what is drawn of a trace in a view ``width`` pixels wide. levels: y is in dB, so its mean is of power."""
    first, last = np.searchsorted(trace.x, [x.low, x.high])
    part = slice(max(0, int(first) - 1), int(last) + 1)
    xs, ys = trace.x[part], trace.y[part]
    floor = None if trace.floor is None else trace.floor[part]
    if xs.size <= _CROWDED * width:
        return DrawnTrace(xs, ys, floor)
    edges = _pixel_edges(xs, x, width)
    low, high = least_and_greatest(ys, ys, edges)
    counts = np.diff(np.append(edges, xs.size))
    if levels:
        with np.errstate(divide="ignore"):
            mean = 10 * np.log10(np.add.reduceat(10 ** (ys / 10), edges) / counts)
    else:
        mean = np.add.reduceat(ys, edges) / counts
    under = None if floor is None else np.maximum.reduceat(floor, edges)
    return DrawnTrace(xs[edges], mean, under, low, high)


def _pixel_edges(xs: Samples, x: Scale, width: int) -> np.ndarray:
    """Return where each pixel's points begin."""
    if x.log:
        places = x.low * (x.high / x.low) ** (np.arange(width + 1) / width)
        edges = np.unique(np.searchsorted(xs, places))
    else:
        edges = np.unique(np.linspace(0, xs.size, width + 1).astype(int))
    return edges[edges < xs.size]
