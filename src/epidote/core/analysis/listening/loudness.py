"""Loudness by ITU-R BS.1770 (from memory; its coefficients at 48 kHz checked), range by EBU Tech 3342, true peak.

K-weighting is made for every rate by the bilinear transform of the filter that the printed coefficients stand for. The
printed high-pass has a numerator 1, -2, 1 that is not of unity gain; at other rates it is scaled so that its gain at
high frequencies stays the same (docs/methods.md, Loudness).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import signal as sp

from epidote.core.signals.signal import Samples

_OFFSET = -0.691  # LUFS: BS.1770, annex 1, (2)
_SHELF = (1681.974450955533, 3.999843853973347, 0.7071752369554196)  # Hz, dB, Q
_HIGH_PASS = (38.13547087602444, 0.5003270373238773)  # Hz, Q
_SHELF_SHAPE = 0.4996667741545416
_PRINTED_RATE = 48000.0
_LEAST_RATE = 44000.0
_WINDOW = ("kaiser", 9.0)  # of the filter that raises a rate: its ripple is below 0.0002 dB
_WEIGHTS = {5: (1.0, 1.0, 1.0, 1.41, 1.41), 6: (1.0, 1.0, 1.0, 0.0, 1.41, 1.41)}  # L R C (LFE) Ls Rs
_BLOCK, _SHORT, _HOP = 0.4, 3.0, 0.1  # s
_ABSOLUTE, _RELATIVE, _RELATIVE_RANGE = -70.0, -10.0, -20.0  # LUFS, LU
_LOW_SHARE, _HIGH_SHARE = 10.0, 95.0  # % of the short-term loudness that the range spans


@dataclass(frozen=True)
class Loudness:
    """integrated, momentary_max, short_term_max in LUFS; true_peak in dB re full scale; range in LU. None where there
    is too little sound, or none above the gate.
    """

    integrated: float | None
    momentary_max: float | None
    short_term_max: float | None
    true_peak: float | None
    range: float | None


@lru_cache(maxsize=8)
def k_weighting(rate: float) -> Samples:
    """Return both filters as second-order sections (2, 6) for a rate in Hz."""
    f, gain, q = _SHELF
    k, high = math.tan(math.pi * f / rate), 10 ** (gain / 20)
    band = high**_SHELF_SHAPE
    a0 = 1 + k / q + k * k
    shelf = [
        (high + band * k / q + k * k) / a0,
        2 * (k * k - high) / a0,
        (high - band * k / q + k * k) / a0,
        1.0,
        2 * (k * k - 1) / a0,
        (1 - k / q + k * k) / a0,
    ]
    f, q = _HIGH_PASS
    k = math.tan(math.pi * f / rate)
    a0 = 1 + k / q + k * k
    printed = math.tan(math.pi * f / _PRINTED_RATE)
    scale = (1 + printed / q + printed * printed) / a0
    high_pass = [scale, -2 * scale, scale, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]
    return np.array([shelf, high_pass])


def channel_weights(channels: int) -> Samples:
    """Return the weight of each channel's power (channels,): of five and six by BS.1770, else 1."""
    return np.array(_WEIGHTS.get(channels, (1.0,) * channels))


def measure_loudness(samples: Samples, rate: float, *, with_peak: bool = True) -> Loudness:
    """Return the loudness of samples (frames, channels) in FS, 0 dBFS being a full-scale sine's peak of 1.

    with_peak: whether the true peak is looked for, which takes most of the time.
    """
    powers = weighted_powers(samples, rate)
    momentary = _over(powers, _BLOCK)
    short = _over(powers, _SHORT)
    return Loudness(
        _integrated(momentary),
        _greatest(momentary),
        _greatest(short),
        true_peak(samples, rate) if with_peak else None,
        _range(short),
    )


def weighted_powers(samples: Samples, rate: float) -> Samples:
    """Return the K-weighted power, summed over channels, of each tenth of a second (tenths,)."""
    # at low rates the bilinear transform bends the shelf: they are raised first
    factor = max(1, math.ceil(_LEAST_RATE / rate))
    hop = round(_HOP * rate) * factor
    count = samples.shape[0] * factor // hop
    sections, weights = k_weighting(rate * factor), channel_weights(samples.shape[1])
    total = np.zeros(count)
    for channel, weight in enumerate(weights.tolist()):
        if weight > 0:
            x = samples[:, channel]
            raised = sp.resample_poly(x, factor, 1, window=_WINDOW) if factor > 1 else x
            filtered = sp.sosfilt(sections, raised)[: count * hop]
            total += weight * np.square(filtered).reshape(count, hop).mean(axis=1)
    return total


def _over(powers: Samples, seconds: float) -> Samples:
    """Return mean powers of overlapping blocks (blocks,), a tenth of a second apart."""
    width = round(seconds / _HOP)
    if powers.size < width:
        return np.empty(0)
    cumulative = np.concatenate([[0.0], np.cumsum(powers)])
    return np.asarray(np.maximum((cumulative[width:] - cumulative[:-width]) / width, 0.0))


def in_lufs(power: float) -> float:
    """Return a K-weighted power, summed over channels, in LUFS."""
    return _OFFSET + 10 * math.log10(max(power, 1e-30))


def _gated(powers: Samples, relative: float) -> Samples:
    """Return the powers of blocks above the absolute gate and the relative one (BS.1770, annex 1, (4) to (7))."""
    above = powers[powers > 10 ** ((_ABSOLUTE - _OFFSET) / 10)]
    if not above.size:
        return above
    return np.asarray(above[above > above.mean() * 10 ** (relative / 10)])


def _integrated(momentary: Samples) -> float | None:
    kept = _gated(momentary, _RELATIVE)
    if not kept.size:
        return None
    return in_lufs(float(kept.mean()))


def _greatest(powers: Samples) -> float | None:
    if not powers.size or not powers.max() > 0:
        return None
    return in_lufs(float(powers.max()))


def _range(short: Samples) -> float | None:
    """Return the loudness range (EBU Tech 3342): between the 10th and 95th percentile of the short-term loudness."""
    kept = _gated(short, _RELATIVE_RANGE)
    if not kept.size:
        return None
    low, high = np.percentile(10 * np.log10(kept), [_LOW_SHARE, _HIGH_SHARE])
    return float(high - low)


def true_peak(samples: Samples, rate: float) -> float | None:
    """Return the greatest magnitude between samples in dB re full scale, at 192 kHz at least (BS.1770, annex 2)."""
    factor = max(1, math.ceil(192000 / rate - 1e-9)) if rate < 192000 else 1
    peak = 0.0
    for channel in range(samples.shape[1]):
        for part in _parts(samples[:, channel], rate):
            raised = sp.resample_poly(part, factor, 1, window=_WINDOW) if factor > 1 else part
            peak = max(peak, float(np.abs(raised).max(initial=0.0)))
    if peak <= 0:
        return None
    return 20 * math.log10(peak)


def _parts(x: Samples, rate: float) -> Sequence[Samples]:
    """Return x (frames,) in overlapping parts, so that raising its rate needs little memory."""
    size, over = round(10 * rate), 256
    return [x[max(0, first - over) : first + size + over] for first in range(0, max(1, x.size), size)]
