"""A share of a count, with its exact interval."""

from __future__ import annotations

from dataclasses import dataclass

from scipy.special import betaincinv

CONFIDENCE = 0.95


def clopper_pearson(hits: int, trials: int, confidence: float = CONFIDENCE) -> tuple[float, float]:
    """Return the exact interval of a share (Clopper, Pearson 1934)."""
    tail = (1 - confidence) / 2
    low = 0.0 if hits == 0 else float(betaincinv(hits, trials - hits + 1, tail))
    high = 1.0 if hits == trials else float(betaincinv(hits + 1, trials - hits, 1 - tail))
    return low, high


@dataclass(frozen=True)
class Yield:
    """passed of counted units, and the 95 % interval of the share that passes."""

    passed: int
    counted: int
    interval: tuple[float, float]

    @property
    def share(self) -> float:
        return self.passed / self.counted


def yield_of(passed: int, counted: int) -> Yield | None:
    """Return the yield; None where nothing was counted."""
    if counted < 1:
        return None
    return Yield(passed, counted, clopper_pearson(passed, counted))
