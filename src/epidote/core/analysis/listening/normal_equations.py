"""Least-squares equations of a filter, whose matrix is symmetric and Toeplitz: solved exactly once, and by conjugate
gradients where a nearby matrix has been solved before. Step 3 of docs/methods.md, Programme.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.linalg import solve_toeplitz

from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

# what is left of the power that a solution gives, -140 dB, and the steps after which an inverse of its own is quicker
_SOLVED, _MOST_STEPS = 1e-14, 24


class _ToeplitzProduct:
    """Multiplies by a symmetric Toeplitz matrix, as the corner of a circulant one."""

    def __init__(self, column: Samples) -> None:
        self._count = column.size
        self._size = even_fast_len(2 * column.size)
        circle = np.zeros(self._size)
        circle[: self._count] = column
        circle[self._size - self._count + 1 :] = column[:0:-1]
        self._spectrum = transforms.rfft(circle)

    def of(self, x: Samples) -> Samples:
        """Return the product with x (taps,)."""
        product: Samples = transforms.irfft(self._spectrum * transforms.rfft(x, self._size), self._size)[: self._count]
        return product


class _ToeplitzInverse:
    """The inverse of a symmetric Toeplitz matrix, by its first column alone (Gohberg, Semencul 1972; from memory): the
    column is found once, and each right-hand side takes a few transforms.
    """

    def __init__(self, column: Samples) -> None:
        unit = np.zeros(column.size)
        unit[0] = 1.0
        first = np.asarray(solve_toeplitz(column, unit))
        self._count = column.size
        self._size = even_fast_len(2 * column.size)
        self._scale = float(first[0])
        self._lower = transforms.rfft(first, self._size)
        self._upper = transforms.rfft(np.concatenate([[0.0], first[:0:-1]]), self._size)

    def applied(self, x: Samples) -> Samples:
        """Return the inverse times x (taps,)."""
        spectrum = transforms.rfft(x, self._size)
        # the transposed triangular products first, each cut to its length, then the triangular ones
        inner = [self._cut(spectrum * np.conj(part)) for part in (self._lower, self._upper)]
        outer = self._lower * transforms.rfft(inner[0], self._size)
        outer -= self._upper * transforms.rfft(inner[1], self._size)
        return self._cut(outer) / self._scale

    def _cut(self, spectrum: Any) -> Samples:
        cut: Samples = transforms.irfft(spectrum, self._size)[: self._count]
        return cut


class NormalEquations:
    """The equations with a symmetric Toeplitz matrix of a first column (taps,).

    near: equations with nearly the same matrix. Their inverse then stands in for this one's: conjugate gradients that
    it preconditions need a few steps, each a few transforms, where an inverse of its own takes the square of the taps.
    """

    def __init__(self, column: Samples, near: NormalEquations | None = None) -> None:
        self._column = column
        self._inverse: _ToeplitzInverse = near._inverse if near is not None else _ToeplitzInverse(column)
        self._product = _ToeplitzProduct(column) if near is not None else None

    def solve(self, wanted: Samples) -> Samples:
        """Return the solution (taps,) for a right-hand side (taps,)."""
        if self._product is None:
            return self._inverse.applied(wanted)
        found = self._by_gradients(wanted, self._product)
        if found is None:  # not so near after all
            self._inverse, self._product = _ToeplitzInverse(self._column), None
            found = self._inverse.applied(wanted)
        return found

    def _by_gradients(self, wanted: Samples, product: _ToeplitzProduct) -> Samples | None:
        """Return the solution by preconditioned conjugate gradients (Hestenes, Stiefel 1952); None where they take too
        many steps.
        """
        solution = np.zeros(wanted.size)
        left = wanted.copy()
        corrected = self._inverse.applied(left)
        first = height = float(left @ corrected)
        direction = corrected
        for _ in range(_MOST_STEPS):
            if 0 <= height <= _SOLVED * first:
                return solution
            along = product.of(direction)
            power = float(direction @ along)
            if power <= 0 or height <= 0:  # rounding has made one of the matrices indefinite
                return None
            step = height / power
            solution += step * direction
            left -= step * along
            corrected = self._inverse.applied(left)
            before, height = height, float(left @ corrected)
            direction = corrected + height / before * direction
        return None
