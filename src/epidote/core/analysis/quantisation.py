"""Whether a recording was rounded to steps without dither: then what is left of a tone is no noise, but follows the
tone.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples

_LOOKED_AT = 32768  # frames
_FEWEST_BITS, _MOST_BITS = 6, 24
_FOLLOWS = 0.5  # correlation: 0.93 to 0.99 without dither, below 0.01 with it or of an analogue tone
# a sine of a steps that is rounded has its lines moved by this over sqrt(a) steps, rms (tried out; Bessel series of the
# staircase)
_LINE_ERROR = 0.222
_SHORT_PERIOD = 4096  # frames


@dataclass(frozen=True)
class Undithered:
    """bits: of the steps.

    line_spread: by how much these move a line's peak amplitude, rms, in FS; coherent: the tone repeats before it has
    gone through many different roundings, so that its error is one fixed pattern and no chance.
    """

    bits: int
    line_spread: float
    coherent: bool


def undithered_in(x: Samples, residual: Samples, frequency: float, amplitude: float) -> Undithered | None:
    """X (frames,) and what a fitted tone leaves of it; ``frequency`` in cycles per frame, ``amplitude`` its peak in FS.

    None for what was dithered, was analogue, or is as fine as floating point.
    """
    bits = follows_rounding(x, residual)
    if bits is None:
        return None
    step = 2.0 ** (1 - bits)
    return Undithered(
        bits, _LINE_ERROR * step / math.sqrt(max(amplitude / step, 1.0)), _repeats(frequency, amplitude / step, x.size)
    )


def follows_rounding(x: Samples, residual: Samples) -> int | None:
    """Return the bits of the steps to which x (frames,) was rounded without dither.

    ``residual``: what its tones leave of it; None as above.
    """
    # a few ten thousand samples tell
    part, left = middle_of(x), middle_of(residual)
    bits = bits_of(part)
    if bits is None:
        return None
    step = 2.0 ** (1 - bits)
    # what the tone alone would have been rounded by
    tone = part - left
    error = np.round(tone / step) * step - tone
    # normalised correlation of the predicted rounding error with what is really left
    size = math.sqrt(float(error @ error) * float(left @ left))
    if size == 0 or float(error @ left) < _FOLLOWS * size:
        return None
    return bits


def middle_of(x: Samples) -> Samples:
    """Return the part of x (frames,) that is looked at."""
    first = max(0, (x.size - _LOOKED_AT) // 2)
    return x[first : first + _LOOKED_AT]


def bits_of(x: Samples) -> int | None:
    """Return the least number of bits that hold all samples (frames,) of a full scale of 1.

    None beyond 24, and for what exceeds full scale.
    """
    if float(np.abs(x).max(initial=0.0)) > 1.0:
        return None
    # as integers of 24 bits: exact for every shorter word
    scaled = x * 2.0 ** (_MOST_BITS - 1)
    whole = np.rint(scaled)
    if not np.array_equal(whole, scaled):
        return None
    # the lowest bit that any sample uses tells the word length
    joined = int(np.bitwise_or.reduce(np.abs(whole).astype(np.int64)))
    if joined == 0:
        return None
    unused = (joined & -joined).bit_length() - 1
    return max(_FEWEST_BITS, _MOST_BITS - unused)


def _repeats(frequency: float, steps: float, frames: int) -> bool:
    """Whether a tone of ``steps`` steps meets the same roundings again within a short period, and keeps doing so
    over the record.
    """
    # after how many frames the tone meets itself again, and how far it slips over the record
    periods = np.arange(1, min(_SHORT_PERIOD, frames // 2))
    slip = np.abs(periods * frequency - np.round(periods * frequency)) * frames / periods
    # a shift by this share of a cycle moves the steepest part of the tone by one step
    return bool(np.any(slip < 1 / (2 * math.pi * max(steps, 1.0))))
