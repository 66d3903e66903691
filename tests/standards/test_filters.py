"""Responses measured by the sweep against filters of known response."""

import numpy as np
import pytest
from scipy import signal

from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.results.curve_features import slope
from tests.conftest import UNCALIBRATED, recording, table, through

RATE = 96000.0
SETTINGS = ResponseSettings(duration=2.0, stop_frequency=40000)
SWEEP = SETTINGS.played(RATE)
TEXTBOOK = table("10_first_second")
PATHS = {
    "first_order_lp": lambda r: 1 / (1 + 1j * r),
    "first_order_hp": lambda r: 1j * r / (1 + 1j * r),
    "butterworth2_lp": lambda r: 1 / (1 + 1j * np.sqrt(2) * r - r**2),
    "butterworth2_hp": lambda r: -(r**2) / (1 + 1j * np.sqrt(2) * r - r**2),
}


def measured(path, settings=SETTINGS):
    y = through(SWEEP.samples(), RATE, path)
    return Response().analyse([recording(y, RATE, SWEEP)], settings, UNCALIBRATED)


@pytest.mark.parametrize("kind", PATHS)
@pytest.mark.parametrize("corner", [40.0, 1000.0])
def test_level_and_phase_against_the_textbook(kind, corner):
    """Source: first order and Butterworth responses over f/fc, textbook."""
    result = measured(lambda f: PATHS[kind](f / corner) * np.exp(-2j * np.pi * f * 200 / RATE))
    level = result.curve("level")
    phase = result.curve("phase_delay_removed")
    removed = phase.meta["removed_delay_s"]
    checked = 0
    for row in TEXTBOOK:
        f = float(row["frequency_ratio_f_over_fc"]) * corner
        if not 25 < f < 38000 or float(row[f"{kind}_db"]) < -60:
            continue
        i = int(np.argmin(np.abs(level.x - f)))
        exact = PATHS[kind](level.x[i] / corner)
        assert level.y[i] == pytest.approx(20 * np.log10(abs(exact)), abs=0.003)
        assert (
            abs(20 * np.log10(abs(PATHS[kind](f / corner))) - float(row[f"{kind}_db"])) < 1e-5
        )  # the test's own path is the table's
        late = np.degrees(np.angle(exact)) + 360 * level.x[i] * (removed - 200 / RATE)
        assert (phase.y[i] - late + 180) % 360 - 180 == pytest.approx(0, abs=0.02)
        checked += 1
    assert checked >= 6


@pytest.mark.parametrize(
    ("kind", "reading"),
    [
        ("first_order_lp", "bandwidth_high"),
        ("butterworth2_lp", "bandwidth_high"),
        ("first_order_hp", "bandwidth_low"),
        ("butterworth2_hp", "bandwidth_low"),
    ],
)
def test_corner_at_3_db(kind, reading):
    """Closed form: where the filter's power is 3.00 dB below that at 1 kHz. To 0.05 %."""
    corner = 15000.0 if reading.endswith("high") else 60.0
    result = measured(lambda f: PATHS[kind](f / corner))
    at_reference = abs(PATHS[kind](1000 / corner)) ** 2 * 10**-0.3
    # the corner is read against 1 kHz, where these filters have already lost a little
    f = np.geomspace(20, 40000, 2_000_001)
    power = np.abs(PATHS[kind](f / corner)) ** 2
    exact = f[np.argmin(np.abs(power - at_reference))]
    assert result.reading(reading).value == pytest.approx(exact, rel=5e-4)


def test_rc_corner_table():
    """Source: 10_rc_corner: f_c = 1/(2 pi R C); first order, -3.0103 dB and ∓45° there."""
    for row in table("10_rc"):
        corner = 1 / (2 * np.pi * float(row["resistance_ohm"]) * float(row["capacitance_f"]))
        assert corner == pytest.approx(float(row["corner_frequency_hz"]), rel=1e-9)
        assert 20 * np.log10(abs(PATHS["first_order_lp"](1.0))) == pytest.approx(
            float(row["gain_at_corner_db"]), abs=1e-5
        )


@pytest.mark.parametrize(
    ("order", "quantity"), [(1, "slope_first_order_db_per_octave"), (2, "slope_second_order_db_per_octave")]
)
def test_slope_between_pins(order, quantity):
    """Source: 10_slopes: 6.0206 dB/octave per order, far from the corner."""
    exact = next(float(r["value"]) for r in table("10_slopes") if r["quantity"] == quantity)
    result = measured(lambda f: (1 / (1 + 1j * f / 30.0)) ** order)
    assert slope(result.curve("level"), 4000, 16000) == pytest.approx(exact, abs=0.005)


@pytest.mark.parametrize("design", ["butter", "cheby1", "ellip"])
def test_digital_filters_of_scipy(design):
    """Source: scipy.signal.sosfreqz of filters applied with sosfilt."""
    arguments = {"butter": (4, 6000), "cheby1": (5, 0.3, 9000), "ellip": (4, 0.2, 50, 12000)}[design]
    sos = getattr(signal, design)(*arguments, fs=RATE, output="sos")
    y = signal.sosfilt(sos, SWEEP.samples())
    level = Response().analyse([recording(y, RATE, SWEEP)], SETTINGS, UNCALIBRATED).curve("level")
    _, h = signal.sosfreqz(sos, level.x, fs=RATE)
    exact = 20 * np.log10(np.abs(h))
    strong = exact > -40
    assert np.abs(level.y - exact)[strong].max() < 0.001


def test_group_delay_of_a_first_order_filter():
    """Source: group delay 1/(wc (1 + (f/fc)²)), textbook; the bulk delay is taken out and stated."""
    corner = 2000.0
    result = measured(lambda f: PATHS["first_order_lp"](f / corner) * np.exp(-2j * np.pi * f * 100 / RATE))
    curve = result.curve("group_delay")
    exact = 1 / (2 * np.pi * corner) / (1 + (curve.x / corner) ** 2) + 100 / RATE - curve.meta["removed_delay_s"]
    inside = (curve.x > 50) & (curve.x < 20000)
    assert np.abs(curve.y - exact)[inside].max() < 2e-7
