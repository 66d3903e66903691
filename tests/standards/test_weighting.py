"""A-weighting against IEC 61672-1."""

import numpy as np
import pytest

from epidote.core.analysis.spectral.weighting import Weighting, power_weight
from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from tests.conftest import UNCALIBRATED, dithered, recording, sine, table

ROWS = table("01_weighting")


@pytest.mark.parametrize("row", ROWS, ids=lambda r: r["frequency_nominal_hz"])
def test_formula_against_the_standards_own(row):
    """Source: IEC 61672-1:2013, analytic form at exact base-ten frequencies; and its table, to its 0.1 dB rounding."""
    f = np.array([float(row["frequency_exact_hz"])])
    level = 10 * np.log10(power_weight(f, Weighting.A)[0])
    assert level == pytest.approx(float(row["a_analytic_db"]), abs=0.001)
    assert level == pytest.approx(float(row["a_table_db"]), abs=0.051)


def test_no_weighting_is_one():
    assert (power_weight(np.array([10.0, 1e3, 2e4]), Weighting.NONE) == 1).all()


@pytest.mark.parametrize("frequency", [100.0, 4000.0, 12589.25])
def test_weighted_noise_reading_follows_the_curve(frequency):
    """A second tone counts as noise of THD+N; weighted, it changes by what the standard says for its frequency.

    Source: IEC 61672-1:2013, analytic form."""
    rate, frames = 48000.0, 96000
    x = dithered(sine(997.0, 0.5, frames, rate) + sine(frequency, 1e-3, frames, rate), 24)
    readings = []
    for weighting in Weighting:
        result = Tone().analyse([recording(x, rate)], ToneSettings(weighting=weighting, harmonics=2), UNCALIBRATED)
        readings.append(result.reading("noise").value)
    expected = 10 * np.log10(power_weight(np.array([frequency]), Weighting.A)[0])
    assert readings[1] - readings[0] == pytest.approx(expected, abs=0.01)
