"""Where published figures lie on graphs: the figures themselves, in the unit of the curves."""

from __future__ import annotations

import numpy as np
import pytest

from epidote.core.comparison.claims.graph_lines import claim_lines
from epidote.core.comparison.claims.parser import parse_claim
from epidote.core.quantities.units import in_percent


def lines(text, key, x_unit, y_unit="dB", at_1k=None):
    return claim_lines(parse_claim(text).claim, key, x_unit, y_unit, at_1k)


def test_a_response_s_tolerance_stands_about_its_value_at_1_khz():
    assert lines("frequency response 40 Hz-16 kHz +0.5/-2 dB", "level", "Hz", at_1k=26.0) == [
        ((40, 16000), (26.5, 26.5)),
        ((40, 16000), (24.0, 24.0)),
    ]
    assert lines("frequency response 5 Hz - 80 kHz, -3 dB", "level", "Hz", at_1k=0.0) == [((5, 80000), (-3, -3))]
    assert lines("frequency response 20 Hz-20 kHz ±1 dB", "level", "Hz") == []


def test_distortion_in_percent_as_decibels_and_back():
    """0.01 % is -80 dB."""
    ((x, y),) = lines("THD+N < 0.01 %, 1 kHz, 1 W", "thd_n", "W")
    assert x is None
    assert y == (pytest.approx(-80.0),)
    assert tuple(in_percent(np.array(y))) == (pytest.approx(0.01),)
    ((x, y),) = lines("THD 0.1 %, 20 Hz - 20 kHz, 5 W", "thd", "Hz")
    assert (x, y) == ((20, 20000), (pytest.approx(-60.0), pytest.approx(-60.0)))
    assert lines("THD 0.1 %", "thd_n", "W") == []


def test_power_and_level_stand_across_the_axis():
    assert lines("50 W at 1 %", "thd_n", "W") == [((50.0,), None)]
    assert lines("50 W at 1 %", "thd_n", "V") == []
    ((x, y),) = lines("Max. output level +24 dBu", "thd_n", "V")
    assert (x, y) == ((pytest.approx(0.6**0.5 * 10 ** (24 / 20)),), None)


def test_latency_and_crosstalk():
    assert lines("latency 3.4 ms at 64 samples", "latency_by_shot", "shot", "s") == [(None, (pytest.approx(0.0034),))]
    assert lines("Latency: 37 samples", "latency_by_shot", "shot", "s") == []
    assert lines("Separation 60 dB, 20 Hz to 20 kHz", "crosstalk", "Hz") == [((20, 20000), (-60, -60))]
