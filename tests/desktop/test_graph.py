"""Scales, figures and the graph on its own."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage, QPainter, QWheelEvent

from epidote.desktop.plotting.axis_scale import Scale, linear_ticks, nice_range, ticks
from epidote.desktop.plotting.envelope import drawn_trace
from epidote.desktop.plotting.figure import Figure, PinMark, Trace
from epidote.desktop.plotting.figure_painter import FigurePainter, layout
from epidote.desktop.plotting.graph_widget import GraphWidget
from epidote.desktop.plotting.viewport import Viewport
from epidote.desktop.theme import DARK, LIGHT

F = np.geomspace(20, 20000, 500)
FIGURE = Figure(
    "A title",
    "Frequency",
    "Hz",
    "Gain",
    "dB",
    True,
    (Trace("One", 1, 0, F, 3 * np.log10(F)), Trace("Two", 2, 1, F, -np.log10(F))),
    (Trace("Two", 2, 1, F, -4 * np.log10(F)),),
    pins=(PinMark(7, 1, 1000.0),),
    reference_name="One",
)


@pytest.fixture
def graph(qtbot):
    view = GraphWidget(DARK)
    qtbot.addWidget(view)
    view.resize(800, 500)
    view.set_figure(FIGURE, keep_zoom=False)
    view.show()
    return view


@pytest.mark.parametrize("scale", [Scale(20, 20000, True), Scale(-5, 10), Scale(1e-9, 1e-3, True)])
def test_places_and_values_there_and_back(scale):
    for place in (0, 0.25, 0.5, 1):
        assert scale.place(scale.value(place)) == pytest.approx(place)
    assert scale.zoomed(0.5, 0.3).place(scale.value(0.3)) == pytest.approx(0.3)
    assert scale.moved(0.2).low == pytest.approx(scale.value(0.2))
    assert scale.zoomed(100, 0.5).within(scale.low, scale.high) == scale


def test_decades_are_labelled_1_2_5():
    named = [v for v, n in ticks(Scale(20, 20000, True), 10) if n]
    assert named == [20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000]
    assert [v for v, n in ticks(Scale(1e-3, 1e3, True), 5) if n] == pytest.approx([1e-3, 1e-2, 0.1, 1, 10, 100, 1000])


@pytest.mark.parametrize(("low", "high"), [(0, 1), (-117.3, 4.2), (25.0, 25.01), (-1e-9, 3e-9)])
def test_linear_ticks_are_round_and_inside(low, high):
    found = linear_ticks(low, high, 6)
    assert 2 <= len(found) <= 7
    assert all(low - 1e-12 <= v <= high + 1e-12 for v in found)
    steps = np.diff(found)
    assert steps == pytest.approx(steps[0])


def test_ranges_end_round_and_hold_what_they_must():
    low, high = nice_range(-91.3, -60.2, 1)
    assert low < -91.3 < -60.2 < high
    assert high - low < 60
    assert nice_range(3, 3, 1)[0] < 3 < nice_range(3, 3, 1)[1]
    assert linear_ticks(1, 1, 5) == []


def test_reduction_keeps_every_peak():
    x = np.arange(1.0, 200_001)
    y = np.full(x.size, -120.0)
    y[[5_000, 77_777, 199_000]] = 0
    trace = Trace("s", 1, 0, x, y)
    for log in (False, True):
        drawn = drawn_trace(trace, Scale(1, 200_000, log), 300, levels=True)
        assert drawn.x.size <= 301
        assert np.count_nonzero(drawn.high == 0) == 3
        assert np.all(drawn.low == -120)


def test_the_line_through_a_range_is_the_mean_of_power():
    # outside reference: the mean of exponentially distributed powers is 1, that of their decibels -2.5 dB
    # (Euler's constant times 10 / ln 10; Abramowitz and Stegun 6.1.3), so a mean of decibels would show
    power = np.random.default_rng(1).exponential(1.0, 300_000)
    trace = Trace("noise", 1, 0, np.arange(1.0, 300_001), 10 * np.log10(power))
    drawn = drawn_trace(trace, Scale(1, 300_000), 100, levels=True)
    assert np.mean(drawn.y) == pytest.approx(0.0, abs=0.04)
    assert np.all((drawn.low < drawn.y) & (drawn.y < drawn.high))
    plain = drawn_trace(trace, Scale(1, 300_000), 100, levels=False)
    assert np.mean(plain.y) == pytest.approx(-10 * 0.5772157 / np.log(10), abs=0.03)


def test_few_points_are_drawn_one_by_one():
    trace = Trace("s", 1, 0, np.arange(1.0, 50), np.arange(1.0, 50))
    drawn = drawn_trace(trace, Scale(1, 50), 300, levels=True)
    assert drawn.low is None and drawn.x.size == 49


def test_a_spectrum_is_read_at_its_line():
    x = np.arange(0.5, 5000, 0.5)
    y = np.where(x == 1000, -3.0, -120)
    assert Trace("s", 1, 0, x, y).at(1000.0, True) == -3


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda t: t.name)
def test_curves_are_painted_in_their_rows_colour(theme, qapp):
    image = QImage(800, 500, QImage.Format.Format_RGB32)
    image.fill(theme.colour("back"))
    x = FIGURE.x_extent()
    view = Viewport(x, FIGURE.y_extent(x), FIGURE.y_extent(x, differences=True))
    p = QPainter(image)
    p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    FigurePainter(FIGURE, view, theme).paint(p, image.rect().toRectF())
    box = layout(FIGURE, image.rect().toRectF()).main
    p.end()
    value = FIGURE.traces[0].at(500.0, True)
    px = box.left() + x.place(500.0) * box.width()
    py = box.bottom() - view.y.place(value) * box.height()
    near = [image.pixelColor(round(px) + dx, round(py) + dy) for dx in (-1, 0, 1) for dy in (-2, -1, 0, 1, 2)]
    wanted = theme.row(0)
    assert (
        min(abs(c.red() - wanted.red()) + abs(c.green() - wanted.green()) + abs(c.blue() - wanted.blue()) for c in near)
        < 60
    )


def test_contrast_of_text_and_rows():
    """Source: WCAG 2.1, contrast ratio: 4.5 for text, 3 for graphical objects."""

    def luminance(name: str) -> float:
        channels = [int(name[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    def contrast(a: str, b: str) -> float:
        low, high = sorted((luminance(a), luminance(b)))
        return (high + 0.05) / (low + 0.05)

    for theme in (LIGHT, DARK):
        assert contrast(theme.text, theme.back) > 7
        assert contrast(theme.quiet, theme.back) > 4.5
        assert contrast(theme.caution, theme.caution_back) > 4.5
        assert contrast(theme.on_accent, theme.accent) > 4.5
        assert all(contrast(row, theme.back) > 3 for row in theme.rows)


def test_reading_all_curves_at_the_pointer(graph, qtbot):
    box = layout(FIGURE, graph.rect().toRectF()).main
    qtbot.mouseMove(graph, QPoint(round(box.left() + box.width() / 2), round(box.center().y())))
    x = graph.cursor_x()
    assert x == pytest.approx(np.sqrt(20 * 20000), rel=0.02)
    shown = graph.readings_at_cursor()
    assert [(n, c) for n, c, _, _ in shown] == [("One", 1), ("Two", 2)]
    assert shown[0][3] == f"{3 * np.log10(x):.2f} dB"
    graph.grab()


def test_zoom_and_pan_by_wheel_mouse_and_keys(graph, qtbot):
    box = layout(FIGURE, graph.rect().toRectF()).main
    where = QPointF(box.left() + box.width() * 0.25, box.center().y())
    before = graph.view()
    fixed = before.x.value(0.25)

    def wheel(modifiers: Qt.KeyboardModifier) -> None:
        graph.wheelEvent(
            QWheelEvent(
                where,
                graph.mapToGlobal(where),
                QPoint(),
                QPoint(0, 240),
                Qt.MouseButton.NoButton,
                modifiers,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            )
        )

    wheel(Qt.KeyboardModifier.NoModifier)
    assert graph.view().x.place(fixed) == pytest.approx(0.25, abs=1e-6)
    assert graph.view().x.high / graph.view().x.low < before.x.high / before.x.low
    wheel(Qt.KeyboardModifier.ShiftModifier)
    assert graph.view().y.high - graph.view().y.low < before.y.high - before.y.low
    moved = graph.view().x.low
    qtbot.mousePress(graph, Qt.MouseButton.LeftButton, pos=QPoint(400, 150))
    qtbot.mouseMove(graph, QPoint(350, 150))
    qtbot.mouseRelease(graph, Qt.MouseButton.LeftButton, pos=QPoint(350, 150))
    assert graph.view().x.low > moved
    qtbot.keyClick(graph, Qt.Key.Key_Home)
    assert graph.view() == before
    for key in (Qt.Key.Key_Plus, Qt.Key.Key_PageUp, Qt.Key.Key_Up, Qt.Key.Key_End):
        last = graph.view()
        qtbot.keyClick(graph, key)
        assert graph.view() != last
    qtbot.keyClick(graph, Qt.Key.Key_Minus)
    graph.reset_view()
    graph.set_cursor_x(None)
    qtbot.keyClick(graph, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert graph.view().x.place(graph.cursor_x()) == pytest.approx(0.6)


def test_zooming_to_a_box(graph, qtbot):
    box = layout(FIGURE, graph.rect().toRectF()).main
    one, two = (
        QPoint(round(box.left() + 100), round(box.top() + 40)),
        QPoint(round(box.left() + 300), round(box.top() + 140)),
    )
    expected = graph.view().x.value(100 / box.width()), graph.view().x.value(300 / box.width())
    qtbot.mousePress(graph, Qt.MouseButton.RightButton, pos=one)
    qtbot.mouseMove(graph, two)
    graph.grab()
    qtbot.mouseRelease(graph, Qt.MouseButton.RightButton, pos=two)
    assert (graph.view().x.low, graph.view().x.high) == pytest.approx(expected, rel=0.02)


def test_pins_by_mouse_and_key(graph, qtbot):
    box = layout(FIGURE, graph.rect().toRectF()).main
    with qtbot.waitSignal(graph.pin_wanted) as wanted:
        qtbot.mouseDClick(graph, Qt.MouseButton.LeftButton, pos=QPoint(round(box.left() + box.width() / 2), 150))
    assert wanted.args[0] == pytest.approx(np.sqrt(20 * 20000), rel=0.02)
    graph.set_cursor_x(900.0)
    with qtbot.waitSignal(graph.pin_unwanted) as unwanted:
        qtbot.keyClick(graph, Qt.Key.Key_Delete)
    assert unwanted.args == [7]


def test_zoom_is_kept_when_the_same_curves_come_again(graph):
    graph.zoom_x(0.5)
    zoomed = graph.view().x
    graph.set_figure(FIGURE, keep_zoom=True)
    assert graph.view().x == zoomed
    graph.set_figure(FIGURE, keep_zoom=False)
    assert graph.view().x == FIGURE.x_extent()
    graph.set_figure(None, keep_zoom=False)
    graph.grab()
    assert graph.readings_at_cursor() == []


def test_thinning_moves_no_curve_by_what_can_be_seen():
    """Interpolated back, a smooth curve is where it was; a lively one keeps every point, and gaps stay gaps."""
    import numpy as np

    from epidote.desktop.plotting.figure_painter import simplify

    x = np.linspace(0, 700, 900)
    smooth = 200 + 150 * np.tanh((x - 350) / 60)
    px, py = simplify(x, smooth)
    assert px.size < 200
    assert np.abs(np.interp(x, px, py) - smooth).max() < 0.3
    lively = 200 + 20 * np.random.default_rng(1).standard_normal(900)
    assert simplify(x, lively)[0].size > 850
    gap = smooth.copy()
    gap[400:410] = np.nan
    assert np.isnan(simplify(x, gap)[1]).sum() >= 1
