"""How much the levels of several places differ: in each band the range over all of them, and who lies farthest off.

The deviation in a band is that of the greatest level from the least of all places; it is what a listener who changes
places hears at most (docs/methods.md, Uniformity).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from epidote.core.errors import UnusableInputError
from epidote.core.results.result import Curve

_SAME_X = 1e-6  # of it
_CLEAR_DB = 3.0  # over the background


@dataclass(frozen=True)
class BandDeviation:
    """One band: greatest and least level in dB, their difference, and the places where they are; near_background:
    whether a level is less than 3 dB above its background, so that the band does not count.
    """

    frequency: float
    greatest: float
    least: float
    greatest_at: str
    least_at: str
    near_background: bool

    @property
    def deviation(self) -> float:
        return self.greatest - self.least


@dataclass(frozen=True)
class Uniformity:
    """bands by frequency; worst: the place farthest from the median in the band of the largest deviation;
    mean_deviation: of the bands in dB, the lower the more uniform; spread: root mean square in dB of the deviations
    of all places from their mean, band by band.
    """

    bands: tuple[BandDeviation, ...]
    worst: str
    worst_frequency: float
    largest: float
    mean_deviation: float
    spread: float


def uniformity(levels: Mapping[str, Curve], low: float | None = None, high: float | None = None) -> Uniformity:
    """Compare levels in dB by the name of their place, between low and high in Hz.

    Raises UnusableInputError for fewer than two places, for curves of other bands or units, and for an empty band.
    """
    names, curves = list(levels), list(levels.values())
    if len(curves) < 2:
        raise UnusableInputError("Uniformity needs at least two measured rows. Measure another one, or select more.")
    first = curves[0]
    if any(c.y_unit != first.y_unit for c in curves):
        units = ", ".join(dict.fromkeys(c.y_unit for c in curves))
        raise UnusableInputError(
            f"The levels have different units ({units}) and cannot be compared. Calibrate the chain for all rows, or"
            " for none."
        )
    if any(c.x.size != first.x.size or not np.allclose(c.x, first.x, rtol=_SAME_X) for c in curves):
        raise UnusableInputError(
            "The rows were measured in different bands. Use the same bandwidth and limits for all."
        )
    inside = (first.x >= (low or 0.0)) & (first.x <= (high or np.inf))
    if not inside.any():
        raise UnusableInputError(f"No band lies between {low:g} and {high:g} Hz. Use other limits.")
    x = first.x[inside]
    y = np.array([c.y[inside] for c in curves])
    greatest, least = y.argmax(axis=0), y.argmin(axis=0)
    near = np.any([c.y[inside] < c.floor[inside] + _CLEAR_DB for c in curves if c.floor is not None], axis=0)
    near = np.broadcast_to(near, x.shape)
    bands = tuple(
        BandDeviation(float(x[b]), float(y[g, b]), float(y[s, b]), names[g], names[s], bool(near[b]))
        for b, (g, s) in enumerate(zip(greatest, least, strict=True))
    )
    counted = ~near if not near.all() else np.ones(x.size, bool)
    deviations = np.array([band.deviation for band in bands])
    at = int(np.where(counted, deviations, -1.0).argmax())
    # of two places as far from the median, the quieter one: something is missing there
    distance = np.abs(y[:, at] - np.median(y[:, at]))
    farthest = np.flatnonzero(distance >= distance.max() * (1 - 1e-12))
    worst = min(farthest, key=lambda row: y[row, at])
    return Uniformity(
        bands,
        names[worst],
        float(x[at]),
        float(deviations[at]),
        float(deviations[counted].mean()),
        float(np.sqrt(np.mean(np.square((y - y.mean(axis=0))[:, counted])))),
    )


def varying_conditions(conditions: Mapping[str, Mapping[str, str]], over: str) -> tuple[str, ...]:
    """Return the conditions besides ``over`` in which places differ, by the conditions of each by name."""
    names = dict.fromkeys(n for own in conditions.values() for n in own if n != over)
    return tuple(n for n in names if len({own.get(n, "") for own in conditions.values()}) > 1)
