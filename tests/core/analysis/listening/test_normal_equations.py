"""Equations of a filter with a symmetric Toeplitz matrix: by general solvers of SciPy and NumPy, on matrices as badly
conditioned as those of music.
"""

from __future__ import annotations

import numpy as np
import pytest
from scipy.linalg import solve_toeplitz, toeplitz

from epidote.core.analysis.listening.normal_equations import NormalEquations

TAPS = 1024


def autocorrelation(x: np.ndarray) -> np.ndarray:
    """Of a sound (frames,), with the regularisation that fits of paths have."""
    spectrum = np.fft.rfft(x, 2 * x.size)
    column = np.fft.irfft(np.square(np.abs(spectrum)))[:TAPS].copy()
    column[0] *= 1 + 1e-9
    return column


def sound(faster: float = 0.0) -> np.ndarray:
    """Noise whose power falls by 60 dB over its band, on a clock that runs a little faster."""
    x = np.random.default_rng(3).standard_normal(2**15)
    spectrum = np.fft.rfft(x) * 10 ** (-3 * np.linspace(0, 1, x.size // 2 + 1))
    x = np.fft.irfft(spectrum)
    at = np.arange(x.size) * (1 + faster)
    return np.interp(at, np.arange(x.size), x) if faster else x


def energy_of_error(column: np.ndarray, found: np.ndarray, right: np.ndarray) -> float:
    """Power of what a filter gives beside the right one, of what the right one gives, in dB: errors at frequencies
    which the sound hardly has do not matter to a fit.
    """
    matrix = toeplitz(column)
    wrong = found - right
    return 10 * np.log10(float(wrong @ matrix @ wrong) / float(right @ matrix @ right) + 1e-300)


@pytest.mark.parametrize("seed", [1, 2])
def test_solution_is_that_of_general_solvers(seed):
    column = autocorrelation(sound())
    right = np.random.default_rng(seed).standard_normal(TAPS)
    wanted = toeplitz(column) @ right
    found = NormalEquations(column).solve(wanted)
    assert energy_of_error(column, found, np.linalg.solve(toeplitz(column), wanted)) < -120
    assert energy_of_error(column, found, solve_toeplitz(column, wanted)) < -120
    assert energy_of_error(column, found, right) < -120


@pytest.mark.parametrize("faster", [1e-9, 1e-6, 3e-5])
def test_a_nearby_matrix_leads_to_the_same_solution(faster):
    near = NormalEquations(autocorrelation(sound()))
    column = autocorrelation(sound(faster))
    right = np.random.default_rng(4).standard_normal(TAPS)
    wanted = toeplitz(column) @ right
    assert energy_of_error(column, NormalEquations(column, near).solve(wanted), right) < -120


def test_a_matrix_that_is_not_near_is_solved_all_the_same():
    near = NormalEquations(autocorrelation(np.random.default_rng(9).standard_normal(2**15)))
    column = autocorrelation(sound())
    right = np.random.default_rng(4).standard_normal(TAPS)
    wanted = toeplitz(column) @ right
    assert energy_of_error(column, NormalEquations(column, near).solve(wanted), right) < -120


def test_nothing_wanted_is_nothing_found():
    near = NormalEquations(autocorrelation(sound()))
    assert not NormalEquations(autocorrelation(sound(1e-6)), near).solve(np.zeros(TAPS)).any()
