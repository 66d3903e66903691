"""The phase relation of two channels over time: their correlation, and the levels of what they share and do not."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples

_STEP = 0.1  # s
_SILENT = 1e-14  # mean square in FS², below which a block has no phase relation


@dataclass(frozen=True)
class PhaseRelation:
    """time in s, correlation from -1 to 1, mid and side: mean squares of half the sum and half the difference in FS²
    (blocks,); whole: correlation of all of it, None where a channel is silent.
    """

    time: Samples
    correlation: Samples
    mid: Samples
    side: Samples
    whole: float | None


def phase_relation(left: Samples, right: Samples, rate: float) -> PhaseRelation:
    """Return the relation of two channels (frames,) in blocks of a tenth of a second."""
    step = max(1, round(_STEP * rate))
    count = max(1, left.size // step)
    step = min(step, left.size)
    parts = [x[: count * step].reshape(count, step) for x in (left, right)]
    cross = (parts[0] * parts[1]).mean(axis=1)
    powers = [np.square(p).mean(axis=1) for p in parts]
    product = powers[0] * powers[1]
    loud = product > _SILENT**2
    correlation = np.where(loud, cross / np.sqrt(np.maximum(product, _SILENT**2)), 0.0)
    total = float(np.sqrt(powers[0].sum() * powers[1].sum()))
    whole = float(cross.sum()) / total if total > count * _SILENT else None
    mid = (powers[0] + powers[1] + 2 * cross) / 4
    side = np.maximum((powers[0] + powers[1] - 2 * cross) / 4, 0.0)
    time: Samples = (np.arange(count, dtype=np.float64) + 0.5) * step / rate
    return PhaseRelation(time, np.clip(correlation, -1, 1), np.maximum(mid, 0.0), side, whole)
