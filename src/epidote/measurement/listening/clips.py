"""Clips for listening: recordings of programme on the original's clock and place, matched in level.

The recordings stay as they are; what was done to each clip is said.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.listening.alignment import align
from epidote.core.analysis.listening.loudness import measure_loudness
from epidote.core.analysis.spectral.spectrum import mean_square_in_band
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.signals import transforms
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends

MATCHED_DB, STRICT_DB = 0.5, 0.1
_PEAK = 10 ** (-1 / 20)
_FADE = 0.02  # s
_BAND = (300.0, 3000.0)  # Hz: where the gain beside the loudness is read
_MOST_TAPS = 2048


@dataclass(frozen=True, eq=False)
class Clip:
    """name: of the row, or “original”. samples (frames, channels) in FS at a rate in Hz; gain: that matched it, in dB;
    delay: that was taken out, in frames; ppm: of its clock; band_level: in dB from 300 Hz to 3 kHz, once matched.
    """

    name: str
    samples: Samples
    rate: float
    gain: float
    delay: float
    ppm: float
    band_level: float


@dataclass(frozen=True, eq=False)
class Matched:
    """Clips of the same length, rate and loudness. difference: between their band levels in dB, once matched."""

    clips: tuple[Clip, ...]
    loudness: float
    difference: float

    @property
    def words(self) -> str:
        return (
            f"matched by integrated loudness to {self.loudness:.2f} LUFS; what remains from 300 Hz to 3 kHz:"
            f" {self.difference:.2f} dB"
        )


def aligned_samples(recorded: Samples, originals: Samples, rate: float) -> tuple[Samples, float, float]:
    """Return a recording (frames, channels) on the original's clock and place, its polarity put right; with the delay
    in frames and the clock in ppm of its loudest channel. Raises UnusableInputError.
    """
    loudest = int(np.argmax(np.square(recorded).sum(axis=0)))
    found = align(originals[:, min(loudest, originals.shape[1] - 1)], recorded[:, loudest], rate, most_taps=_MOST_TAPS)
    step = 1 + found.ppm * 1e-6
    frames = originals.shape[0]
    channels = [resample(recorded[:, c], step, found.delay, frames) for c in range(recorded.shape[1])]
    return found.polarity * np.stack(channels, axis=1), found.delay, found.ppm


def match_clips(raw: Sequence[tuple[str, Samples, float, float]], rate: float) -> Matched:
    """Return clips of equal loudness from (name, samples (frames, channels), delay, ppm).

    All are cut to the same stretch and number of channels, faded alike, and as loud as the quietest peak allows. Raises
    SettingError, UnusableInputError.
    """
    if len(raw) < 2:
        raise SettingError("A listening test needs at least two clips. Select two rows, or a row and the original.")
    frames = min(samples.shape[0] for _, samples, _, _ in raw)
    channels = min(samples.shape[1] for _, samples, _, _ in raw)
    cut = [_faded(samples[:frames, :channels], rate) for _, samples, _, _ in raw]
    loudness = [measure_loudness(x, rate, with_peak=False).integrated for x in cut]
    for (name, *_), value in zip(raw, loudness, strict=True):
        if value is None:
            raise UnusableInputError(
                f"{name} is too quiet or too short to be matched. Use a louder or longer recording."
            )
    known = [v for v in loudness if v is not None]
    # the loudest that leaves every clip below its peak
    most = min(v + 20 * math.log10(_PEAK / float(np.abs(x).max())) for v, x in zip(known, cut, strict=True))
    clips = []
    for (name, _, delay, ppm), x, value in zip(raw, cut, known, strict=True):
        gain = most - value
        samples = x * 10 ** (gain / 20)
        clips.append(Clip(name, samples, rate, gain, delay, ppm, _band_level(samples, rate)))
    levels = [c.band_level for c in clips]
    return Matched(tuple(clips), most, max(levels) - min(levels))


def require_matched(matched: Matched, *, strict: bool = False, overruled: str = "") -> None:
    """Raise SettingError where the levels still differ too much, unless that was overruled in words."""
    most = STRICT_DB if strict else MATCHED_DB
    if matched.difference > most and not overruled.strip():
        raise SettingError(
            f"The clips still differ by {matched.difference:.2f} dB from 300 Hz to 3 kHz after matching; at most"
            f" {most:g} dB is a fair test. Use rows with a more alike response, or say why the test is fair all the"
            " same; the words stay with the result."
        )


def _faded(x: Samples, rate: float) -> Samples:
    out = np.array(x)
    fade = min(round(_FADE * rate), out.shape[0] // 4)
    for channel in out.T:
        fade_ends(channel, fade)
    return out


def _band_level(samples: Samples, rate: float) -> float:
    """Return the level from 300 Hz to 3 kHz of all channels together, in dB."""
    power = 0.0
    for channel in range(samples.shape[1]):
        x = samples[:, channel]
        power += mean_square_in_band(transforms.rfft(x), x.size, rate, *_BAND, weighting=Weighting.NONE)
    return 10 * math.log10(max(power, 1e-30))
