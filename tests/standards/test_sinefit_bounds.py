"""The fit's scatter against the Cramér-Rao bounds."""

import numpy as np
import pytest

from epidote.core.analysis.sine.sine_fit import fit_tone
from tests.conftest import sine, table

RATE = 48000.0


@pytest.mark.parametrize(
    "row",
    [r for r in table("15_sine_fit_crlb") if int(r["samples_n"]) <= 4096 and float(r["snr_db"]) >= 20][:8],
    ids=lambda r: f"{r['samples_n']} samples, {r['snr_db']} dB",
)
def test_frequency_amplitude_and_offset(row):
    """Source: Rife, Boorstyn 1974; Kay 1993. 200 trials: their spread itself is uncertain by 5 %."""
    n, sigma, a = int(row["samples_n"]), float(row["noise_rms"]), float(row["amplitude_peak"])
    rng = np.random.default_rng(n)
    found = []
    for _ in range(200):
        f = 1997.3 + rng.uniform(-5, 5)
        x = sine(f, a, n, RATE, rng.uniform(0, 6)) + sigma * rng.standard_normal(n) + 0.01
        fit = fit_tone(x, RATE, f + rng.uniform(-0.3, 0.3) * RATE / n, 1, 1)
        found.append((fit.frequency - f, abs(fit.amplitudes[0]) - a, fit.dc - 0.01))
    rms = np.sqrt(np.square(found).mean(axis=0))
    assert rms[0] < 1.2 * float(row["std_frequency_hz"])
    assert rms[1] < 1.2 * float(row["std_amplitude_peak"])
    assert rms[2] < 1.2 * float(row["std_dc_offset"])
    assert fit.frequency_spread == pytest.approx(float(row["std_frequency_hz"]), rel=0.15)


@pytest.mark.parametrize("frequency", [31.7, 997.0, 4999.9])
def test_small_harmonics(frequency):
    """Source: Kay 1993: a known frequency's amplitude in white noise has the bound sigma sqrt(2/N)."""
    n, sigma, size = 9600, 1e-6, 3e-6
    rng = np.random.default_rng(5)
    errors = []
    for _ in range(120):
        x = sine(frequency, 0.5, n, RATE) + sine(2 * frequency, size, n, RATE, 1.0) + sigma * rng.standard_normal(n)
        fit = fit_tone(x, RATE, frequency + 0.1, 4)
        errors.append(fit.amplitudes[1] - size * np.exp(1j * (1.0 + 2 * np.pi * 2 * frequency * (n - 1) / 2 / RATE)))
    errors = np.array(errors)
    rms = np.sqrt(np.mean(np.concatenate([errors.real, errors.imag]) ** 2))
    assert rms < 1.2 * sigma * np.sqrt(2 / n)
    assert fit.amplitude_spread == pytest.approx(sigma * np.sqrt(2 / n), rel=0.1)


def test_no_noise_returns_what_went_in():
    """Source: IEEE 1057: without noise the fit is exact."""
    x = sine(1234.5678, 0.7, 5000, RATE, 1.1) + sine(2 * 1234.5678, 0.01, 5000, RATE, 0.2) + 0.05
    fit = fit_tone(x, RATE, 1236.0, 3)
    assert fit.frequency == pytest.approx(1234.5678, abs=1e-7)
    assert np.abs(fit.amplitudes) == pytest.approx([0.7, 0.01, 0], abs=1e-10)
    assert fit.dc == pytest.approx(0.05, abs=1e-11)
    assert np.abs(fit.residual).max() < 1e-9


def test_blocks_do_not_show():
    """A record of any length, whole blocks or not, gives the same answer as plain least squares.

    Source: numpy.linalg.lstsq."""
    for n in (777, 4096, 10007):
        rng = np.random.default_rng(n)
        f = 0.037 * RATE
        x = sine(f, 1.0, n, RATE) + 0.1 * rng.standard_normal(n)
        fit = fit_tone(x, RATE, f, 3, 1)
        t = np.arange(n) - (n - 1) / 2
        w = 2 * np.pi * fit.frequency / RATE
        u = 2 * t / n
        columns = [np.ones(n), np.cos(w * t), -np.sin(w * t), u * np.cos(w * t), -u * np.sin(w * t)]
        columns += [c for k in (2, 3) for c in (np.cos(k * w * t), -np.sin(k * w * t))]
        found, *_ = np.linalg.lstsq(np.stack(columns, axis=1), x, rcond=None)
        assert fit.amplitudes[0] == pytest.approx(found[1] + 1j * found[2], abs=1e-9)
        assert fit.amplitudes[1] == pytest.approx(found[5] + 1j * found[6], abs=1e-9)
        assert fit.dc == pytest.approx(found[0], abs=1e-10)
