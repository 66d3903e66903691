"""Operating points against closed forms; tables over conditions, likeness, limits, guides, levelling."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from epidote.core.comparison.conditions.comparability import find_mismatches
from epidote.core.comparison.conditions.condition_table import ConditionReading, equivalent_settings, grid
from epidote.core.comparison.differences.gain_alignment import Levelling, levelled
from epidote.core.comparison.differences.operating_points import PointAxis, at_point, parse_point
from epidote.core.comparison.graph_guides import SHIPPED, GraphGuide, fitting
from epidote.core.comparison.limits import Limit, around_curve, check_curve, check_reading, from_reference_units
from epidote.core.effects import Severity
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.units import QuantityError
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.wording.differences import difference_words, equivalence_words, limit_check_words, mismatch_words
from tests.core.comparison.evidence import CHAIN, response, run, staircase

F = np.geomspace(5, 40000, 1200)


def lowpass(corner, f=F):
    """First order. Source: scipy.signal.freqs."""
    _, h = signal.freqs([1], [1 / (2 * np.pi * corner), 1], 2 * np.pi * f)
    return 20 * np.log10(np.abs(h))


def test_power_at_a_distortion_and_distortion_at_a_power():
    """THD+N ∝ P: 1 % at 40 W, so 1.2 % at 48 W, and -60 dB at 4 W."""
    (found,) = at_point([staircase()], parse_point("1.2 %", "thd_n", ["W", "V"], "dB"))
    assert (found.value, found.unit) == (pytest.approx(48.0, rel=1e-3), "W")
    (found,) = at_point([staircase()], parse_point("4 W", "thd_n", ["W"], "dB"))
    assert found.value == pytest.approx(-60.0, abs=1e-3)
    assert at_point([staircase()], parse_point("500 W", "thd_n", ["W"], "dB"))[0].value is None
    assert at_point([staircase()], parse_point("50 %", "thd_n", ["W"], "dB"))[0].value is None


def test_corners_of_a_response():
    """A band-pass of two first-order corners: half power at either, but for what each takes at 1 kHz (0.02 dB).

    Closed form f_c.
    """
    level = response(F, lowpass(20000.0) + lowpass(40.0) - 20 * np.log10(40.0 / F))
    low, high = at_point([level], parse_point("-3.0103 dB", "level", ["Hz"], "dB"))
    assert low.value == pytest.approx(40.0, rel=6e-3)
    assert high.value == pytest.approx(20000.0, rel=6e-3)
    assert parse_point("1k", "level", ["Hz"], "dB").by is PointAxis.X
    with pytest.raises(QuantityError, match="does not fit these curves"):
        parse_point("3 W", "level", ["Hz"], "dB")


@pytest.mark.parametrize(
    ("value", "reference", "unit", "words"),
    [
        (60, 40, "W", "+50 %, +1.76 dB"),
        (2, 1, "V", "+100 %, +6.02 dB"),
        (1100, 1000, "Hz", "+10 %"),
        (-80, -78.2, "dB", "-1.80 dB"),
        (None, 1, "W", ""),
    ],
)
def test_differences_in_the_fitting_way(value, reference, unit, words):
    """10 lg of powers, 20 lg of voltages."""
    assert difference_words(value, reference, unit) == words


def rows(values, name=("buffer", "connection")):
    return [ConditionReading("", dict(zip(name, k, strict=True)), v, "s") for k, v in values.items()]


def test_a_table_over_two_conditions_and_what_is_equal():
    g = grid(rows({("24", "short"): 2e-3, ("96", "short"): 5e-3, ("24", "long"): 5.03e-3, ("96", "long"): 8e-3}))
    assert g.first == ("buffer", ("24", "96"))
    assert g.second == ("connection", ("short", "long"))
    assert g.at("96", "long").value == 8e-3
    assert [equivalence_words(one) for one in equivalent_settings(g)] == [
        "Buffer 96 with connection short gives the same as 24 with long (5.00 ms)."
    ]


def test_a_line_over_one_and_refusals():
    g = grid(
        [
            ConditionReading("", {"volume": v, "load": "8 Ω"}, float(i), "dB")
            for i, v in enumerate(("half", "full", "quarter"))
        ]
    )
    assert (g.first, g.second, equivalent_settings(g)) == (("volume", ("half", "full", "quarter")), None, [])
    for wrong in (
        [],
        rows({("1", "a"): 1.0}),
        [ConditionReading("", {"a": str(i), "b": str(i), "c": str(i)}, 1.0, "s") for i in range(3)],
    ):
        with pytest.raises(UnusableInputError, match="differ in"):
            grid(wrong)


def test_unlike_runs_worst_first():
    ours = run("tone", settings={"band_high": 20000.0, "duration": 2.0}, conditions={"gain": "high", "seat": "1"})
    theirs = run(
        "tone",
        settings={"band_high": 40000.0, "duration": 1.0},
        conditions={"gain": "low", "seat": "2"},
        chain=CHAIN.model_copy(update={"load_ohms": 4.0}),
    )
    found = find_mismatches(ours, theirs, ["gain"])
    assert [u.name for u in found if u.severity is Severity.BLOCKS] == ["band_high"]
    assert [u.severity for u in found] == sorted((u.severity for u in found), reverse=True)
    assert {"load", "seat", "duration"} <= {u.name for u in found}
    assert "gain" not in {u.name for u in found}
    assert "cannot be compared" in mismatch_words(found[0])
    assert find_mismatches(ours, ours) == []


def test_load_blocks_power_and_rate_blocks_beyond_its_band():
    four, slow = CHAIN.model_copy(update={"load_ohms": 4.0}), CHAIN.model_copy(update={"rate": 44100.0})
    assert [u.severity for u in find_mismatches(run("distortion-level"), run("distortion-level", chain=four))] == [
        Severity.BLOCKS
    ]
    beyond = {"stop_frequency": 30000.0}
    assert [
        u.severity
        for u in find_mismatches(run("response", settings=beyond), run("response", settings=beyond, chain=slow))
    ] == [Severity.BLOCKS]
    assert [u.severity for u in find_mismatches(run("response"), run("response", chain=slow))] == [Severity.MINOR]


def test_limits_about_a_reference():
    """A low-pass at 20 kHz against itself at 10 kHz ± 1 dB fails where the two differ most."""
    ours, reference = response(F, lowpass(20000.0)), response(F, lowpass(10000.0))
    limit = around_curve("like the first", "response", reference, 1.0, 1.0)
    held = check_curve(limit, ours)
    apart = lowpass(20000.0) - lowpass(10000.0)
    assert not held.passed
    assert held.side == "upper"
    assert held.margin == pytest.approx(1 - apart.max(), abs=0.02)
    assert held.at == pytest.approx(F[-1], rel=0.01)
    assert check_curve(limit, reference).passed
    assert check_curve(limit, Curve("phase", 1, F, F, "Hz", "°")) is None
    assert ": fail, " in limit_check_words(held)
    with pytest.raises(UnusableInputError):
        around_curve("open", "response", reference, None, None)


def test_a_limit_s_own_corners_are_looked_at_between_the_curve_s_points():
    """A notch limit at 1 kHz between two points of a coarse curve is not slipped past."""
    coarse = response([100, 500, 2000, 10000], [0, 0, 0, 0])
    limit = Limit(
        name="notch",
        procedure="response",
        key="level",
        unit="dB",
        x_unit="Hz",
        upper=((100, 3.0), (1000, -1.0), (10000, 3.0)),
    )
    held = check_curve(limit, coarse)
    assert (held.passed, held.at) == (False, 1000.0)


def test_limits_of_a_set_of_good_units():
    """Mean ± 3 standard deviations. Source: numpy."""
    levels = np.array([0.0, 0.2, -0.1, 0.3])
    limit = from_reference_units("good", "response", [response(F, lowpass(20000.0) + v) for v in levels], 3.0, 0.01)
    assert limit.upper[0][1] == pytest.approx(lowpass(20000.0)[0] + levels.mean() + 3 * levels.std(ddof=1), abs=1e-9)
    assert check_curve(limit, response(F, lowpass(20000.0) + 2)).passed is False
    with pytest.raises(UnusableInputError, match="three rows are needed"):
        from_reference_units("few", "response", [response(F, F)] * 2)


def test_a_reading_s_limit():
    limit = Limit(name="quiet", procedure="noise", key="noise_a", unit="V", upper=((0, 50e-6),))
    assert check_reading(limit, Reading("noise_a", 1, 40e-6, "V")).margin == pytest.approx(10e-6)
    assert not check_reading(limit, Reading("noise_a", 1, 60e-6, "V")).passed
    assert check_reading(limit, Reading("noise_a", 1, None, "V")) is None
    with pytest.raises(ValueError, match="needs upper or lower points"):
        Limit(name="none", procedure="noise", key="noise_a", unit="V")


def test_guides_belong_to_their_graphs():
    assert {g.name for g in fitting(SHIPPED, "thd_n", "W", "dB")} >= {"Rated power, 1 %"}
    assert fitting(SHIPPED, "spectrum", "Hz", "dBV") == []
    assert pytest.approx(20 * np.log10(0.01)) == -40.0
    with pytest.raises(ValueError, match="either horizontal or vertical"):
        GraphGuide(name="both", curves=("level",), x_unit="Hz", y_unit="dB", low=1)


def test_curves_brought_to_one_level():
    ours, reference = response(F, lowpass(20000.0) + 6), response(F, lowpass(10000.0))
    moved, shift = levelled(ours, reference, Levelling(1000.0))
    assert shift == pytest.approx(-6, abs=0.05)
    _, over_a_band = levelled(ours, response(F, lowpass(20000.0)), Levelling(200.0, 2000.0))
    assert over_a_band == pytest.approx(-6, abs=1e-9)
    assert moved.y[0] == pytest.approx(reference.y[0], abs=0.05)
    assert levelled(ours, response([20, 100], [0, 0]), Levelling(1000.0)) is None


@pytest.mark.parametrize(
    "text", ["0 %", "-1 %", "1e308 kHz", "1e400 %", "-3 dB" + "." * 100, "1 kHz" + " " * 100 + "."]
)
def test_a_point_that_is_none_is_refused_in_words(text):
    """No value in dB, none that a number can hold, a name without an end."""
    with pytest.raises(QuantityError, match="Enter"):
        parse_point(text, "thd_n", ["Hz", "W"], "dB")
        parse_point(text, "level", ["Hz", "W"], "dB")
