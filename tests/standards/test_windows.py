"""The windows' properties against published ones and scipy's."""

import numpy as np
import pytest
from scipy import signal

from epidote.core.analysis.spectral.windows import (
    BLACKMAN_HARRIS_4,
    BLACKMAN_HARRIS_7,
    HANN,
    windowed_around,
    windowed_power,
)
from tests.conftest import table

PUBLISHED = {row["window"]: row for row in table("05_windows")}


@pytest.mark.parametrize(("window", "name"), [(HANN, "hann"), (BLACKMAN_HARRIS_4, "blackmanharris")])
def test_gain_and_noise_bandwidth(window, name):
    """Source: Harris, Proc. IEEE 66(1), 1978, table I (computed values)."""
    row = next(r for key, r in PUBLISHED.items() if key.replace("_", "").replace("-", "").startswith(name))
    assert window.coherent_gain == pytest.approx(float(row["coherent_gain"]), abs=1e-6)
    assert window.enbw == pytest.approx(float(row["enbw_bins"]), abs=1e-5)


@pytest.mark.parametrize(("window", "scipys"), [(HANN, "hann"), (BLACKMAN_HARRIS_4, "blackmanharris")])
def test_convolved_bins_equal_windowed_samples(window, scipys):
    """Source: scipy.signal.get_window (periodic) and numpy's transform."""
    x = np.random.default_rng(1).standard_normal(1024)
    expected = np.abs(np.fft.rfft(x * signal.get_window(scipys, x.size))) ** 2
    assert windowed_power(np.fft.rfft(x), window) == pytest.approx(expected, rel=1e-9, abs=1e-12)


def test_long_spectra_are_windowed_in_pieces_alike():
    x = np.random.default_rng(2).standard_normal(40000)
    n = np.arange(x.size)
    w = sum(a * (-1) ** k * np.cos(2 * np.pi * k * n / x.size) for k, a in enumerate(BLACKMAN_HARRIS_7.coefficients))
    expected = np.abs(np.fft.rfft(x * w)) ** 2
    assert windowed_power(np.fft.rfft(x), BLACKMAN_HARRIS_7) == pytest.approx(expected, rel=1e-8, abs=1e-10)


def test_a_few_bins_equal_all_of_them():
    spectrum = np.fft.rfft(np.random.default_rng(3).standard_normal(4096))
    first, bins = windowed_around(spectrum, 700, 5, BLACKMAN_HARRIS_4)
    assert np.abs(bins) ** 2 == pytest.approx(windowed_power(spectrum, BLACKMAN_HARRIS_4)[first : first + bins.size])


def test_seven_terms_have_side_lobes_below_180_db():
    """Source: Albrecht, ICASSP 2001 (from memory): 7-term minimum side lobe window, about -180 dB."""
    size, fine = 256, 32
    n = np.arange(size)
    w = sum(a * (-1) ** k * np.cos(2 * np.pi * k * n / size) for k, a in enumerate(BLACKMAN_HARRIS_7.coefficients))
    level = 20 * np.log10(np.abs(np.fft.rfft(w, size * fine)) / w.sum() + 1e-30)
    beyond = level[round(BLACKMAN_HARRIS_7.half_width * fine * 1.05) :]
    assert -183 < beyond.max() < -175
