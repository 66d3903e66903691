"""The threshold of hearing, and which components of a spectrum lie above it at a stated playback level.

Threshold: ISO 226:2003, table 1, T_f for the free field, binaural listening (from memory, cross-checked as ../shared
reference 03 tells). Between its frequencies it is taken straight over log frequency; there is none beyond 20 Hz and
12.5 kHz. It is that of young people with good hearing, tone by tone in silence: masking by louder sound is left out, so
what lies above it need not be heard.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples

FREQUENCIES = 1000 * 10 ** (np.arange(-17, 12) / 10)
THRESHOLD_DB_SPL = np.array(
    [
        78.5,
        68.7,
        59.5,
        51.1,
        44.0,
        37.5,
        31.5,
        26.5,
        22.1,
        17.9,
        14.4,
        11.4,
        8.6,
        6.2,
        4.4,
        3.0,
        2.2,
        2.4,
        3.5,
        1.7,
        -1.3,
        -4.2,
        -6.0,
        -5.4,
        -1.5,
        6.0,
        12.6,
        13.9,
        12.3,
    ]
)
_STANDS_OUT_DB, _MOST = 12.0, 40


@dataclass(frozen=True)
class Component:
    """A line of a spectrum: frequency in Hz, level in dB SPL as it would arrive, and by how much that is above the
    threshold.
    """

    frequency: float
    level: float
    above: float


def threshold(frequency: Samples) -> Samples:
    """DB SPL (points,) at frequencies in Hz; NaN where the standard gives none."""
    f = np.asarray(frequency, dtype=np.float64)
    inside = (f >= FREQUENCIES[0] * 0.999) & (f <= FREQUENCIES[-1] * 1.001)
    level = np.interp(np.log(np.maximum(f, 1e-6)), np.log(FREQUENCIES), THRESHOLD_DB_SPL)
    return np.where(inside, level, np.nan)


def audible_components(levels: Samples, bin_width: float, spl_of_zero: float) -> list[Component]:
    """Return the lines of a spectrum ``levels`` (bins,) in dB, loudest against the threshold first.

        ``spl_of_zero``: dB SPL of 0 dB at the listener.

    A line is a bin higher than its neighbours that stands 12 dB above what surrounds it.
    """
    f: Samples = np.arange(levels.size, dtype=np.float64) * np.float64(bin_width)
    hearing = threshold(f)
    peak = np.zeros(levels.size, bool)
    peak[2:-2] = (levels[2:-2] >= levels[1:-3]) & (levels[2:-2] > levels[3:-1])
    candidates = np.flatnonzero(peak & np.isfinite(hearing))
    excess = levels[candidates] + spl_of_zero - hearing[candidates]
    components: list[Component] = []
    for i in candidates[np.argsort(-excess)][:400]:
        around = levels[max(0, i - 40) : i + 41]
        if levels[i] - float(np.median(around)) < _STANDS_OUT_DB:
            continue
        if any(abs(c.frequency - f[i]) < 6 * bin_width for c in components):
            continue
        components.append(
            Component(float(f[i]), float(levels[i] + spl_of_zero), float(levels[i] + spl_of_zero - hearing[i]))
        )
        if len(components) >= _MOST:
            break
    return components


def audibility_sentence(components: list[Component], spl_of_zero: float) -> str:
    """Return what would be heard, in a sentence."""
    above = [c for c in components if c.above > 0]
    where = f"With 0 dB = {spl_of_zero:g} dB SPL at the listener"
    if not above:
        nearest = ""
        if components:
            nearest = f"; the closest is {_hz(components[0].frequency)}, {-components[0].above:.0f} dB below"
        return f"{where}, no component exceeds the threshold of hearing{nearest}."
    named = ", ".join(f"{_hz(c.frequency)} by {c.above:.0f} dB" for c in above[:5])
    if len(above) > 5:
        more = f" and {len(above) - 5} more"
    else:
        more = ""
    return f"{where}, above the threshold of hearing: {named}{more}."


def _hz(f: float) -> str:
    rounded = float(f"{f:.3g}")  # a line's place is known to a bin
    if rounded >= 1000:
        return f"{rounded / 1000:g} kHz"
    return f"{rounded:g} Hz"
