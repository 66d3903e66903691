"""The pictures of a reading over units: painted for any values, units told under the pointer."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from epidote.core.routine.verdict import RoutineVerdict
from epidote.core.statistics.overall import value_statistics
from epidote.desktop.pages.routine.statistics_pictures import PICTURES
from epidote.desktop.pages.routine.statistics_pictures.canvas import round_values, with_room
from epidote.desktop.pages.routine.statistics_pictures.control_chart import ControlChartPicture
from epidote.desktop.pages.routine.statistics_pictures.histogram import HistogramPicture
from epidote.desktop.pages.routine.statistics_pictures.normal_plot import NormalPicture
from epidote.desktop.pages.routine.statistics_pictures.over_time import OverTimePicture
from epidote.desktop.pages.routine.statistics_pictures.picture import PairedReading, PlottedReading
from epidote.desktop.pages.routine.statistics_pictures.two_readings import TwoReadingsPicture
from epidote.desktop.pages.routine.statistics_plot import StatisticsPlot
from epidote.desktop.pages.routine.steps_view import StepsView
from epidote.desktop.pages.routine.verdict_view import VerdictView
from epidote.desktop.theme import DARK, LIGHT
from epidote.measurement.routine.outcome import StepOutcome

CHART, HISTOGRAM, NORMAL = ControlChartPicture.key, HistogramPicture.key, NormalPicture.key
TIME, PAIRS = OverTimePicture.key, TwoReadingsPicture.key
VALUES = np.concatenate([np.random.default_rng(4).normal(18, 0.1, 39), [19.5]])


@pytest.fixture
def plot(qtbot):
    from epidote.desktop.app import application

    application()
    made = StatisticsPlot(LIGHT)
    qtbot.addWidget(made)
    made.resize(600, 420)
    made.show()
    return made


def plotted(values, lower=17.5, upper=18.5, other=None, days=None):
    names = [f"U{n}" for n in range(values.size)]
    return PlottedReading("Gain", "dB", value_statistics(values, days, lower, upper), names, other)


def colours(widget):
    """The colours of a widget's picture."""
    image = widget.grab().toImage()
    return {image.pixelColor(x, y).name() for x in range(0, image.width(), 2) for y in range(0, image.height(), 2)}


@pytest.mark.parametrize("kind", PICTURES)
@pytest.mark.parametrize(
    "values",
    [VALUES, np.full(8, 18.0), np.array([18.0]), np.array([18.0, 18.1]), np.array([1e-9, 2e-9, 5e-9]), -VALUES * 1e9],
    ids=["a line", "all equal", "one", "two", "tiny", "huge"],
)
def test_every_picture_can_be_painted(plot, kind, values):
    plot.show_plotted(plotted(values, float(values.min()), float(values.max())), kind)
    assert LIGHT.quiet in colours(plot)


def test_what_stands_out_has_the_colour_of_a_caution(plot):
    for kind in (CHART, NORMAL):
        plot.show_plotted(plotted(VALUES), kind)
        assert LIGHT.caution in colours(plot)
    plot.show_plotted(plotted(VALUES), CHART)
    assert "of the Western Electric rules: " in plot.words()
    assert "U39 (one point beyond 3 s)" in plot.words()
    quiet = np.tile([18.0, 18.1], 6)
    plot.show_plotted(plotted(quiet), CHART)
    assert plot.words() == "No signal"
    plot.set_theme(DARK)
    assert DARK.caution in colours(plot), "the lines of three standard deviations"


def test_limits_far_away_do_not_flatten_the_histogram(plot):
    plot.show_plotted(plotted(VALUES, -1000.0, 1000.0), HISTOGRAM)
    bars = LIGHT.row(0).name()
    image = plot.grab().toImage()
    columns = {
        x for x in range(image.width()) for y in range(0, image.height(), 4) if image.pixelColor(x, y).name() == bars
    }
    assert max(columns) - min(columns) > 300


def test_a_point_tells_its_unit(plot, qtbot):
    plot.show_plotted(plotted(VALUES), NORMAL)
    plot.grab()
    picked = []
    plot.unit_picked.connect(picked.append)
    for point, place in plot._points[:3]:
        QTest.mouseClick(plot, Qt.MouseButton.LeftButton, pos=point.toPoint())
        assert abs(VALUES[picked[-1]] - VALUES[place]) < 0.05
    QTest.mouseClick(plot, Qt.MouseButton.LeftButton, pos=QPoint(2, 2))
    assert len(picked) == 3
    QTest.mouseMove(plot, plot._points[0][0].toPoint())


def test_two_readings_are_a_cloud(plot):
    x = np.linspace(0, 1, 40)
    plot.show_plotted(plotted(VALUES, other=PairedReading("Noise", "V", x, VALUES, range(40))), PAIRS)
    plot.grab()
    assert len(plot._points) == 40
    places = sorted(point.x() for point, _ in plot._points)
    assert np.allclose(np.diff(places), np.diff(places)[0]), "evenly spaced values are evenly spaced"
    plot.show_plotted(None, PAIRS)
    assert plot.words() == ""


def test_of_two_readings_each_point_is_the_unit_that_has_both(plot):
    other = PairedReading("Noise", "V", np.array([1.0, 2.0]), VALUES[[3, 7]], (3, 7))
    plot.show_plotted(plotted(VALUES, other=other), PAIRS)
    plot.grab()
    assert [place for _, place in plot._points] == [3, 7]


@pytest.mark.parametrize(
    ("days", "words"), [(20.0, "+0.100 dB a day"), (0.5, "+0.100 dB an hour"), (0.04, "+0.100 dB a minute")]
)
def test_drift_is_told_in_a_time_that_suits_it(plot, days, words):
    rates = {20.0: 0.1, 0.5: 0.1 * 24, 0.04: 0.1 * 1440}  # per day
    at = np.linspace(0, days, 41)
    values = 18 + rates[days] * at + 1e-6 * np.random.default_rng(0).standard_normal(41)
    plot.show_plotted(plotted(values, days=at), TIME)
    assert plot.words().startswith(f"Drift {words}, 95 % interval "), plot.words()
    assert "not shown" not in plot.words()
    plot.grab()
    assert len(plot._points) == 41
    heights = [point.y() for point, _ in plot._points]
    assert np.ptp(np.diff(heights)) < 0.01, "a line"
    scattered = 18 + np.random.default_rng(1).standard_normal(41)
    plot.show_plotted(plotted(scattered, days=at), TIME)
    assert plot.words().endswith("no significant drift")


def test_axes_have_a_handful_ofround_values():
    for low, high in ((0.0, 1.0), (17.6, 18.3), (-3e-9, 4e-9), (1e6, 3e6)):
        values = round_values(low, high)
        assert 3 <= len(values) <= 7
        assert all(low <= value <= high * (1 + 1e-12) + 1e-30 for value in values)
    assert with_room(5.0, 5.0)[0] < 5 < with_room(5.0, 5.0)[1]
    assert with_room(0.0, 0.0) == (-0.5, 0.5)


def outcome(number, verdict, share=None, **more):
    return StepOutcome(number, "Gain", more.pop("procedure", "tone"), verdict, 1.0, "dB", share=share, **more)


def test_steps_show_state_and_margin(qtbot, plot):
    view = StepsView(LIGHT)
    qtbot.addWidget(view)
    view.show_steps(["Connect", "Gain", "Noise", "Crosstalk"])
    view.show_outcome(outcome(1, RoutineVerdict.PASSED, procedure="", answer="done"))
    view.show_outcome(outcome(2, RoutineVerdict.PASSED, 0.7))
    view.show_outcome(outcome(3, RoutineVerdict.FAILED, -2.0))
    view.show_running(4, 0.43)
    assert [view.state(n) for n in (1, 2, 3, 4)] == ["done", "passed", "failed", "43 %"]
    assert "Noise: failed" in view.accessibleDescription()
    view.resize(view.sizeHint())
    view.show()
    assert {LIGHT.accent, LIGHT.caution} <= colours(view)
    view.show_running(4, 0.0)
    assert view.state(4) == "under way"
    view.clear()
    assert view.state(2) == ""


@pytest.mark.parametrize("word", ["passed", "failed", "not decided", "not measured", "measuring"])
def test_the_verdict_fills_its_width(qtbot, plot, word):
    """At 0.5 m of screen 1280 pixels wide, letters of 60 pixels are 23 mm: legible from 3 m (common practice: height
    in mm at least 3.5 times the distance in m).
    """
    view = VerdictView(LIGHT)
    qtbot.addWidget(view)
    view.resize(560, 200)
    view.show_word(word)
    view.show()
    assert view.accessibleName() == f"Verdict: {word}"
    image = view.grab().toImage()
    back = image.pixelColor(1, 1).name()
    rows = [
        y for y in range(image.height()) if any(image.pixelColor(x, y).name() != back for x in range(image.width()))
    ]
    columns = [
        x for x in range(image.width()) if any(image.pixelColor(x, y).name() != back for y in range(image.height()))
    ]
    assert rows[-1] - rows[0] > 40
    assert columns[-1] - columns[0] > 380
    assert columns[0] > 0
    assert columns[-1] < image.width() - 1, "nothing is cut off"
