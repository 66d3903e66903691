"""Rows over frequency, as a chain keeps them of microphones and sources."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from epidote.core.signals.signal import Samples


def interpolate_rows(rows: Sequence[Sequence[float]], x: Samples, column: int = 1) -> Samples:
    """Return a column of rows that begin with a frequency in Hz at frequencies x in Hz (points,): straight over log
    frequency, the end values beyond the rows.
    """
    table = np.array(rows, dtype=np.float64)
    return np.asarray(np.interp(np.log(np.maximum(x, 1e-3)), np.log(table[:, 0]), table[:, column]))
