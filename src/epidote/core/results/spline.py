"""The cubic spline through a few points (not-a-knot, as scipy.interpolate.CubicSpline's), without loading a library
that takes half a second.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples


@dataclass(frozen=True, eq=False)
class Spline:
    """x rising, y and the second derivatives there, (points,) each."""

    x: Samples
    y: Samples
    bends: Samples

    @staticmethod
    def through(x: Samples, y: Samples) -> Spline:
        """Four points or more; a dense system, so only for a few dozen."""
        n = x.size
        h: Samples = np.diff(x)
        slopes = np.diff(y) / h
        system, right_side = np.zeros((n, n)), np.zeros(n)
        inner = np.arange(1, n - 1)
        system[inner, inner - 1], system[inner, inner], system[inner, inner + 1] = h[:-1], 2 * (h[:-1] + h[1:]), h[1:]
        right_side[1:-1] = 6 * np.diff(slopes)
        # the third derivative goes on over the second point and the last but one
        system[0, :3] = -h[1], h[0] + h[1], -h[0]
        system[-1, -3:] = -h[-1], h[-2] + h[-1], -h[-2]
        bends: Samples = np.asarray(np.linalg.solve(system, right_side), dtype=np.float64)
        return Spline(x, y, bends)

    def cubic(self, segment: int) -> Samples:
        """Coefficients of the polynomial in (x - x[segment]) between that point and the next, highest power first."""
        h = self.x[segment + 1] - self.x[segment]
        low, high = self.bends[segment], self.bends[segment + 1]
        slope = (self.y[segment + 1] - self.y[segment]) / h - h * (2 * low + high) / 6
        return np.array([(high - low) / (6 * h), low / 2, slope, self.y[segment]])

    def at(self, point: float) -> float:
        segment = int(np.clip(np.searchsorted(self.x, point, side="right") - 1, 0, self.x.size - 2))
        return float(np.polyval(self.cubic(segment), point - self.x[segment]))

    def places_of(self, value: float, segment: int) -> Samples:
        """Where the spline has that value between point ``segment`` and the next, rising."""
        coefficients = self.cubic(segment)
        coefficients[-1] -= value
        roots = np.roots(coefficients)
        width = self.x[segment + 1] - self.x[segment]
        real = roots[np.abs(roots.imag) <= 1e-9 * max(1.0, width)].real
        return np.asarray(np.sort(real[(real >= -1e-12) & (real <= width + 1e-12)]) + self.x[segment])
