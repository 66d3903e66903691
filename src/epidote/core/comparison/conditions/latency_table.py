"""Latencies side by side: by device, rate and buffer; which of them are the same; which can be lived with; how far
sound goes meanwhile.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

LIVE = (0.008, 0.009)  # s; above this a delay disturbs live playing (common practice, no source)
ROOM = 20.0  # °C


@dataclass(frozen=True)
class MeasuredLatency:
    """One measured latency: device (with what else it was set to), rate in Hz, buffer in frames (None: not said).

    seconds: of the usual burst, with its spread; worst: of the slowest burst, None where there was only one. jumps:
    whether it is not the same from burst to burst.
    """

    device: str
    rate: float
    buffer: int | None
    seconds: float
    spread: float | None = None
    worst: float | None = None
    jumps: bool = False

    @property
    def longest(self) -> float:
        """Seconds of the slowest burst: what somebody who plays must reckon with."""
        return max(self.seconds, self.worst or 0.0)

    @property
    def setting(self) -> tuple[float, int]:
        """What the columns of a table are ordered by."""
        return self.rate, self.buffer or 0


def latencies_of(rows: Iterable[tuple[dict[str, str], MeasuredLatency]]) -> list[MeasuredLatency]:
    """Return latencies of (conditions, latency of a unit): the buffer is read from the conditions, and those that are
    neither buffer nor rate tell devices apart.
    """
    latencies = []
    for conditions, one in rows:
        rest = [f"{k} {v}" for k, v in conditions.items() if k not in ("buffer", "rate")]
        digits = "".join(c for c in conditions.get("buffer", "") if c.isdigit())
        latencies.append(
            replace(one, device=", ".join([one.device, *rest]), buffer=int(digits) if digits else one.buffer)
        )
    return latencies


@dataclass(frozen=True)
class LatencyTable:
    """devices: the rows.

    settings: (rate, buffer) of the columns, buffer 0 where none was said; cells: by (device, setting).
    """

    devices: tuple[str, ...]
    settings: tuple[tuple[float, int], ...]
    cells: dict[tuple[str, tuple[float, int]], MeasuredLatency]


def latency_table(latencies: Sequence[MeasuredLatency]) -> LatencyTable:
    """Device by buffer and rate; the last of several of the same counts."""
    cells = {(one.device, one.setting): one for one in latencies}
    return LatencyTable(
        tuple(dict.fromkeys(one.device for one in latencies)), tuple(sorted({one.setting for one in latencies})), cells
    )


def similar_latencies(
    latencies: Sequence[MeasuredLatency], seconds: float, within: float = 0.05
) -> list[MeasuredLatency]:
    """Those whose latency is ``seconds``, to a share of it, nearest first: "128 at 48 kHz here is as late as 64 at
    44.1 kHz there".
    """
    near = [one for one in latencies if abs(one.seconds - seconds) <= within * abs(seconds)]
    return sorted(near, key=lambda one: abs(one.seconds - seconds))


def speed_of_sound(celsius: float = ROOM) -> float:
    """m/s in dry air: 331.3 sqrt(1 + T/273.15); a textbook approximation, from memory."""
    return 331.3 * math.sqrt(1 + celsius / 273.15)


def distance_in_air(seconds: float, celsius: float = ROOM) -> float:
    """How far sound travels in air meanwhile."""
    return seconds * speed_of_sound(celsius)


class LiveSuitability(StrEnum):
    """What a latency means for somebody who plays or speaks and hears it."""

    SUITABLE = "suitable"
    BORDERLINE = "borderline"
    DISTURBS = "disturbs"


def live_suitability(seconds: float) -> LiveSuitability:
    """Return what a latency means for live playing (common practice, no source)."""
    if seconds <= LIVE[0]:
        return LiveSuitability.SUITABLE
    if seconds <= LIVE[1]:
        return LiveSuitability.BORDERLINE
    return LiveSuitability.DISTURBS
