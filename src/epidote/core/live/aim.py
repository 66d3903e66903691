"""Setting a level by hand: what is aimed at, and a slow, steady statement of how far off it is."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from epidote.core.errors import SettingError
from epidote.core.quantities.units import Conversion, parse, parse_as

SETTLING_S = (
    0.8  # time constant of the average: a hand on a knob sees it follow, and it stands still when the hand does
)
_JUMP_DB = 1.0  # a change by more than this is followed at once
_STEADY_DB = 0.05  # movement over the last second below which a level stands still


class AimKind(StrEnum):
    """What is brought to the target."""

    LEVEL = "level"  # of an input
    GAIN = "gain"  # from the generator to an input


@dataclass(frozen=True)
class Aim:
    """wanted: dBFS of a level, dB of a gain."""

    kind: AimKind
    wanted: float


def parse_aim(text: str, known: Conversion) -> Aim:
    """Return what was typed: "100 mV" and "-45 dBFS" are levels, "0 dB" is a gain. Raises QuantityError."""
    quantity = parse(text, "dB")
    if quantity.unit == "dB":
        return Aim(AimKind.GAIN, quantity.value)
    return Aim(AimKind.LEVEL, parse_as(text, "dBFS", known))


@dataclass(frozen=True)
class AimState:
    """off: by how many dB it is above the target, averaged; steady: whether it stands still."""

    off: float
    steady: bool

    def within(self, tolerance_db: float) -> bool:
        """Whether the target is met within a tolerance. Raises SettingError for one that is none."""
        if tolerance_db <= 0:
            raise SettingError(f"The tolerance {tolerance_db} dB must be more than 0 dB.")
        return abs(self.off) <= tolerance_db


class AimMeter:
    """Averages how far off a level is; a large change is followed at once, small ones slowly."""

    def __init__(self) -> None:
        self._off: float | None = None
        self._recent: list[tuple[float, float]] = []  # (time in s, average) of the last second

    def reset(self) -> None:
        """Forget what was before, as for another target."""
        self._off = None
        self._recent = []

    def push(self, off_db: float, time_s: float) -> AimState | None:
        """Take in one value and when it was read, in s of any clock. None while there is no signal."""
        if not math.isfinite(off_db):
            self.reset()
            return None
        elapsed = time_s - self._recent[-1][0] if self._recent else 0.0
        if self._off is None or abs(off_db - self._off) > _JUMP_DB:
            self._off = off_db
        else:
            share = 1 - math.exp(-max(0.0, elapsed) / SETTLING_S)
            self._off += share * (off_db - self._off)
        self._recent = [(t, v) for t, v in self._recent if time_s - t <= 1.0] + [(time_s, self._off)]
        values = [v for _, v in self._recent]
        long_enough = time_s - self._recent[0][0] > 0.6
        return AimState(self._off, long_enough and max(values) - min(values) < _STEADY_DB)
