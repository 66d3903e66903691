"""Many curves that follow the hand are painted from kept lines: at the same places as curves that are computed anew."""

import numpy as np
import pytest
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter

from epidote.desktop.plotting import figure_painter as paint
from epidote.desktop.plotting.axis_scale import Scale
from epidote.desktop.plotting.figure import Figure, Trace
from epidote.desktop.plotting.figure_painter import FigurePainter, kept_line
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import LIGHT

F = np.geomspace(20, 20000, 400)


def traces(count=16, **fields):
    return tuple(Trace(f"row {n}", 1, n, F, 0.3 * n + np.sin(np.log(F) * (1 + n)), **fields) for n in range(count))


def painted(figure, view):
    image = QImage(800, 420, QImage.Format.Format_RGB32)
    image.fill(0xFFFFFF)
    painter = QPainter(image)
    FigurePainter(figure, view, LIGHT, moving=True).paint(painter, QRectF(0, 0, 800, 420))
    painter.end()
    return np.frombuffer(image.constBits(), np.uint8).reshape(420, 800, 4)[:, :, :3].astype(int)


@pytest.mark.parametrize(("low", "high"), [(20.0, 20000.0), (150.0, 3100.0)])
def test_kept_lines_lie_where_computed_ones_do(qtbot, monkeypatch, low, high):
    figure = Figure("Response", "Frequency", "Hz", "Gain", "dB", True, traces(), ())
    view = Viewport(Scale(low, high, True), Scale(-2.0, 7.0), Scale(-1.0, 1.0))
    kept = painted(figure, view)
    monkeypatch.setattr(paint, "kept_line", lambda *_, **__: None)
    computed = painted(figure, view)
    changed = np.abs(kept - computed).max(axis=2) > 60
    lines = np.abs(computed - 255).max(axis=2) > 60
    # the computed ones leave out points that a straight line passes; single pixels may differ
    assert lines.sum() > 5000
    assert changed.sum() < 0.05 * lines.sum()


def test_what_needs_care_is_not_kept():
    faint = Trace("faint", 1, 0, F, np.zeros_like(F), np.ones_like(F))
    gap = Trace("gap", 1, 0, F, np.where(F > 1000, np.nan, 0.0))
    long = Trace("long", 1, 0, np.geomspace(20, 20000, 5000), np.zeros(5000))
    plain = traces(1)[0]
    assert all(kept_line(one, log_x=True, log_y=False) is None for one in (faint, gap, long))
    assert kept_line(plain, log_x=True, log_y=False) is kept_line(plain, log_x=True, log_y=False)
    assert kept_line(plain, log_x=True, log_y=False).size() == F.size
