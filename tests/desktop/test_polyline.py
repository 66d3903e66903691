"""Lines and ranges as they are painted on a screen: quick ways of drawing that show the same."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from epidote.desktop.plotting.polyline import draw_line, fill_between, polygon

WIDTH, HEIGHT = 200, 120
BLACK = QColor("black")


def painted(paint) -> np.ndarray:
    """How dark each pixel is, 0 to 1 (rows, columns)."""
    image = QImage(WIDTH, HEIGHT, QImage.Format.Format_Grayscale8)
    image.fill(Qt.GlobalColor.white)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    paint(painter)
    painter.end()
    grey = np.frombuffer(image.constBits(), np.uint8).reshape(HEIGHT, image.bytesPerLine())[:, :WIDTH]
    return 1 - grey / 255


def test_a_range_reaches_the_extremes_of_each_pixel(qapp):
    rng = np.random.default_rng(1)
    xs = np.sort(rng.uniform(0, WIDTH, 3 * WIDTH))
    upper = 50 - 10 * rng.random(xs.size)
    lower = 70 + 10 * rng.random(xs.size)
    upper[300] = 5.0  # a line of a spectrum, alone in its pixel
    dark = painted(lambda p: fill_between(p, xs, (upper, lower), BLACK))
    for column in np.unique(np.floor(xs).astype(int)):
        within = np.floor(xs) == column
        rows = np.flatnonzero(dark[:, column] > 0.5)
        assert rows[0] == pytest.approx(upper[within].min(), abs=1)
        assert rows[-1] + 1 == pytest.approx(lower[within].max(), abs=1)
        assert rows.size == rows[-1] - rows[0] + 1


def test_a_range_with_few_points_has_no_gaps_and_what_is_not_known_is_left_out(qapp):
    xs = np.array([10.0, 13.0, 20.0, 30.0, 40.0])
    upper, lower = np.full(5, 40.0), np.full(5, 60.0)
    dark = painted(lambda p: fill_between(p, xs, (upper, lower), BLACK))
    assert (dark[50, 10:41] == 1).all()
    upper[:] = np.nan
    assert not painted(lambda p: fill_between(p, xs, (upper, lower), BLACK)).any()


@pytest.mark.parametrize("lively", [0.0, 30.0])
def test_a_line_in_pieces_looks_like_the_whole(qapp, lively):
    xs = np.arange(5.0, 195.0)
    ys = 60 + 20 * np.sin(xs / 30) + lively * np.random.default_rng(2).uniform(-1, 1, xs.size)
    pen = QPen(BLACK, 1.7)
    pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)

    def whole(p):
        p.setPen(pen)
        p.drawPolyline(polygon(xs, ys))

    def pieces(p):
        p.setPen(pen)
        draw_line(p, xs, ys)

    first, second = painted(whole), painted(pieces)
    assert first.sum() > 300
    assert np.abs(first - second).max() < 0.35, "a joint darkens half-covered pixels a little"
    assert np.abs(first - second).sum() < 0.02 * first.sum()


def test_a_line_is_broken_where_it_is_not_known(qapp):
    xs = np.arange(0.0, 200.0)
    ys = np.full(200, 60.0)
    ys[80:120] = np.nan
    for width in (1.0, 2.0):

        def paint(p, width=width):
            p.setPen(QPen(BLACK, width))
            draw_line(p, xs, ys)

        dark = painted(paint)
        assert dark[:, 85:115].sum() == 0
        assert (dark[58:62, 10:70].max(axis=0) > 0.4).all()
        assert (dark[58:62, 130:190].max(axis=0) > 0.4).all()
