"""The quasi-peak detector of ITU-R BS.468-4: what a meter for audible noise indicates, which weighs short bursts
less than a peak meter and more than an RMS one.

The recommendation states how far the indication gets for tone bursts of 1 to 200 ms and for repeated ones; it states no
circuit. Here a follower that rises in 1.4 ms and falls in 266 ms feeds two more, a quick and a slow one, whose sum is
indicated. The time constants were fitted to the recommendation's two tables (from memory) and meet them within 0.1 dB;
its own tolerance is 1 to 2 dB.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from epidote.core.analysis.spectral.weighting import response_468
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends

FIRST = (1.43403e-3, 0.26558363)  # seconds to rise and to fall
QUICK = (2.42941e-3, 2.7149e-3)
SLOW = (0.20826107, 0.07225966)
QUICK_SHARE = 0.48367051
SETTLE = 0.8  # seconds until a steady sound is indicated
_FADE = 0.01  # s at either end
_ENOUGH_RATE = 40000.0  # of a rectified signal, for followers as slow as these


def indication(rectified: Samples, rate: float) -> Samples:
    """Return what the detector shows (frames,) for a rectified signal (frames,), in its unit.

    A steady sine shows ``steady_sine()`` of its peak.
    """

    def shares(times: tuple[float, float]) -> tuple[float, float]:
        return 1 - math.exp(-1 / (rate * times[0])), 1 - math.exp(-1 / (rate * times[1]))

    # share of the difference that each follower makes up in one sample
    (rise, fall), (quick_rise, quick_fall), (slow_rise, slow_fall) = map(shares, (FIRST, QUICK, SLOW))
    first = quick = slow = 0.0
    shown = []
    for value in rectified.tolist():
        # the first follower: quick up, slow down
        first += (value - first) * (rise if value > first else fall)
        # two more in parallel, whose sum is the meter's needle
        quick += (first - quick) * (quick_rise if first > quick else quick_fall)
        slow += (first - slow) * (slow_rise if first > slow else slow_fall)
        shown.append(QUICK_SHARE * quick + (1 - QUICK_SHARE) * slow)
    return np.asarray(shown)


_PARTS, _PART = 24, 0.4  # at most; s, several times what the detector remembers


@lru_cache(maxsize=1)
def steady_sine() -> float:
    """Return what the detector shows of a steady sine of amplitude 1."""
    rate = 48000.0
    sine = np.abs(np.sin(2 * np.pi * 997.0 / rate * np.arange(round(1.5 * rate))))
    return float(indication(sine, rate)[-4800:].mean())


def weighted(x: Samples, rate: float) -> Samples:
    """X (frames,) through the 468 weighting, with room for what it adds."""
    size = transforms.next_fast_len(x.size + round(0.05 * rate), real=True)
    spectrum = transforms.rfft(x, size)
    spectrum *= response_468(np.asarray(transforms.rfftfreq(size, 1 / rate), dtype=np.float64))
    return np.asarray(transforms.irfft(spectrum, size)[: x.size])


@dataclass(frozen=True)
class QuasiPeak:
    """greatest: the highest indication, as the meter is read; mean: the average one.

    Both as the RMS value of a sine that reads the same; standard deviations of both in dB, of a steady sound, None for
    a record that is too short to tell.
    """

    greatest: float
    mean: float
    greatest_spread_db: float | None
    mean_spread_db: float | None


def quasi_peak(x: Samples, rate: float) -> QuasiPeak:
    """Of noise x (frames,), weighted. The mean is taken once a steady sound is indicated in full."""
    # a rectified signal has little above the followers' own speed: every second or fourth sample will do
    step = max(1, int(rate / _ENOUGH_RATE))
    faded = x.copy()
    # a record that begins within a sound begins with a step, which the weighting would make a click of
    fade_ends(faded, min(round(_FADE * rate), x.size // 4))
    shown = indication(np.abs(weighted(faded, rate))[::step], rate / step)
    # without the needle's rise at the beginning
    settled = shown[min(round(SETTLE * rate / step), shown.size // 2) :]
    sine = steady_sine() * math.sqrt(2)
    return QuasiPeak(float(shown.max()) / sine, float(settled.mean()) / sine, *_spreads(settled, rate / step))


def _spreads(settled: Samples, rate: float) -> tuple[float | None, float | None]:
    """Of the greatest indication and of the mean, from how those of equal parts differ.

    The greatest of a part scatters as much as that of the whole: it lies lower, but not closer together (Gumbel's
    distribution).
    """
    count = min(_PARTS, int(settled.size / (_PART * rate)))
    if count < 4 or not settled.any():
        return None, None
    parts = settled[: settled.size // count * count].reshape(count, -1)
    greatest, mean = parts.max(axis=1), parts.mean(axis=1)
    of_greatest = float(greatest.std(ddof=1)) / float(settled.max())
    of_mean = float(mean.std(ddof=1)) / math.sqrt(count) / float(settled.mean())
    return DB_PER_NEPER * of_greatest, DB_PER_NEPER * of_mean
