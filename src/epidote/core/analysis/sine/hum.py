"""Mains hum that lies on a tone or on one of its harmonics, where it cannot be told from them: judged by the mains'
other lines.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.sine.tone import ToneAnalysis
from epidote.core.analysis.spectral.spectrum import MAINS, MAINS_ORDERS
from epidote.core.analysis.spectral.windows import HANN
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples

_HIDDEN = 4.0  # bins from a harmonic within which a line cannot be read
_ON_IT = 2.0  # bins within which it acts on the harmonic
_CLEAR = 6.0  # times the lines beside it
_FINER = 4  # bins of the transform to one of the record
MOVES_DB = 0.1


@dataclass(frozen=True)
class MainsSeen:
    """The mains' lines in what a tone leaves: mains in Hz, and peak amplitude by order (orders,): 0 where none is
    clear, NaN where one is hidden.
    """

    mains: float
    amplitudes: tuple[float, ...]


def mains_seen(c: ToneAnalysis) -> tuple[MainsSeen, ...]:
    """Return what the residual of a tone shows of the mains at 50 Hz and at 60 Hz."""
    return mains_lines(c.fit.residual, c.rate, lambda line: max(1, round(line / c.fit.frequency)) * c.fit.frequency)


def mains_lines(residual: Samples, rate: float, nearest: Callable[[float], float]) -> tuple[MainsSeen, ...]:
    """Return the same of any residual (frames,).

    ``nearest``: frequency in Hz of the component that was taken out nearest to a line.
    """
    width = rate / residual.size
    lines = np.abs(transforms.rfft(HANN.weighted(residual), _FINER * residual.size))

    def size_at(frequency: float) -> float:
        return float(lines[round(frequency / width * _FINER)])

    strongest = []
    for mains in MAINS:
        sizes = []
        for order in range(1, MAINS_ORDERS + 1):
            line = order * mains
            if (
                abs(line - nearest(line)) < _HIDDEN * width
                or line < _HIDDEN * width
                or line > rate / 2 - _HIDDEN * width
            ):
                sizes.append(math.nan)
                continue
            size = size_at(line)
            neighbours = float(np.median([size_at(line + k * width) for k in (-3.5, -2.5, 2.5, 3.5)]))
            sizes.append(size if size > _CLEAR * neighbours else 0.0)
        strongest.append(MainsSeen(mains, tuple(sizes)))
    return tuple(strongest)


def may_meet_hum(frequency: float, harmonics: int, width: float) -> bool:
    """Whether a tone or one of its harmonics lies on a line of the mains."""
    return any(_order_at(n * frequency, mains, width) is not None for mains in MAINS for n in range(1, harmonics + 1))


def _order_at(frequency: float, mains: float, width: float) -> int | None:
    """Which of the mains' lines acts on a component at a frequency in Hz; None where none does."""
    order = round(frequency / mains)
    if 1 <= order <= MAINS_ORDERS and abs(order * mains - frequency) <= _ON_IT * width:
        return order
    return None


def hum_on(frequency: float, width: float, order: int, seen: Sequence[MainsSeen]) -> float:
    """Peak amplitude of the hum that may lie on a harmonic of a tone.

    ``seen``: in this record and in others of the same chain.

        ``width`` of a bin in Hz. Of a line that is hidden wherever it was looked for, the greatest of the others.
    """
    most = 0.0
    for mains in {one.mains for one in seen}:
        number = _order_at(order * frequency, mains, width)
        if number is None:
            continue
        rows = np.array([one.amplitudes for one in seen if one.mains == mains])
        # a line that most of the records show; of noise one may pass for one
        by_order = [
            float(np.median(column[np.isfinite(column)])) if np.isfinite(column).any() else math.nan
            for column in rows.T
        ]
        own = by_order[number - 1]
        seen_elsewhere = max((size for size in by_order if not math.isnan(size)), default=0.0)
        most = max(most, seen_elsewhere if math.isnan(own) else own)
    return most


def hum_moves(amplitude: float, hum: float) -> bool:
    """Whether hum on a component of this peak amplitude may change it by more than 0.1 dB."""
    return hum > (10 ** (MOVES_DB / 20) - 1) * amplitude


def hum_in_harmonics(c: ToneAnalysis, seen: Sequence[MainsSeen]) -> bool:
    """Whether hum may change a tone or its harmonics together by more than 0.1 dB."""
    return hum_included(c.fit.frequency, c.rate / c.frames, np.abs(c.fit.amplitudes).tolist(), seen)


def hum_included(frequency: float, width: float, sizes: Sequence[float], seen: Sequence[MainsSeen]) -> bool:
    """Return the same from peak amplitudes of the tone and its harmonics, 0 where one does not count.

    ``width`` of a bin in Hz.
    """
    hums = [hum_on(frequency, width, n, seen) if size > 0 else 0.0 for n, size in enumerate(sizes, start=1)]
    of_harmonics, together = math.hypot(*hums[1:]), math.hypot(*sizes[1:])
    return hum_moves(sizes[0], hums[0]) or (of_harmonics > 0 and hum_moves(together, of_harmonics))
