"""What a run yields: curves, readings, and the reasons to trust them less."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any

from epidote.core.signal import Samples, locked


class Caution(StrEnum):
    """A reason to trust a curve or reading less."""

    CLIPPED = "clipped"
    TOO_QUIET = "too_quiet"
    DROPOUT = "dropout"
    DC = "dc"
    NOISE_DOMINATED = "noise_dominated"
    NEAR_FLOOR = "near_floor"
    OUTSIDE_BAND = "outside_band"
    STIMULUS_NOT_FOUND = "stimulus_not_found"
    DRIFT = "drift"
    UNSETTLED = "unsettled"
    UNCALIBRATED = "uncalibrated"
    LOAD_UNCONFIRMED = "load_unconfirmed"

    @property
    def words(self) -> str:
        """The caution as a sentence for the reader."""
        return _WORDS[self]


_WORDS = {
    Caution.CLIPPED: "The recording is clipped: its tops are flat. Lower the level or the input gain and measure again.",
    Caution.TOO_QUIET: "The recording is very quiet: its noise and the converter's steps weigh more than they need to.",
    Caution.DROPOUT: "The recording has a gap or a jump in it: samples were lost on the way.",
    Caution.DC: "There is a direct voltage of more than 1 % of full scale in the recording.",
    Caution.NOISE_DOMINATED: "This figure is mostly noise: the component lies below what this recording can show.",
    Caution.NEAR_FLOOR: "This figure is within 6 dB of the chain's own.",
    Caution.OUTSIDE_BAND: "Part of what this figure counts lies outside the measured band and was left out.",
    Caution.STIMULUS_NOT_FOUND: "The stimulus was not found in this recording.",
    Caution.DRIFT: "The tone drifted in frequency or level during the recording: two ways of counting the rest differ by more than 0.2 dB.",
    Caution.UNSETTLED: "The response had not died away where the recording ends.",
    Caution.UNCALIBRATED: "The chain is not calibrated: levels are relative to digital full scale, not volts.",
    Caution.LOAD_UNCONFIRMED: "The load was typed, not confirmed: powers are as good as the typed value.",
}


@dataclass(frozen=True)
class Reading:
    """A single number. Ratios are in dB; ``value`` is None when it cannot be given, with a caution that says why.

    at: the operating point (names carry their unit: ``frequency_hz``); floor: the least value this recording could have shown, in the
    same unit; spread: one standard deviation from the estimator's own residual noise, in the same unit.
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
            "key": self.key, "channel": self.channel, "value": finite(self.value), "unit": self.unit, "at": dict(self.at),
            "floor": finite(self.floor), "spread": finite(self.spread), "cautions": [str(c) for c in self.cautions],
        }  # fmt: skip

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> Reading:
        cautions = tuple(Caution(c) for c in data["cautions"])
        return Reading(data["key"], data["channel"], data["value"], data["unit"], data["at"], data["floor"], data["spread"], cautions)


@dataclass(frozen=True, eq=False)
class Curve:
    """Numbers against an axis: x and y (points,); floor: None, or (points,) in the unit of y. Channels count from 1."""

    key: str
    channel: int
    x: Samples
    y: Samples
    x_unit: str
    y_unit: str
    floor: Samples | None = None
    meta: Mapping[str, float | str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "x", locked(self.x))
        object.__setattr__(self, "y", locked(self.y))
        if self.floor is not None:
            object.__setattr__(self, "floor", locked(self.floor))
        if self.x.shape != self.y.shape or self.x.ndim != 1:
            raise ValueError(f"curve {self.key}: x has shape {self.x.shape}, y {self.y.shape}")

    def to_json(self) -> dict[str, Any]:
        def listed(values: Samples | None) -> list[float | None] | None:
            return None if values is None else [finite(v) for v in values.tolist()]

        return {
            "key": self.key, "channel": self.channel, "x_unit": self.x_unit, "y_unit": self.y_unit,
            "x": listed(self.x), "y": listed(self.y), "floor": listed(self.floor), "meta": dict(self.meta),
        }  # fmt: skip


@dataclass(frozen=True)
class Result:
    """All that one run yields; ``cautions`` hold for the whole run, those of single readings stand with them."""

    curves: tuple[Curve, ...] = ()
    readings: tuple[Reading, ...] = ()
    cautions: tuple[Caution, ...] = ()

    def reading(self, key: str, channel: int = 1) -> Reading | None:
        return next((r for r in self.readings if r.key == key and r.channel == channel), None)

    def curve(self, key: str, channel: int = 1) -> Curve | None:
        return next((c for c in self.curves if c.key == key and c.channel == channel), None)


def finite(value: float | None) -> float | None:
    """The value, or None where JSON has no word for it."""
    return None if value is None or not math.isfinite(value) else float(value)


def unique(cautions: Iterable[Caution]) -> tuple[Caution, ...]:
    """Each caution once, in the order of first appearance."""
    return tuple(dict.fromkeys(cautions))


def with_caution(reading: Reading, *cautions: Caution) -> Reading:
    """The reading with further cautions."""
    return replace(reading, cautions=unique((*reading.cautions, *cautions)))
