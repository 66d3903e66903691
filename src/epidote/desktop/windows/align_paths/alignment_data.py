"""What the alignment window asks of the study's thread: two paths of a run as stretches, their sums, their files."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from epidote.audio.files.sound_file import encode, write_whole
from epidote.audio.resampling import for_playing
from epidote.core.analysis.delay.manual_alignment import PairAlignment
from epidote.core.errors import UnusableInputError
from epidote.core.signals.recording import Recording
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.noise import from_samples

LONGEST = 60.0  # s that are laid over each other at once
_PEAK_DBFS = -12.0


@dataclass(frozen=True)
class AlignedPair:
    """Two paths, ready to be nudged: delay in frames as it was found, drift that was taken out in ppm, transients'
    frames in the first, the time in s at which the stretch begins in the recording.
    """

    overlay: PairAlignment
    delay: float
    drift_ppm: float
    events: list[int]
    begin: float


def sources_of(recordings: tuple[Recording, ...]) -> list[tuple[Samples, float]]:
    """Every channel (frames,) and its rate, counted on over all recordings."""
    return [(r.signal.channel(n), r.signal.rate) for r in recordings for n in range(1, r.signal.channels + 1)]


def align_pair(
    tracks: list[tuple[Samples, float]],
    number: int,
    drift_ppm: float,
    delay_s: float,
    band: tuple[float, float],
    *,
    search: float,
) -> AlignedPair:
    """Path ``number`` (from 2) over the first, brought to its rate and its clock; the loudest minute of what is
    longer.
    """
    (first, rate), (second, other) = tracks[0], tracks[number - 1]
    step = other / rate * (1 + 1e-6 * drift_ppm)
    second = for_playing(second, rate * step, rate)
    most = round(LONGEST * rate)
    begin = 0
    if first.size > most:
        blocks = np.add.reduceat(np.square(first), np.arange(0, first.size, most // 4))
        begin = min(int(np.argmax(blocks)) * (most // 4), first.size - most)
    low, high = begin, min(first.size, begin + most)
    # as much of the second on either side as the delay may take away
    if abs(delay_s) < min(search, 2.0):
        reach = min(search, 2.0)
    else:
        reach = abs(delay_s) + 0.1
    overlay = PairAlignment(first[low:high], second[low : min(second.size, high)], rate, band, reach)
    # the run tells the delay in its middle; with the drift taken out it is that of the beginning
    if drift_ppm:
        near = None
    else:
        near = delay_s * rate
    return AlignedPair(overlay, overlay.best(near), drift_ppm, overlay.events(), low / rate)


def sum_of(pair: AlignedPair, delay: float | None, *, invert: bool) -> Stimulus:
    """Both paths at once as a stimulus: as they came with ``delay`` None, else the second brought forward by it.

    Both are as loud as each other only where the paths are: one factor for all of it, so that what is quieter is heard
    as such.
    """
    overlay = pair.overlay
    frames = overlay.first.size
    as_it_came = np.zeros(frames)
    as_it_came[: min(frames, overlay.second.size)] = overlay.second[:frames]
    if delay is None:
        second = as_it_came
    else:
        second = overlay.aligned(delay, invert=invert)
    most = float(np.abs(overlay.first).max() + np.abs(as_it_came).max())
    total = (overlay.first + second) / max(most, 1e-12)
    if not total.any():
        raise UnusableInputError(
            "The sum of both channels is silent: they cancel completely. Nothing was played; change the delay or the"
            " polarity."
        )
    level = _PEAK_DBFS + 20 * np.log10(max(float(np.abs(total).max()), 1e-6))
    return from_samples(total, rate=overlay.rate, level=float(level))


def export_aligned(
    tracks: list[tuple[Samples, float]], number: int, pair: AlignedPair, delay: float, target: Path, *, invert: bool
) -> list[Path]:
    """Write the first path and the other brought under it, whole and as 32-bit floats: TARGET 1.wav and TARGET N
    aligned.wav.

    Raises UnusableInputError when a file is there already; DiskError.
    """
    (first, rate), (second, other) = tracks[0], tracks[number - 1]
    step = other / rate * (1 + 1e-6 * pair.drift_ppm)
    # the stretch began at the same frame of both: the delay of the whole is that of the stretch
    shifted = resample(second, step, delay * step, first.size)
    if delay == round(delay) and step == 1:
        shifted = np.zeros(first.size)
        low = round(delay)
        part = second[max(0, low) : max(0, low) + first.size - max(0, -low)]
        shifted[max(0, -low) : max(0, -low) + part.size] = part
    base = target.with_suffix("")
    files = [base.with_name(f"{base.name} 1.wav"), base.with_name(f"{base.name} {number} aligned.wav")]
    there = [f.name for f in files if f.exists()]
    if there:
        raise UnusableInputError(f"{there[0]} already exists. Nothing was written; choose another name.")
    for file, x in zip(files, (first, -shifted if invert else shifted), strict=True):
        write_whole(file, encode(x, rate, "WAV", "32f"))
    return files
