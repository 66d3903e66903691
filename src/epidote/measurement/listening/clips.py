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
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.signals import transforms
from epidote.core.signals.recording import recorded_and_original
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.tone import fade_ends
from epidote.study.models import RunSummary
from epidote.study.store import Study

MATCHED_DB, STRICT_DB = 0.5, 0.1
RAISED_DB = 20.0  # from which on it is said that the noise of a quiet recording was raised as well
_PEAK = 10 ** (-1 / 20)
_FADE = 0.02  # s
_BAND = (300.0, 3000.0)  # Hz: where the gain beside the loudness is read
_MOST_TAPS = 2048
_SAME_MUSIC = 0.999  # correlation of originals
_ANCHOR_HZ, _ANCHOR_ROLL = 3500.0, 1.06
ORIGINAL, ANCHOR, SAME = "original", "low anchor", " (same clip)"


@dataclass(frozen=True, eq=False)
class Clip:
    """name: of the row, or “original”; run: it was recorded in, 0 for none. samples (frames, channels) in FS at a rate
    in Hz; gain: that matched it, in dB; delay: that was taken out, in frames; ppm: of its clock; band_level: in dB from
    300 Hz to 3 kHz, once matched.
    """

    name: str
    samples: Samples
    rate: float
    gain: float
    delay: float
    ppm: float
    band_level: float
    run: int = 0


@dataclass(frozen=True, eq=False)
class AlignedClip:
    """A recording (frames, channels) on the original's clock and place, not yet matched in level; delay in frames that
    was taken out, ppm of its clock, run it came from (0: none).
    """

    name: str
    samples: Samples
    delay: float = 0.0
    ppm: float = 0.0
    run: int = 0


@dataclass(frozen=True, eq=False)
class AlignedRun:
    """A run's recording laid over its original (frames, originals)."""

    samples: Samples
    originals: Samples
    rate: float
    delay: float
    ppm: float


@dataclass(frozen=True, eq=False)
class Matched:
    """Clips of the same length, rate and loudness. difference: between their band levels in dB, once matched."""

    clips: tuple[Clip, ...]
    loudness: float
    difference: float

    @property
    def raised(self) -> float:
        """By how much one clip was raised more than another, in dB; its noise was raised with it."""
        gains = [clip.gain for clip in self.clips if clip.name != ANCHOR]
        return max(gains) - min(gains)

    @property
    def words(self) -> str:
        """How the clips were matched, in a sentence that stays with the test."""
        raised = f"; one raised by {self.raised:.0f} dB more than another" if self.raised > RAISED_DB else ""
        return (
            f"matched by integrated loudness to {self.loudness:.2f} LUFS; what remains from 300 Hz to 3 kHz:"
            f" {self.difference:.2f} dB{raised}"
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


def align_run(study: Study, run: RunSummary) -> AlignedRun:
    """Return a run's recording laid over its original. Raises SettingError, StudyError, UnusableInputError."""
    proc = procedure(run.procedure)
    if not proc.takes_original:
        raise SettingError(
            f"“{proc.title}” is not a recording of programme material. Select runs of “Programme material”."
        )
    recording = study.acquired(run.id).recordings[0]
    settings = make_settings(proc.Settings, run.settings)
    rate = recording.signal.rate
    heard, originals = recorded_and_original(recording, lambda: settings.played(rate))
    samples, delay, ppm = aligned_samples(heard.samples, originals, rate)
    return AlignedRun(samples, originals, rate, delay, ppm)


def clips_of_runs(aligned: Sequence[tuple[str, int, AlignedRun]], *, original: bool, anchor: bool) -> Matched:
    """Return matched clips of runs, by name and number, with their original and its low anchor if wished.

    A run that is named twice gives two clips: a control in which nothing differs. Raises SettingError,
    UnusableInputError.
    """
    rates = {one.rate for _, _, one in aligned}
    if len(rates) != 1:
        raise SettingError("The rows were measured at different sample rates. Measure them at the same rate first.")
    first = aligned[0][2]
    if not all(_is_same_music(first.originals, one.originals) for _, _, one in aligned[1:]):
        raise SettingError(
            "The rows were measured with different music, so they cannot be compared by listening. Measure them"
            " with the"
            " same settings of “Programme material”."
        )
    rate = rates.pop()
    clips: list[AlignedClip] = []
    if original:
        whole = _spread(first.originals, first.samples.shape[1])
        clips.append(AlignedClip(ORIGINAL, whole))
        if anchor:
            clips.append(AlignedClip(ANCHOR, low_anchor(whole, rate)))
    for name, run, one in aligned:
        named = name if name not in {clip.name for clip in clips} else f"{name}{SAME}"
        clips.append(AlignedClip(named, one.samples, one.delay, one.ppm, run))
    return match_clips(clips, rate)


def low_anchor(samples: Samples, rate: float) -> Samples:
    """Return the original (frames, channels) with nothing above 3.5 kHz (ITU-R BS.1534-3, 3.3; from memory)."""
    size = samples.shape[0]
    spectrum = transforms.rfft(samples, axis=0)
    frequency = np.arange(spectrum.shape[0]) * rate / size
    roll = np.clip((_ANCHOR_HZ * _ANCHOR_ROLL - frequency) / (_ANCHOR_HZ * (_ANCHOR_ROLL - 1)), 0.0, 1.0)
    shape = 0.5 - 0.5 * np.cos(np.pi * roll)
    return np.asarray(transforms.irfft(spectrum * shape[:, None], size, axis=0))


def _spread(originals: Samples, channels: int) -> Samples:
    """Return the original of each recorded channel (frames, channels)."""
    return originals[:, [min(c, originals.shape[1] - 1) for c in range(channels)]]


def _is_same_music(one: Samples, other: Samples) -> bool:
    """Whether two originals (frames, channels) are the same but for their level."""
    if one.shape != other.shape:
        return False
    likeness = float(np.vdot(one, other)) / math.sqrt(max(float(np.vdot(one, one) * np.vdot(other, other)), 1e-300))
    return likeness > _SAME_MUSIC


def match_clips(raw: Sequence[AlignedClip], rate: float) -> Matched:
    """Return clips of equal loudness.

    All are cut to the same stretch and number of channels, faded alike, and as loud as the quietest peak allows. Raises
    SettingError, UnusableInputError.
    """
    if len(raw) < 2:
        raise SettingError("A listening test needs at least two clips. Select two rows, or a row and the original.")
    frames = min(clip.samples.shape[0] for clip in raw)
    channels = min(clip.samples.shape[1] for clip in raw)
    cut = [_faded(clip.samples[:frames, :channels], rate) for clip in raw]
    loudness = [measure_loudness(x, rate, with_peak=False).integrated for x in cut]
    for clip, value in zip(raw, loudness, strict=True):
        if value is None:
            raise UnusableInputError(
                f"{clip.name} is too quiet or too short to be matched. Use a louder or longer recording."
            )
    known = [v for v in loudness if v is not None]
    # the loudest that leaves every clip below its peak
    most = min(v + 20 * math.log10(_PEAK / float(np.abs(x).max())) for v, x in zip(known, cut, strict=True))
    clips = []
    for clip, x, value in zip(raw, cut, known, strict=True):
        gain = most - value
        samples = x * 10 ** (gain / 20)
        level = _band_level(samples, rate)
        clips.append(Clip(clip.name, samples, rate, gain, clip.delay, clip.ppm, level, clip.run))
    levels = [c.band_level for c in clips if c.name != ANCHOR]
    return Matched(tuple(clips), most, max(levels) - min(levels))


def needs_reason(matched: Matched, *, strict: bool = False) -> bool:
    """Whether the levels still differ by so much that a test needs a reason."""
    return matched.difference > (STRICT_DB if strict else MATCHED_DB)


def require_matched(matched: Matched, *, strict: bool = False, overruled: str = "") -> None:
    """Raise SettingError where the levels still differ too much, unless that was overruled in words."""
    most = STRICT_DB if strict else MATCHED_DB
    if needs_reason(matched, strict=strict) and not overruled.strip():
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
