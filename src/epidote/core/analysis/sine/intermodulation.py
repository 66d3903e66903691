"""Two tones through a unit: both tones fitted, and every product of theirs read off what is left."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.quantisation import bits_of, follows_rounding, middle_of
from epidote.core.analysis.sine.sine_fit import fit_tone
from epidote.core.analysis.spectral.lines import lines_at, tone_of
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7 as WINDOW
from epidote.core.quantities.statistics import RAYLEIGH_MEDIAN
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples

_PASSES = 4
_STANDS_OUT = 10.0
_LEAST_APART = 9.0  # bins between a line and the next, so that the window tells them apart

Order = tuple[int, int]
SECOND: tuple[Order, ...] = ((-1, 1), (1, 1))  # multiples of f1 and of f2
THIRD_ABOUT_F2: tuple[Order, ...] = ((-2, 1), (2, 1))
THIRD_NEAR: tuple[Order, ...] = ((2, -1), (-1, 2))
HIGHER: tuple[Order, ...] = (
    (1, 2),
    (-3, 1),
    (3, 1),
    (-1, 3),
    (1, 3),
    (-2, 2),
    (2, 2),
    (-4, 1),
    (4, 1),
    (-2, 3),
    (3, -2),
    (2, 3),
    (3, 2),
    (-1, 4),
    (1, 4),
)
ALL: tuple[Order, ...] = (*SECOND, *THIRD_ABOUT_F2, *THIRD_NEAR, *HIGHER)


_BESIDE_LINE = 32  # bins to either side


@dataclass(frozen=True)
class TwoTones:
    """Two fitted tones and their products.

    frequencies in Hz. amplitudes: peaks of the tones. products: peak by multiples of f1 and f2, None above half the
    rate. spread: one standard deviation of a product's peak where most of the spectrum lies; spreads: of each product
    by the noise about it; tone_spreads: of both tones. undithered: the samples were rounded without dither.
    """

    frequencies: tuple[float, float]
    amplitudes: tuple[float, float]
    products: dict[Order, float | None]
    spread: float
    spreads: dict[Order, float]
    tone_spreads: tuple[float, float]
    undithered: bool

    def spread_of(self, orders: Sequence[Order]) -> float:
        """One standard deviation of a sum of products."""
        return math.sqrt(sum(self.spreads[o] ** 2 for o in orders))

    def ratio_of_sums(self, orders: Sequence[Order], reference: float) -> float | None:
        """Arithmetic sum of products over a reference; None where one of them lies above half the rate."""
        amplitudes = [self.products[o] for o in orders]
        if any(p is None for p in amplitudes):
            return None
        return sum(p for p in amplitudes if p is not None) / reference


def place(order: Order, f1: float, f2: float) -> float:
    """Frequency of a product in Hz."""
    return abs(order[0] * f1 + order[1] * f2)


def too_close(f1: float, f2: float, seconds: float) -> str:
    """Return what two tones' products would fall upon, in words; empty when they can be told apart."""
    least = _LEAST_APART / seconds
    lines = {"the lower tone": f1, "the upper tone": f2}
    for order in (*SECOND, *THIRD_ABOUT_F2, *THIRD_NEAR):
        where = place(order, f1, f2)
        for name, line in lines.items():
            if abs(where - line) < least:
                return f"A product at {where:g} Hz coincides with {name} at {line:g} Hz"
        if where < least:
            return f"A product at {where:g} Hz is too close to 0 Hz"
    return ""


def two_tones(x: Samples, rate: float, f1: float, f2: float) -> TwoTones | None:
    """X (frames,) taken apart; None when either tone is missing. Frequencies are found near the given ones."""
    rest = x - x.mean()
    frequencies = [f1, f2]
    own: list[Samples] = [np.zeros_like(rest), np.zeros_like(rest)]
    amplitudes = [0.0, 0.0]
    # each tone is fitted to what the other leaves; four passes bring both below rounding
    for _ in range(_PASSES):
        for i in (1, 0):
            alone = rest - own[1 - i]
            fit = fit_tone(alone, rate, frequencies[i], 5 if i == 0 else 1, 1)
            frequencies[i], amplitudes[i] = fit.frequency, abs(fit.amplitudes[0])
            if i == 1:
                own[i] = alone - fit.residual
            else:
                w = 2 * math.pi * fit.frequency / rate
                own[i] = tone_of(x.size, w, complex(fit.amplitudes[0]), (x.size - 1) / 2)
            sigma = fit.sigma
    if (
        abs(frequencies[0] / f1 - 1) > 0.02
        or abs(frequencies[1] / f2 - 1) > 0.02
        or min(amplitudes) <= _STANDS_OUT * sigma / math.sqrt(x.size)
    ):
        return None
    residual = rest - own[0] - own[1]
    weighted = WINDOW.weighted(residual)
    end = 0.5 * rate - _LEAST_APART * rate / x.size
    places = {o: place(o, *frequencies) for o in ALL}
    heights = lines_at(weighted, np.array(list(places.values())), rate)
    products = {o: float(height) if f < end else None for (o, f), height in zip(places.items(), heights, strict=True)}
    lines = np.abs(transforms.rfft(weighted))
    spreads = {o: _spread_near(lines, f * x.size / rate) for o, f in places.items()}
    # the window lets through more of the noise than a fit, which has none
    of_tones = [_spread_near(lines, f * x.size / rate) / math.sqrt(WINDOW.enbw) for f in frequencies]
    undithered = _is_undithered(middle_of(x), middle_of(residual), rate, frequencies)
    return TwoTones(
        (frequencies[0], frequencies[1]),
        (amplitudes[0], amplitudes[1]),
        products,
        _spread(lines),
        spreads,
        (of_tones[0], of_tones[1]),
        undithered,
    )


def _is_undithered(x: Samples, residual: Samples, rate: float, tones: Sequence[float]) -> bool:
    """Whether x (frames,) was rounded without dither; the products are taken out of its residual by least squares
    first.
    """
    if bits_of(x) is None:
        return False
    multiples = [(n, 0) for n in range(2, 6)] + [(0, n) for n in range(2, 6)]
    lines = np.array([f for order in (*ALL, *multiples) if 0 < (f := place(order, *tones)) < rate / 2])
    turns = 2 * np.pi / rate * np.outer(np.arange(x.size), lines)
    columns = np.hstack([np.cos(turns), np.sin(turns)])
    # by the normal equations, in half the time; lines that coincide make them singular, which lstsq bears
    coefficients = np.linalg.lstsq(columns.T @ columns, columns.T @ residual, rcond=None)[0]
    return follows_rounding(x, residual - columns @ coefficients) is not None


def _spread(lines: Samples) -> float:
    """Return the noise as the median of the windowed lines.

    Rayleigh's median is 1.177 of one component's standard deviation.
    """
    return float(np.median(lines)) / RAYLEIGH_MEDIAN


def _spread_near(lines: Samples, place: float) -> float:
    """Return the same of the lines beside a place in bins, those of its own main lobe left out."""
    centre, reach = round(place), _BESIDE_LINE + WINDOW.half_width
    near = WINDOW.half_width + 1
    # at the edge of a band of noise one side says nothing
    sides = (lines[max(1, centre - reach) : max(1, centre - near)], lines[centre + near : centre + reach])
    known = [_spread(side) for side in sides if side.size > near]
    if not known:
        return _spread(lines)
    return max(known)
