"""The fixture on the line: units scatter like parts do, always alike by serial number; three are faulty."""

import numpy as np
import pytest

from epidote.standins.line_fixture import OSTREL_H20, LineFixture

SERIALS = [f"H20-{n:03d}" for n in range(1, 41)]
FAULTY = {9, 17, 31}


def amplifier(serial):
    return LineFixture().set_to({"serial": serial, "load": "8 Ω"}).amplifier


def test_a_serial_number_is_always_the_same_unit():
    assert amplifier("H20-007") == amplifier("H20-007")
    assert amplifier("H20-007") != amplifier("H20-008")
    assert amplifier("") == amplifier("")


def test_units_scatter_about_the_make():
    good = [amplifier(s) for n, s in enumerate(SERIALS, start=1) if n not in FAULTY]
    gains = np.array([a.gain_db + np.array(a.channel_gains_db) for a in good])
    assert 0.03 < gains.std() < 0.15
    assert abs(gains.mean() - OSTREL_H20.gain_db) < 0.15
    for name in ("high_pass", "low_pass", "second", "noise_density"):
        ratios = np.array([getattr(a, name) for a in good]) / getattr(OSTREL_H20, name)
        assert 0.01 < np.log(ratios).std() < 0.3
        assert 0.85 < ratios.mean() < 1.15


def test_the_contacts_wear():
    numbers = np.array([n for n in range(1, 41) if n not in FAULTY])
    gains = [amplifier(SERIALS[n - 1]).gain_db for n in numbers]
    slope, _ = np.polyfit(numbers, gains, 1)
    assert slope == pytest.approx(-LineFixture().wear_db, rel=1e-6)


def test_three_units_are_faulty_each_in_another_way():
    hums, lacks_bass, distorts = (amplifier(SERIALS[n - 1]) for n in sorted(FAULTY))
    assert hums.hum[1] > 50 * OSTREL_H20.hum[1]
    assert lacks_bass.high_pass > 5 * OSTREL_H20.high_pass
    assert distorts.second > 10 * OSTREL_H20.second
    usual = amplifier(SERIALS[0])
    assert usual.hum == OSTREL_H20.hum
    assert usual.second < 2 * OSTREL_H20.second


def test_a_tone_comes_out_as_loud_as_the_gain_says():
    """20·log10 of the RMS ratio, less what the load takes off the output resistance."""
    fixture = LineFixture().set_to({"serial": "H20-001"})
    t = np.arange(48000) / 48000
    volts = np.column_stack([0.1 * np.sin(2 * np.pi * 1000 * t)] * 2)
    out = fixture.process(volts, 48000, 8.0, np.random.default_rng(1), 300.0)
    unit = fixture.amplifier
    for channel in (0, 1):
        ratio = np.sqrt(np.mean(out[4800:, channel] ** 2) / np.mean(volts[4800:, channel] ** 2))
        expected = unit.gain_db + unit.channel_gains_db[channel] + 20 * np.log10(8 / (8 + unit.output_ohms))
        assert 20 * np.log10(ratio) == pytest.approx(expected, abs=0.01)
