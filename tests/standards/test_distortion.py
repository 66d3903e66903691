"""THD of waveforms whose harmonics are known in closed form."""

import math

import numpy as np
import pytest

from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from tests.conftest import UNCALIBRATED, recording, sum_of_sines, table

RATE, FRAMES = 192000.0, 192000


def from_harmonics(amplitudes: dict[int, float], f: float) -> np.ndarray:
    """A waveform built from its harmonics below half the rate, so that nothing aliases."""
    heard = {n: a for n, a in amplitudes.items() if n * f < 0.49 * RATE}
    return sum_of_sines(f * np.array(list(heard)), list(heard.values()), 0.0, np.arange(FRAMES) / RATE)


def analysed(x: np.ndarray, **settings):
    return Tone().analyse([recording(x, RATE)], ToneSettings(band_high=96000, **settings), UNCALIBRATED)


@pytest.mark.parametrize("row", table("06b_hard_clipped"), ids=lambda r: f"clipped at {r['clip_ratio']}")
def test_hard_clipped_sine(row):
    """Source: Fourier series of a clipped sine: b_n = (2/pi)[sin((n-1)phi)/(n(n-1)) + sin((n+1)phi)/(n(n+1))]."""
    phi = math.asin(float(row["clip_ratio"]))
    b = {
        n: 2 / math.pi * (math.sin((n - 1) * phi) / (n * (n - 1)) + math.sin((n + 1) * phi) / (n * (n + 1)))
        for n in range(3, 60, 2)
    }
    b[1] = float(row["b1"])
    result = analysed(0.5 * from_harmonics(b, 997.0), harmonics=20)
    for n in (3, 5, 7, 9):
        assert result.reading(f"h{n}").value == pytest.approx(float(row[f"h{n}_db_re_fundamental"]), abs=1e-4)
    expected = 20 * math.log10(float(row["thd_f_ratio_harmonics_2_to_20"]))
    assert result.reading("thd").value == pytest.approx(expected, abs=1e-5)


SERIES = {
    "square": lambda n: 1 / n if n % 2 else 0.0,
    "triangle": lambda n: (-1) ** ((n - 1) // 2) / n**2 if n % 2 else 0.0,
    "sawtooth": lambda n: (-1) ** (n + 1) / n,
}


@pytest.mark.parametrize("row", [r for r in table("06a_thd") if r["waveform"] in SERIES], ids=lambda r: r["waveform"])
@pytest.mark.parametrize("highest", [3, 5, 10, 20])
def test_ideal_waveforms(row, highest):
    """Source: Fourier series (square, triangle, sawtooth), summed to the n-th harmonic as a band-limited meter sees
    them.
    """
    shape = SERIES[row["waveform"]]
    result = analysed(0.4 * from_harmonics({n: shape(n) for n in range(1, 400)}, 441.0), harmonics=highest)
    expected = 20 * math.log10(float(row[f"thd_f_ratio_harmonics_2_to_{highest}"]))
    # strong harmonics beyond those fitted lean on the fit a little
    assert result.reading("thd").value == pytest.approx(expected, abs=5e-5)


@pytest.mark.parametrize("row", table("06c_poly"), ids=lambda r: f"{r['amplitude_a_peak']} {r['a2']} {r['a3']}")
def test_polynomial(row):
    """Source: x + a2 x² + a3 x³ of a cosine: h2 = a2 A²/2, h3 = a3 A³/4, h1 = A + 3/4 a3 A³ (trigonometric
    identities).
    """
    a, a2, a3 = (float(row[k]) for k in ("amplitude_a_peak", "a2", "a3"))
    x = a * np.cos(2 * np.pi * 1000.25 * np.arange(FRAMES) / RATE)
    result = analysed(x + a2 * x**2 + a3 * x**3)
    assert result.reading("thd").value == pytest.approx(float(row["thd_f_db"]), abs=1e-4)
    assert result.reading("dc").value == pytest.approx(float(row["dc"]), abs=1e-9)
    expected_level = 20 * math.log10(float(row["h1_peak"]))
    assert result.reading("level").value == pytest.approx(expected_level, abs=1e-6)


def test_harmonic_phases_do_not_depend_on_where_the_record_begins():
    """Source: the phase of a2 cos² is that of cos(2 phi): zero when the fundamental is at its positive peak."""
    for offset in (0, 17, 1234):
        x = 0.5 * np.cos(2 * np.pi * 997.0 * (np.arange(48000) + offset) / 48000.0)
        result = Tone().analyse([recording(x + 0.01 * x**2)], ToneSettings(), UNCALIBRATED)
        assert result.reading("h2").at["phase_deg"] == pytest.approx(0.0, abs=1e-3)
