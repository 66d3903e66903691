"""Numbers as people read them."""

import math

import pytest

from epidote.core.quantities.formatting import MISSING_VALUE, format_axis, format_quantity

SHOWN = [
    (0.012493, "V", {}, "12.49 mV"),
    (997.0, "Hz", {}, "997.0 Hz"),
    (-82.6412, "dB", {}, "-82.64 dB"),
    (0.01234, "%", {"digits": 3}, "0.0123 %"),
    (12345.0, "Hz", {}, "12.35 kHz"),
    (0.0, "V", {}, "0.000 V"),
    (-0.0001, "dB", {}, "0.00 dB"),
    (1.5, "dB", {"signed": True}, "+1.50 dB"),
    (-1.5, "dB", {"signed": True}, "-1.50 dB"),
    (999.96, "V", {"digits": 4}, "1.000 kV"),
    (3.2e-7, "s", {}, "320.0 ns"),
    (90.0, "°", {}, "90.00°"),
    (15.2876, "bit", {}, "15.29 bit"),
    (None, "dB", {}, MISSING_VALUE),
    (math.nan, "V", {}, MISSING_VALUE),
    (math.inf, "dB", {}, MISSING_VALUE),
    (2.5, "ratio", {}, "2.500"),
]


@pytest.mark.parametrize(("value", "unit", "options", "text"), SHOWN, ids=str)
def test_shown(value, unit, options, text):
    assert format_quantity(value, unit, **options) == text


@pytest.mark.parametrize(
    ("value", "unit", "uncertainty", "text"),
    [
        (-110.1234, "dB", 3.0, "-110 dB"),
        (-82.64123, "dB", 0.0004, "-82.641 dB"),
        (0.123456, "V", 0.002, "123 mV"),
        (1000.00001, "Hz", 1e-9, "1.000 kHz"),
        (3.7e-8, "Hz", 1e-3, "0 mHz"),
        (0.5, "%", 0.03, "0.50 %"),
    ],
)
def test_no_more_digits_than_the_uncertainty_supports(value, unit, uncertainty, text):
    assert format_quantity(value, unit, uncertainty=uncertainty) == text


def test_axis_labels():
    assert [format_axis(v, "Hz") for v in (20, 1000, 20000, 0.01, 2e6)] == ["20", "1k", "20k", "0.01", "2M"]
    assert format_axis(-80, "dB") == "-80"
