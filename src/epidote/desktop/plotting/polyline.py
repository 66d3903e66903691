"""Arrays as Qt's polygons, and what lies between two of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPaintEngine, QPainter, QPolygonF
from shiboken6 import VoidPtr

from epidote.core.signals.signal import Samples

_BYTES = 16  # of a point: two doubles
_PIECE, _WHOLE = 16, 2**31  # steps of a line that are drawn at once


def polygon(xs: Samples, ys: Samples) -> QPolygonF:
    """Points (n,) written into Qt's own memory, a hundred times as quick as point by point."""
    made = QPolygonF()
    made.resize(xs.size)
    if xs.size:
        memory: Any = VoidPtr(made.data(), _BYTES * xs.size, True)  # type: ignore[call-arg, arg-type, unused-ignore]  # the address of its points
        points = np.frombuffer(memory, dtype=np.float64).reshape(-1, 2)
        points[:, 0], points[:, 1] = xs, ys
    return made


def least_and_greatest(least: Samples, greatest: Samples, edges: NDArray[np.intp]) -> tuple[Samples, Samples]:
    """Return the least and the greatest value of each group (groups,) that begins at one of ``edges``.

    least, greatest: (points,), the same array where every point is one value.
    """
    return np.minimum.reduceat(least, edges), np.maximum.reduceat(greatest, edges)


def draw_line(painter: QPainter, xs: Samples, ys: Samples) -> None:
    """Draw lines through points (points,) in pixels, broken where one is not finite."""
    good = np.isfinite(ys)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], good, [False]]).astype(np.int8)))
    painter.save()
    pieces = _WHOLE
    if _is_better_cut(painter):
        pen = painter.pen()
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)  # which joins the pieces unseen
        painter.setPen(pen)
        pieces = _PIECE
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        step = min(pieces, end - begin)
        for first in range(begin, end - 1, step):
            last = min(first + step + 1, end)
            painter.drawPolyline(polygon(xs[first:last], ys[first:last]))
    painter.restore()


def _is_better_cut(painter: QPainter) -> bool:
    """Whether a line is drawn in pieces: the outline of a wide one that jumps at every point crosses itself so often
    that Qt takes four times as long to fill it whole. Dashes would begin anew, and joints of a faint line would show.
    """
    pen = painter.pen()
    is_one_stroke = pen.style() is Qt.PenStyle.SolidLine and pen.color().alpha() == 255
    return _is_screen(painter) and is_one_stroke and pen.widthF() > 1


def _is_screen(painter: QPainter) -> bool:
    """Whether pixels are painted, not the lines of a PDF."""
    return painter.paintEngine().type() is QPaintEngine.Type.Raster


def fill_between(painter: QPainter, xs: Samples, ys: tuple[Samples, Samples], colour: QColor) -> None:
    """Fill what lies between an upper and a lower line (points,), in pixels, where both are known.

    On a screen each pixel gets a bar: the edges of a polygon that jumps at every pixel are hundreds on each line of the
    picture, and Qt takes ten times as long to sort them. On paper it is the polygon, whose edges are smooth.
    """
    upper, lower = ys
    good = np.isfinite(upper) & np.isfinite(lower)
    xs, upper, lower = xs[good], upper[good], lower[good]
    if xs.size < 2:
        return
    painter.save()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour)
    if _is_screen(painter):
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.drawRects(_bars(xs, upper, lower))
    else:
        painter.drawPolygon(polygon(np.concatenate([xs, xs[::-1]]), np.concatenate([upper, lower[::-1]])))
    painter.restore()


def _bars(xs: Samples, upper: Samples, lower: Samples) -> list[QRectF]:
    """Return a bar for each pixel across, over all that lies within it."""
    pixels = np.floor(xs)
    begins = np.concatenate([[0], np.flatnonzero(np.diff(pixels)) + 1])
    tops, bottoms = least_and_greatest(upper, lower, begins)
    lefts = pixels[begins]
    widths = np.diff(lefts, append=lefts[-1] + 1)
    parts = zip(lefts.tolist(), tops.tolist(), widths.tolist(), (bottoms - tops).tolist(), strict=True)
    return [QRectF(*part) for part in parts]
