"""Level references and powers."""

import pytest

from epidote.core.quantities.units import Conversion, Quantity, convert
from tests.conftest import table

IN_VOLTS = {"0 dBu": "dBu", "0 dBV": "dBV"}


@pytest.mark.parametrize("name", IN_VOLTS)
def test_references(name):
    """Source: definitions: 0 dBu = sqrt(0.6) V, 0 dBV = 1 V."""
    row = next(r for r in table("09_level") if r["quantity"] == name)
    assert convert(Quantity(0, IN_VOLTS[name]), "V").value == pytest.approx(float(row["value"]), rel=1e-9)
    assert convert(Quantity(float(row["value"]), "V"), IN_VOLTS[name]).value == pytest.approx(0, abs=1e-9)


@pytest.mark.parametrize("row", table("09_power"), ids=lambda r: f"{r['voltage_v_rms']} V, {r['load_ohm']} ohm")
def test_power_into_a_load(row):
    """Source: P = V²/R."""
    known = Conversion(load_ohms=float(row["load_ohm"]))
    assert convert(Quantity(float(row["voltage_v_rms"]), "V"), "W", known).value == pytest.approx(
        float(row["power_w"]), rel=1e-8
    )
    assert convert(Quantity(float(row["power_w"]), "W"), "V", known).value == pytest.approx(
        float(row["voltage_v_rms"]), rel=1e-8
    )


def test_sound_pressure():
    """Source: 0 dB SPL = 20 uPa; 1 Pa is 93.9794 dB SPL."""
    assert convert(Quantity(1, "Pa"), "dB SPL").value == pytest.approx(93.9794, abs=1e-4)


def test_full_scale_sine_is_0_dbfs():
    """Source: AES17: 0 dBFS is the RMS value of a full-scale sine."""
    from epidote.core.procedures.tone.procedure import Tone, ToneSettings
    from tests.conftest import UNCALIBRATED, recording, sine

    result = Tone().analyse([recording(sine(997, 1.0, 48000, 48000))], ToneSettings(), UNCALIBRATED)
    assert result.reading("level").value == pytest.approx(0, abs=1e-9)
    assert convert(Quantity(0, "dBFS"), "V", Conversion(full_scale_volts=4.0)).value == pytest.approx(4.0)
