"""Two arrivals of one sound in one signal, such as dry and processed mixed: both delays and levels, and the comb
that they make.

Found one after the other, then each again with the other taken out, until both stand still (space-alternating
estimation; Fessler, Hero 1994, from memory). Comb of two like signals: first null at 1/(2 tau), or at 1/tau where one
is turned over; depth 20 lg((1+g)/(1-g)).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.cross_correlation import refined_lag
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

_ROUNDS, _STILL = 12, 1e-6
_APART, _LEAST_DB = 0.0002, -36.0  # s; re the louder: nearer and fainter ones are the path's own ringing
_STANDS_OUT = 8.0


@dataclass(frozen=True)
class Arrivals:
    """first and second: delays in frames, the earlier first; gains: their factors, with sign."""

    first: float
    second: float
    gains: tuple[float, float]

    @property
    def apart(self) -> float:
        return self.second - self.first

    @property
    def level_db(self) -> float:
        """The later re the earlier."""
        return 20 * math.log10(abs(self.gains[1] / self.gains[0]))

    @property
    def null_frames(self) -> float:
        """The first null lies at the rate over this."""
        return self.apart * (2 if self.gains[0] * self.gains[1] > 0 else 1)

    @property
    def depth_db(self) -> float:
        """From the comb's peaks to its nulls."""
        g = min(abs(v) for v in self.gains) / max(abs(v) for v in self.gains)
        if g < 1:
            return 20 * math.log10((1 + g) / (1 - g))
        return math.inf


def two_arrivals(emitted: Samples, x: Samples, rate: float, band: tuple[float, float]) -> Arrivals | None:
    """Two arrivals of ``emitted`` in x (frames,), within the band in Hz; None when there is one only, or none."""
    # Step 1: spectra of what was sent and of what came back, in the band
    size = even_fast_len(x.size + emitted.size)
    a, b = transforms.rfft(emitted, size), transforms.rfft(x, size)
    f = np.arange(a.size) * (rate / size)
    inside = (f >= band[0]) & (f <= min(band[1], rate / 2))
    a[~inside] = 0
    b[~inside] = 0
    w = 2 * np.pi / size * np.arange(a.size)
    power = float(np.square(np.abs(a)).sum())
    if power <= 0 or not b.any():
        return None

    def found(rest: NDArray[np.complex128], near: float | None, away: float | None) -> tuple[float, float, float]:
        """Delay, gain and how far it stands out.

        The greatest, not within 0.2 ms of ``away``, or the one at ``near``.
        """
        # correlation of what is left with what was sent
        cross = rest * a.conj()
        shape = np.abs(transforms.irfft(cross, size))[: x.size]
        usual = math.sqrt(float(shape @ shape) / shape.size)
        if near is None:
            if away is not None:
                shape[max(0, round(away - _APART * rate)) : round(away + _APART * rate) + 1] = 0
            near = float(np.argmax(shape))
        lag, _ = refined_lag(cross, size, near)
        # least squares: the factor that takes most of it away
        gain = float((cross * np.exp(1j * w * lag)).real.sum()) / power
        return lag, gain, float(shape.max()) / usual if usual > 0 else 0.0

    def of(lag: float, gain: float) -> NDArray[np.complex128]:
        return np.asarray(gain * a * np.exp(-1j * w * lag))

    # Step 2: the greatest arrival; then the greatest of what is left without it
    one = found(b, None, None)
    two = found(b - of(*one[:2]), None, one[0])
    if two[2] < _STANDS_OUT or two[1] == 0 or 20 * math.log10(abs(two[1] / one[1])) < _LEAST_DB:
        return None
    # Step 3: each again without the other, until neither moves
    for _ in range(_ROUNDS):
        before = one[0], two[0]
        one = found(b - of(*two[:2]), one[0], None)
        two = found(b - of(*one[:2]), two[0], None)
        if abs(one[0] - before[0]) + abs(two[0] - before[1]) < _STILL:
            break
    early, late = sorted((one, two))
    if late[0] - early[0] > _APART * rate:
        return Arrivals(early[0], late[0], (early[1], late[1]))
    return None
