"""Arrays as Qt's polygons."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QPolygonF
from shiboken6 import VoidPtr

from epidote.core.signal import Samples

_BYTES = 16  # of a point: two doubles


def polygon(xs: Samples, ys: Samples) -> QPolygonF:
    """Points (n,) written into Qt's own memory, a hundred times as quick as point by point."""
    made = QPolygonF()
    made.resize(xs.size)
    if xs.size:
        points = np.frombuffer(VoidPtr(made.data(), _BYTES * xs.size, True), dtype=np.float64).reshape(-1, 2)
        points[:, 0], points[:, 1] = xs, ys
    return made
