"""A single number that a run yields."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from epidote.core.results.caution import Caution
from epidote.core.results.channels import channel_from_key, channel_key


@dataclass(frozen=True)
class Reading:
    """A single number. Ratios are in dB; ``value`` is None when it cannot be given, with a caution that says why.

    at: the operating point (names carry their unit: ``frequency_hz``); floor: the least value this recording could have
    shown, in the same unit; spread: one standard deviation from the estimator's own residual noise, in the same unit.
    """

    key: str
    channel: int
    value: float | None
    unit: str
    at: Mapping[str, float | str] = field(default_factory=dict)
    floor: float | None = None
    spread: float | None = None
    cautions: tuple[Caution, ...] = ()

    def to_json(self) -> dict[str, Any]:
        return {
            "key": self.key,
            "channel": channel_key(self.channel),
            "value": finite(self.value),
            "unit": self.unit,
            "at": dict(self.at),
            "floor": finite(self.floor),
            "spread": finite(self.spread),
            "cautions": [str(c) for c in self.cautions],
        }

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> Reading:
        cautions = tuple(Caution(c) for c in data["cautions"])
        return Reading(
            data["key"],
            channel_from_key(data["channel"]),
            data["value"],
            data["unit"],
            data["at"],
            data["floor"],
            data["spread"],
            cautions,
        )


def finite(value: float | None) -> float | None:
    """Return the value, or None where JSON has no word for it."""
    if value is None or not math.isfinite(value):
        return None
    return float(value)
