"""What a run yields: curves, readings, and the reasons to trust them less."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from epidote.core.results.caution import Caution, unique
from epidote.core.results.channels import channel_key
from epidote.core.results.reading import Reading, finite
from epidote.core.signals.signal import Samples, as_readonly


@dataclass(frozen=True, eq=False)
class Curve:
    """Numbers against an axis: x and y (points,); floor: None, or (points,) in the unit of y. Channels count from 1;
    see ``channels`` for averages."""

    key: str
    channel: int
    x: Samples
    y: Samples
    x_unit: str
    y_unit: str
    floor: Samples | None = None
    meta: Mapping[str, float | str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "x", as_readonly(self.x))
        object.__setattr__(self, "y", as_readonly(self.y))
        if self.floor is not None:
            object.__setattr__(self, "floor", as_readonly(self.floor))
        if self.x.shape != self.y.shape or self.x.ndim != 1:
            raise ValueError(f"curve {self.key}: x has shape {self.x.shape}, y {self.y.shape}")

    def to_json(self) -> dict[str, Any]:
        def listed(values: Samples | None) -> list[float | None] | None:
            if values is None:
                return None
            numbers: list[float | None] = values.tolist()
            if np.isfinite(values).all():
                return numbers
            return [finite(number) for number in numbers]

        return {
            "key": self.key,
            "channel": channel_key(self.channel),
            "x_unit": self.x_unit,
            "y_unit": self.y_unit,
            "x": listed(self.x),
            "y": listed(self.y),
            "floor": listed(self.floor),
            "meta": dict(self.meta),
        }


@dataclass(frozen=True)
class Result:
    """All that one run yields; ``cautions`` hold for the whole run, those of single readings stand with them."""

    curves: tuple[Curve, ...] = ()
    readings: tuple[Reading, ...] = ()
    cautions: tuple[Caution, ...] = ()

    def reading(self, key: str, channel: int = 1) -> Reading | None:
        return next((r for r in self.readings if r.key == key and r.channel == channel), None)

    def curve(self, key: str, channel: int = 1, x_unit: str | None = None) -> Curve | None:
        """Return the first of that key and channel, against the axis in ``x_unit`` where it stands against several."""
        return next(
            (c for c in self.curves if c.key == key and c.channel == channel and x_unit in (None, c.x_unit)), None
        )


def curve_fault(curve: Curve) -> str:
    """Why a curve cannot be drawn or compared, in words, or "": the one place where curves from anywhere are
    checked.
    """
    if curve.x.size == 0:
        return "it has no points"
    if curve.floor is not None and curve.floor.shape != curve.y.shape:
        return "its floor has another length"
    for values in (curve.x, curve.y, *([curve.floor] if curve.floor is not None else [])):
        if not bool(np.isfinite(values).all()):
            return "it has values that are not numbers"
    if not bool((np.diff(curve.x) > 0).all()):
        return "its x values do not rise"
    if curve.x_unit == "Hz" and curve.x[0] < 0:
        return "it has frequencies below 0"
    return ""


def sound_curve(curve: Curve) -> Curve | None:
    """Return the curve without the points for which it could not be drawn; None when none are left."""
    if not curve_fault(curve):
        return curve
    if curve.x.size == 0 or (curve.floor is not None and curve.floor.shape != curve.y.shape):
        return None
    keep = np.isfinite(curve.x) & np.isfinite(curve.y)
    if curve.floor is not None:
        keep &= np.isfinite(curve.floor)
    if curve.x_unit == "Hz":
        keep &= curve.x >= 0
    before = np.maximum.accumulate(np.where(keep, curve.x, -np.inf))
    keep[1:] &= curve.x[1:] > before[:-1]
    if not bool(keep.any()):
        return None
    return replace(curve, x=curve.x[keep], y=curve.y[keep], floor=None if curve.floor is None else curve.floor[keep])


def encode_annotations(places: Iterable[tuple[float, str]]) -> str:
    """Return what stands where on a curve's axis, for its ``meta["marks"]``."""
    return ";".join(f"{x:.10g} {name}" for x, name in places)


def annotations_of(curve: Curve) -> list[tuple[float, str]]:
    """Return the places and names that ``marks_of`` wrote."""
    parts = (m.partition(" ") for m in str(curve.meta.get("marks", "")).split(";") if m)
    return [(float(x), name) for x, _, name in parts]


def with_caution(reading: Reading, *cautions: Caution) -> Reading:
    """Return the reading with further cautions."""
    return replace(reading, cautions=unique((*reading.cautions, *cautions)))
