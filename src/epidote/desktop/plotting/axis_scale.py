"""Axes: from numbers to places and back, and where the labels stand."""

from __future__ import annotations

import math
from dataclasses import dataclass

_LEAST_LABELS = 2  # one alone does not say how far apart values are


@dataclass(frozen=True)
class Scale:
    """A stretch of numbers from low to high on a line, linear or logarithmic."""

    low: float
    high: float
    log: bool = False

    def place(self, value: float) -> float:
        """0 at low, 1 at high."""
        if self.log:
            return math.log(max(value, 1e-300) / self.low) / math.log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)

    def value(self, place: float) -> float:
        if self.log:
            return self.low * math.pow(self.high / self.low, place)
        return self.low + place * (self.high - self.low)

    def ends(self) -> tuple[float, float]:
        """Low and high as they lie along the line: logarithms where it is logarithmic."""
        if self.log:
            return (math.log(self.low), math.log(self.high))
        return (self.low, self.high)

    def moved(self, share: float) -> Scale:
        return Scale(self.value(share), self.value(1 + share), self.log)

    def zoomed(self, factor: float, about: float) -> Scale:
        """Return the stretch ``factor`` times as long, the place ``about`` (0 to 1) staying where it is."""
        return Scale(self.value(about - about * factor), self.value(about + (1 - about) * factor), self.log)

    def within(self, least: float, most: float) -> Scale:
        """Not beyond what there is to see, and not closer than makes sense."""
        low, high = max(self.low, least), min(self.high, most)
        if self.log and low > 0:
            close = high / low < 1.01
        else:
            close = high - low < 1e-9 * max(abs(low), abs(high), 1e-12)
        if close:
            return self
        return Scale(low, high, self.log)


def ticks(scale: Scale, room: int) -> list[tuple[float, bool]]:
    """Grid lines (value, labelled) for about ``room`` labels: 1-2-5 steps within decades on logarithmic axes."""
    if not scale.log:
        values = linear_ticks(scale.low, scale.high, room)
        if len(values) < _LEAST_LABELS:
            values = linear_ticks(scale.low, scale.high, room + 2)
        return [(v, True) for v in values]
    decades = math.log10(scale.high / scale.low)
    if decades < 0.7:
        return [(v, True) for v in linear_ticks(scale.low, scale.high, room)]
    if 3 * decades <= room * 1.2:
        labelled = {1, 2, 5}
    else:
        labelled = {1}
    result = []
    for exponent in range(math.floor(math.log10(scale.low)), math.ceil(math.log10(scale.high)) + 1):
        for digit in range(1, 10):
            value = digit * 10.0**exponent
            if scale.low * (1 - 1e-9) <= value <= scale.high * (1 + 1e-9):
                result.append((value, digit in labelled))
    return result


def linear_ticks(low: float, high: float, room: int) -> list[float]:
    """Round values between low and high, at most about ``room`` of them."""
    span = high - low
    if span <= 0 or not math.isfinite(span):
        return []
    raw = span / max(1, room)
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(power * m for m in (1, 2, 5, 10) if power * m >= raw * 0.999)
    first = math.ceil(low / step - 1e-9)
    return [
        round(i * step, 12 - math.floor(math.log10(step))) for i in range(first, math.floor(high / step + 1e-9) + 1)
    ]


def nice_range(low: float, high: float, least_span: float) -> tuple[float, float]:
    """Return a little room above and below, ending on round values."""
    if high - low < least_span:
        middle = (low + high) / 2
        low, high = middle - least_span / 2, middle + least_span / 2
    pad = 0.06 * (high - low)
    low, high = low - pad, high + pad
    step = 10.0 ** math.floor(math.log10(high - low)) / 2
    return math.floor(low / step) * step, math.ceil(high / step) * step
