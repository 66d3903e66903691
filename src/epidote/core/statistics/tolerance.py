"""Tolerance factors: mean ± k·s holds a share of a normal population with a confidence.

NIST/SEMATECH e-Handbook of Statistical Methods, 7.2.6.3. Two-sided factors by Howe's formula (JASA 64, 1969), which
that section uses; one-sided factors exactly, by the noncentral t distribution.
"""

from __future__ import annotations

import math

from scipy.special import chdtri, nctdtrit, ndtri

from epidote.core.errors import UnusableInputError

COVERAGE, CONFIDENCE = 0.95, 0.95
LEAST_UNITS = 3


def two_sided_factor(units: int, coverage: float = COVERAGE, confidence: float = CONFIDENCE) -> float:
    """Return k for limits on both sides. Raises UnusableInputError for fewer than three units."""
    _require_units(units)
    freedom = units - 1
    z = float(ndtri((1 + coverage) / 2))
    # chdtri takes the upper tail: the quantile that is exceeded with the wished confidence
    chi_square = float(chdtri(freedom, confidence))
    return z * math.sqrt(freedom * (1 + 1 / units) / chi_square)


def one_sided_factor(units: int, coverage: float = COVERAGE, confidence: float = CONFIDENCE) -> float:
    """Return k for a limit on one side. Raises UnusableInputError for fewer than three units."""
    _require_units(units)
    offset = float(ndtri(coverage)) * math.sqrt(units)
    return float(nctdtrit(units - 1, offset, confidence)) / math.sqrt(units)


def _require_units(units: int) -> None:
    if units < LEAST_UNITS:
        raise UnusableInputError(
            f"Tolerance limits need at least {LEAST_UNITS} good units; {units} selected. Select more measured rows."
        )
