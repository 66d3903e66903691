"""Sums by blocks against the plain sums, with numpy's sines as the referee."""

import numpy as np
import pytest

from epidote.core.analysis.spectral.lines import lines_at, tone_of
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7, HANN


@pytest.mark.parametrize("frames", [100, 512, 70_001])
def test_lines_are_those_of_the_plain_sum(frames):
    rate = 48000.0
    x = np.random.default_rng(1).standard_normal(frames)
    frequencies = np.array([0.0, 17.3, 997.0, 23999.0])
    n = np.arange(frames)
    plain = [abs(np.sum(x * np.exp(-2j * np.pi * f / rate * n))) for f in frequencies]
    np.testing.assert_allclose(lines_at(x, frequencies, rate), plain, rtol=0, atol=1e-10 * np.abs(x).sum())


@pytest.mark.parametrize("frames", [1, 511, 512, 96_123])
def test_a_tone_is_the_plain_cosine(frames):
    w, amplitude, centre = 0.1309, 0.3 - 0.4j, (frames - 1) / 2
    plain = np.abs(amplitude) * np.cos(w * (np.arange(frames) - centre) + np.angle(amplitude))
    np.testing.assert_allclose(tone_of(frames, w, amplitude, centre), plain, atol=1e-11)


@pytest.mark.parametrize("window", [HANN, BLACKMAN_HARRIS_7])
def test_a_window_by_recurrence_is_the_sum_of_its_cosines(window):
    n = np.arange(96_123)
    plain = sum((-1) ** k * a * np.cos(2 * np.pi * k * n / n.size) for k, a in enumerate(window.coefficients))
    np.testing.assert_allclose(window.samples(n.size), plain, atol=1e-14)
