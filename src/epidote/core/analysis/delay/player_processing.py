"""What a player or a recorder does to sound of its own accord, from bursts of noise at three levels: a level that does
not follow, noise suppression, and the band limit of a coder (docs/methods.md, Units with a clock of their own).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.marked_sequence import PROBE_BURST, PROBE_LEVELS_DB, PROBE_PAUSE, processing_probe

_SETTLE = 0.06  # s of a burst that are not looked at, at each end
_BANDS_PER_OCTAVE = 12
_LOW, _HIGH = 200.0, 20000.0  # Hz
_CLEAR_DB = 8.0  # over the background, for a band to count
_FEWEST = 6  # bands
_FOLLOWS_DB, _SUPPRESSED_DB = 1.0, 3.0
_EDGE_DB, _EDGE_BANDS = 20.0, 3  # a coder's edge: so much lower within a quarter of an octave, and staying so


@dataclass(frozen=True)
class PlayerProcessing:
    """follows_db: gain at -20 dB re that at 0 dB, None where it drowns; low_db: gain at -40 dB re that at -20 dB, None
    likewise; band_limit: frequency in Hz above which nothing comes, None without one.
    """

    follows_db: float | None
    low_db: float | None
    band_limit: float | None

    @property
    def cautions(self) -> tuple[Caution, ...]:
        """What is named to the user."""
        found = []
        if self.follows_db is not None and abs(self.follows_db) > _FOLLOWS_DB:
            found.append(Caution.LEVEL_PROCESSED)
        if self.low_db is not None and self.low_db < -_SUPPRESSED_DB:
            found.append(Caution.NOISE_SUPPRESSED)
        if self.band_limit is not None:
            found.append(Caution.BAND_LIMITED)
        return tuple(found)

    @property
    def readings(self) -> tuple[Reading, ...]:
        """What was found, as readings of channel 1; nothing of what is as it should be."""
        made = []
        if self.follows_db is not None and Caution.LEVEL_PROCESSED in self.cautions:
            finding = f"20 dB less at the input are {20 - self.follows_db:.1f} dB less at the output"
            made.append(_reading("level_following", self.follows_db, "dB", Caution.LEVEL_PROCESSED, finding))
        if self.low_db is not None and Caution.NOISE_SUPPRESSED in self.cautions:
            finding = f"quiet noise is lowered by {-self.low_db:.1f} dB"
            made.append(_reading("noise_suppression", -self.low_db, "dB", Caution.NOISE_SUPPRESSED, finding))
        if self.band_limit is not None:
            finding = f"nothing comes above {format_quantity(self.band_limit, 'Hz', digits=3)}"
            made.append(_reading("band_limit", self.band_limit, "Hz", Caution.BAND_LIMITED, finding))
        return tuple(made)


def _reading(key: str, value: float, unit: str, caution: Caution, finding: str) -> Reading:
    return Reading(key, 1, value, unit, {"finding": finding}, cautions=(caution,))


def find_processing(x: Samples, rate: float, level: float, recorder_rate: float) -> PlayerProcessing:
    """Return what the recorded bursts (frames,) show, cut and brought to the file's clock, at the file's rate in Hz.

    level: of the bursts' peak in dBFS as they were played. recorder_rate: below half of it a recorder holds nothing.
    """
    played = processing_probe(rate, level)
    highest = min(_HIGH, 0.45 * recorder_rate, 0.45 * rate)
    middle = _LOW * 2 ** (np.arange(math.floor(math.log2(highest / _LOW) * _BANDS_PER_OCTAVE) + 1) / _BANDS_PER_OCTAVE)
    step, burst = round((PROBE_BURST + PROBE_PAUSE) * rate), round(PROBE_BURST * rate)
    settle = round(_SETTLE * rate)
    inside = [slice(n * step + settle, n * step + burst - settle) for n in range(len(PROBE_LEVELS_DB))]
    # the pause after the last burst, once it has died away, holds the background
    quiet = slice(2 * step + burst + settle, x.size)
    background = _levels(x[quiet], rate, middle)
    recorded = [_levels(x[part], rate, middle) for part in inside]
    gains = [r - _levels(played[part], rate, middle) for r, part in zip(recorded, inside, strict=True)]
    usable = [r > background + _CLEAR_DB for r in recorded]
    both = usable[0] & usable[1]
    follows = None
    if both.sum() >= _FEWEST:
        follows = float(np.median((gains[1] - gains[0])[both]))
    low = None
    # where the lowest burst would be clear of the background if its gain were that of the one before
    expected = both & (recorded[1] - 20.0 > background + _CLEAR_DB)
    if expected.sum() >= _FEWEST:
        low = float(np.median((gains[2] - gains[1])[expected]))
    return PlayerProcessing(follows, low, _band_limit(middle, gains[0], highest))


def _levels(x: Samples, rate: float, middle: Samples) -> Samples:
    """Return the mean square of x (frames,) in each band in dB (bands,)."""
    spectrum = transforms.rfft(x * np.hanning(x.size))
    power = np.concatenate([[0.0], np.cumsum(spectrum.real**2 + spectrum.imag**2)])
    half = 2 ** (0.5 / _BANDS_PER_OCTAVE)
    edges = np.outer(middle, [1 / half, half]) * x.size / rate
    places = np.clip(edges, 0, power.size - 1)
    sums = np.interp(places[:, 1], np.arange(power.size), power) - np.interp(places[:, 0], np.arange(power.size), power)
    return np.asarray(10 * np.log10(np.maximum(sums, 1e-30) / x.size**2))


def _band_limit(middle: Samples, gain: Samples, highest: float) -> float | None:
    """Return the frequency of an edge as a coder's low-pass has it: a fall that no room and no loudspeaker has."""
    if middle.size <= 3 * _EDGE_BANDS:
        return None
    fall = gain[:-_EDGE_BANDS] - gain[_EDGE_BANDS:]
    steep = np.flatnonzero(fall > _EDGE_DB)
    if not steep.size:
        return None
    place = int(steep[0])
    beyond = gain[place + _EDGE_BANDS :]
    if float(np.median(gain[: place + 1])) - float(beyond.max()) < _EDGE_DB:
        return None
    edge = float(middle[place] * 2 ** (_EDGE_BANDS / 2 / _BANDS_PER_OCTAVE))
    if edge > 0.95 * highest:
        return None
    return edge
