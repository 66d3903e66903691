"""What people type, and conversions through the chain."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from epidote.core.quantities.units import Conversion, Quantity, QuantityError, convert, from_db, parse, parse_as, to_db

TYPED = [
    ("0.5 %", "Hz", 0.5, "%"),
    ("-80 dB", "dB", -80, "dB"),
    ("4 Vrms", "V", 4, "V"),
    ("1k", "Hz", 1000, "Hz"),
    ("20 mW", "W", 0.02, "W"),
    ("1 kHz", "Hz", 1000, "Hz"),
    ("0,5 V", "V", 0.5, "V"),
    ("−6 dBFS", "dB", -6, "dBFS"),
    ("+4 dBu", "V", 4, "dBu"),
    ("2.2 dBV", "V", 2.2, "dBV"),
    ("94 dB SPL", "Pa", 94, "dB SPL"),
    ("94 dBSPL", "Pa", 94, "dB SPL"),
    ("100 ms", "s", 0.1, "s"),
    ("64 samples", "s", 64, "samples"),
    ("64 smp", "s", 64, "samples"),
    ("10 µV", "V", 1e-5, "V"),
    ("10 uV", "V", 1e-5, "V"),
    ("4.7 kΩ", "Ω", 4700, "Ω"),
    ("8 ohm", "V", 8, "Ω"),
    ("1e3", "Hz", 1000, "Hz"),
    (".5", "V", 0.5, "V"),
    ("2 Vpp", "V", 2 / (2 * 2**0.5), "V"),
    ("1 Vpk", "V", 2**-0.5, "V"),
    ("5 m", "s", 0.005, "s"),
    ("3M", "Ω", 3e6, "Ω"),
    ("12", "s", 12, "s"),
    ("20 ppm", "%", 20, "ppm"),
    ("90°", "°", 90, "°"),
    ("24 bit", "bit", 24, "bit"),
    ("1.5 W", "V", 1.5, "W"),
    ("2 V rms", "V", 2, "V"),
]


@pytest.mark.parametrize(("text", "usual", "value", "unit"), TYPED, ids=str)
def test_typed(text, usual, value, unit):
    found = parse(text, usual)
    assert found.unit == unit
    assert found.value == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "loud", "3 furlongs", "V 3", "--3", "1e999", "5 kdB", "3 %%"])
def test_not_understood(text):
    with pytest.raises(QuantityError, match="“"):
        parse(text, "V")


@given(st.floats(-200, 200))
def test_decibels_there_and_back(level):
    assert to_db(from_db(level)) == pytest.approx(level, abs=1e-9)


@given(st.floats(1e-6, 1e3), st.sampled_from(["V", "dBV", "dBu", "W", "dBFS", "Pa", "dB SPL"]))
def test_volts_to_anything_and_back(volts, unit):
    known = Conversion(full_scale_volts=8.0, load_ohms=4.0, pascals_per_volt=20.0)
    there = convert(Quantity(volts, "V"), unit, known)
    assert convert(there, "V", known).value == pytest.approx(volts, rel=1e-9)


def test_through_the_chain():
    known = Conversion(full_scale_volts=4.0, load_ohms=8.0, rate=48000)
    assert convert(Quantity(-6.0206, "dBFS"), "V", known).value == pytest.approx(2.0, rel=1e-6)
    assert convert(Quantity(0, "dBFS"), "W", known).value == pytest.approx(2.0)
    assert convert(Quantity(1, "W"), "V", known).value == pytest.approx(8**0.5)
    assert convert(Quantity(480, "samples"), "s", known).value == pytest.approx(0.01)
    assert convert(Quantity(1, "ms".replace("m", "")), "samples", known).value == 48000
    assert convert(Quantity(1, "%"), "dB").value == pytest.approx(-40)
    assert parse_as("0.1 %", "dB") == pytest.approx(-60)
    assert parse_as("1 mW", "V", known) == pytest.approx(0.008**0.5)


@pytest.mark.parametrize(
    ("quantity", "unit", "missing"),
    [
        (Quantity(0, "dBFS"), "V", "full-scale voltage"),
        (Quantity(1, "V"), "W", "load"),
        (Quantity(1, "Pa"), "V", "sensitivity"),
        (Quantity(1, "s"), "samples", "rate"),
        (Quantity(1, "s"), "V", "cannot"),
        (Quantity(-1, "W"), "V", "cannot be negative"),
        (Quantity(1, "furlong"), "V", "Unknown unit"),
    ],
)
def test_says_what_is_missing(quantity, unit, missing):
    with pytest.raises(QuantityError, match=missing):
        convert(quantity, unit)


@pytest.mark.parametrize(
    ("text", "unit"), [("0 %", "dB"), ("0 V", "dBV"), ("7000 dB", "%"), ("9999 dBV", "V"), ("1e308 kHz", "Hz")]
)
def test_what_has_no_value_in_a_unit_is_refused_in_words(text, unit):
    with pytest.raises(QuantityError, match="Enter"):
        parse_as(text, unit)
