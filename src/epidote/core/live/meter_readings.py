"""The large figures of a live view: level, crest, A-weighted level, frequency and THD+N of the last fifth of a
second.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.listening.phase_relation import phase_relation
from epidote.core.analysis.sine.sine_fit import fit_tone
from epidote.core.analysis.spectral.spectrum import band_power, mean_squares, peak_near, windowed_mean_squares
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spectral.windows import HANN, windowed_power
from epidote.core.quantities.units import to_db
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import trim_to_fast_length

BAND = (20.0, 20000.0)
_TONE_CLEAR_DB = 10.0  # a tone is named when it holds ten times the power of all else


@dataclass(frozen=True)
class Figures:
    """One channel.

    rms, peak in FS terms: dBFS; crest in dB; weighted: A, dBFS; frequency in Hz and thd_n in dB, None without a clear
    tone.
    """

    rms: float
    peak: float
    crest: float | None
    weighted: float
    frequency: float | None
    thd_n: float | None

    @property
    def headroom(self) -> float:
        """From the greatest sample to full scale, in dB."""
        return -self.peak


@dataclass(frozen=True)
class TwoChannels:
    """How the first two channels go together. correlation: from -1 to 1, None where one is silent; mid, side: levels of
    half their sum and half their difference in dBFS.
    """

    correlation: float | None
    mid: float
    side: float


def two_channels(left: np.ndarray, right: np.ndarray, rate: float) -> TwoChannels:
    """Return the phase relation of two channels (frames,) over the whole of a stretch."""
    found = phase_relation(left, right, rate)
    levels = [10 * math.log10(2 * float(p.mean())) if p.any() else -math.inf for p in (found.mid, found.side)]
    return TwoChannels(found.whole, *levels)


def figures(x: np.ndarray, rate: float) -> Figures:
    """Of a stretch (frames,) in FS. THD+N from 20 Hz to 20 kHz, by fitting the tone and its harmonics."""
    x = trim_to_fast_length(np.asarray(x, dtype=np.float64)[::-1])[::-1]  # the latest
    size = x.size
    mean_square = float(np.square(x).mean())
    peak = float(np.abs(x).max())
    rms = to_db(math.sqrt(2 * mean_square))
    spectrum = transforms.rfft(x)
    width = rate / size
    clean = mean_squares(windowed_power(spectrum, HANN), size, HANN.mean_square)
    weighted = band_power(clean, width, 10.0, min(rate / 2, 22000.0), Weighting.A)
    if mean_square > 0:
        crest = to_db(peak) - rms + 10 * math.log10(2)
    else:
        crest = None
    if weighted > 0:
        shown_a = 10 * math.log10(2 * weighted)
    else:
        shown_a = -math.inf
    place, height = peak_near(spectrum, size, rate, 3 * width, rate / 2)
    tone = height**2 / 2
    if tone <= 0 or tone < (mean_square - tone) * 10 ** (_TONE_CLEAR_DB / 10) or place < 4 * width:
        return Figures(rms, to_db(peak), crest, shown_a, None, None)
    fit = fit_tone(x, rate, place, 1, 1)
    noise = band_power(windowed_mean_squares(fit.residual, rate, HANN)[0], width, BAND[0], min(BAND[1], rate / 2))
    main = abs(fit.amplitudes[0]) ** 2 / 2
    return Figures(
        rms,
        to_db(peak),
        crest,
        shown_a,
        fit.frequency,
        10 * math.log10(noise / main) if noise > 0 and main > 0 else None,
    )
