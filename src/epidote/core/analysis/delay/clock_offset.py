"""Two clocks: how much faster one ran, and a recording brought to the other.

The marks of a marked file are found by cross-correlation; the time between them comes from laying the stretch round the
second over the first (Knapp, Carter 1976: the maximum of the cross-correlation between band-limited samples is the
maximum-likelihood delay in white noise). The recording is then read at the other clock's instants by a windowed sinc on
twice the rate, which leaves less than 1e-7.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.analysis.cross_correlation import correlation, refined_lag
from epidote.core.analysis.delay.player_processing import PlayerProcessing, find_processing
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, unique
from epidote.core.results.reading import Reading
from epidote.core.results.result import Result
from epidote.core.signals import transforms
from epidote.core.signals.recording import Recording
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.slicing import zero_padded_slice
from epidote.core.stimuli.marked_sequence import GAP, MarkedSequence, marker_chirp, processing_probe

MOST_PPM = 2000.0
_AROUND = 0.15  # seconds taken along after a mark for what rings
OWN_CLOCK_PPM = 0.05  # less is what two readings of one clock differ by
_CLOCK_SURE = 3.0  # times the spread
_TAKE_HEIGHT = 0.3  # of the marks of the clearest take: lower ones are no take
_GAIN_MOVED_DB = 0.5  # by which one mark is louder than the other
_BAND_SHARE = 0.45  # of its rate, below which a recorder's anti-alias filter leaves the sound as it is


@dataclass(frozen=True)
class ClockOffset:
    """ppm: how much faster the recorder's clock ran than the player's.

    start: the file's first frame in the recording, in its frames.

        spread_ppm: one standard deviation from the noise of the recording. level_change_db: of the second mark re the
    first, which are alike: what a gain that moves did meanwhile. processing: of the player or the recorder; None where
    the file does not look for it. takes: of the file in the recording, of which the last one counts.
    """

    ppm: float
    start: float
    spread_ppm: float
    level_change_db: float = 0.0
    processing: PlayerProcessing | None = None
    takes: int = 1

    @property
    def differs(self) -> bool:
        """Whether it is another clock at all: more than its doubt, and more than two readings of one clock."""
        return abs(self.ppm) > max(OWN_CLOCK_PPM, _CLOCK_SURE * self.spread_ppm)


@dataclass(frozen=True)
class MarkedRecording:
    """A recording of a marked file as it came: nothing cut, at the recorder's own rate and clock."""

    signal: Signal
    file: MarkedSequence


def with_clock(result: Result, clocks: Sequence[ClockOffset], rate: float) -> Result:
    """Return the result with what was found about the recorder's clock and the recording's start.

    rate: the recorder's, in Hz.
    """
    more = []
    for number, clock in enumerate(clocks, start=1):
        more.append(
            Reading("clock_offset", number, clock.ppm, "ppm", {"recording": float(number)}, None, clock.spread_ppm)
        )
        more.append(Reading("start", number, clock.start / rate, "s", {"recording": float(number)}))
    cautions = result.cautions
    if any(abs(clock.level_change_db) > _GAIN_MOVED_DB for clock in clocks):
        cautions = unique((*cautions, Caution.GAIN_MOVED))
    for clock in clocks:
        if clock.takes > 1:
            finding = f"{clock.takes} takes; the last one, from {clock.start / rate:.1f} s on, was used"
            own = (Caution.SEVERAL_TAKES,)
            more.append(Reading("takes", 1, float(clock.takes), "", {"finding": finding}, cautions=own))
            cautions = unique((*cautions, *own))
        if clock.processing is not None:
            more += clock.processing.readings
            cautions = unique((*cautions, *clock.processing.cautions))
    return replace(result, readings=(*result.readings, *more), cautions=cautions)


def estimate_clock_offset(x: Samples, rate: float, file: MarkedSequence) -> ClockOffset:
    """Start and clock of a recording (frames,) of a marked file.

    Raises UnusableInputError when its marks are not there.
    """
    nominal = rate / file.rate
    sound = _mark_at(rate, file)
    distance = (file.last_mark - file.first_mark) * nominal
    if x.size < distance + sound.size:
        raise UnusableInputError(
            f"The recording is shorter than the file that was played: {x.size / rate:.1f} s of"
            f" {file.frames / file.rate:.1f} s. Nothing was computed; record all of it with some margin before and"
            " after."
        )
    # Step 1: both marks, to a few frames
    first, last, takes = _found(x, sound, distance)
    span = sound.size + round(min(_AROUND, GAP / 2) * rate)
    lead = round(0.02 * rate)
    a, b = (zero_padded_slice(x, place - lead, span + 2 * lead) for place in (first, last))
    # Step 2: the second laid over the first, between frames
    shift, spread = _shift(a, b, rate)
    # Step 3: the distance of the marks in the recorder's frames over that in the file
    ratio = (last - first + shift) / distance
    # the mark as the recorder's clock saw it tells the start; what the unit itself delays stays in the recording
    start_mark = first + _shift(zero_padded_slice(_at_ratio(sound, ratio), -lead, span + 2 * lead), a, rate)[0]
    ppm = (ratio - 1) * 1e6
    change = to_db(_strength(x, last, sound) / max(_strength(x, first, sound), 1e-30))
    return ClockOffset(
        ppm, start_mark - file.first_mark * nominal * ratio, spread / distance * 1e6, change, None, takes
    )


def _strength(x: Samples, place: int, sound: Samples) -> float:
    """Return how strong a mark is in x (frames,): the root mean square of the stretch in which it sounds."""
    part = x[max(0, place) : place + sound.size]
    return float(np.sqrt(np.mean(np.square(part)))) if part.size else 0.0


def _mark_at(rate: float, file: MarkedSequence) -> Samples:
    """Return the file's mark (frames,) as a recorder at another rate holds it: without what lies above half of it."""
    sound = marker_chirp(file.rate, 0.0)
    if rate == file.rate:
        return sound
    step = file.rate / rate
    return resample(sound, step, 0.0, round(sound.size / step))


def _at_ratio(sound: Samples, ratio: float) -> Samples:
    return resample(sound, 1 / ratio, 0.0, sound.size)


def _found(x: Samples, sound: Samples, distance: float) -> tuple[int, int, int]:
    """Rough frames of both marks: the last pair, about as far apart as it must be, in which both stand out; and how
    many such pairs there are.
    """
    # correlation with the mark at every place
    height = np.abs(correlation(x, sound)[: x.size])
    slack = max(8, math.ceil(distance * MOST_PPM * 1e-6))
    room = x.size - math.floor(distance) + slack
    if room <= 0:
        raise UnusableInputError(
            "The recording ends before the second sync marker. Nothing was computed; keep recording until after the end"
            " of the file."
        )
    from scipy.ndimage import maximum_filter1d

    # the greatest within the slack that a clock may be off
    later = maximum_filter1d(height, 2 * slack + 1)
    begin = round(distance)
    # both marks must stand out, so the lesser of the two counts
    both = np.minimum(height[: x.size - begin], later[begin:])
    best = int(np.argmax(both))
    noise = float(np.median(height)) / NORMAL_MEDIAN
    if both[best] <= 12 * noise:
        raise UnusableInputError(
            "The sync markers of the stimulus file were not found in the recording. Nothing was computed; check that it"
            " is the right file, that it is complete, and that the player does not change its speed."
        )
    places = _takes(both, begin, max(_TAKE_HEIGHT * float(both[best]), 12 * noise))
    first = places[-1]
    low = max(0, first + begin - slack)
    last = low + int(np.argmax(height[low : first + begin + slack + 1]))
    return first, last, len(places)


def _takes(both: Samples, apart: int, least: float) -> list[int]:
    """Return the places of pairs that stand out by at least so much, rising, each further from the others than marks
    of one take are apart.
    """
    left = both.copy()
    places = []
    while left.size and float(left.max()) >= least:
        place = int(np.argmax(left))
        places.append(place)
        left[max(0, place - apart) : place + apart] = 0.0
    return sorted(places)


def _shift(a: Samples, b: Samples, rate: float) -> tuple[float, float]:
    """How many samples b lies after a, between samples too, and the standard deviation that the noise of both
    leaves.
    """
    size = transforms.next_fast_len(2 * a.size, real=True)
    fa, fb = transforms.rfft(a, size), transforms.rfft(b, size)
    f = np.arange(fa.size) * rate / size
    # where the chirp has its energy, away from hum and from the anti-alias filters
    band = (f > 200) & (f < min(12000.0, 0.45 * rate))
    cross = np.where(band, fb * fa.conj(), 0)
    place = int(np.argmax(np.abs(transforms.irfft(cross, size))))
    tau, sign = refined_lag(cross, size, float(place if place < size / 2 else place - size))
    w = 2 * np.pi * np.arange(fa.size) / size
    scale = float(
        sign * (cross * np.exp(1j * w * tau)).real.sum() / max(float(np.square(np.abs(fa[band])).sum()), 1e-300)
    )
    # what the shifted first leaves of the second: noise, for the spread
    rest = np.where(band, fb - scale * fa * np.exp(-1j * w * tau), 0)
    noise = float(np.square(np.abs(rest)).sum()) / max(1, int(band.sum()))
    # Cramér-Rao: variance of a delay is noise over twice the curvature
    curvature = float((w[band] ** 2 * np.square(np.abs(scale * fa[band]))).sum())
    # filling up with zeros gives more bins, not more that are independent
    return tau, math.sqrt(noise / (2 * curvature) * size / a.size) if curvature > 0 else math.inf


def to_player_clock(recording: Signal, file: MarkedSequence) -> tuple[list[Recording], ClockOffset]:
    """Return a recording of a marked file, brought to the file's clock and cut into the recordings of its stimuli.

    The loudest channel tells the clock; all share it. Raises UnusableInputError.
    """
    loudest = 1 + int(np.argmax(np.square(recording.samples).sum(axis=0)))
    clock = estimate_clock_offset(recording.channel(loudest), recording.rate, file)
    step = recording.rate / file.rate * (1 + clock.ppm * 1e-6)
    if file.probe is not None:
        bursts = processing_probe(file.rate, file.level).size
        heard = _cut(recording.channel(loudest), clock.start + step * file.probe, step, bursts)
        clock = replace(clock, processing=find_processing(heard, file.rate, file.level, recording.rate))
    parts = []
    for stimulus, at in zip(file.stimuli, file.starts, strict=True):
        first = clock.start + step * at
        channels = [_cut(recording.channel(c), first, step, stimulus.frames) for c in range(1, recording.channels + 1)]
        if not clock.differs:
            words = ""
        else:
            words = (
                f"recorded on another clock: {clock.ppm:+.4f} ppm, ±{2 * clock.spread_ppm:.2g} ppm; resampled to the"
                " clock of the file"
            )
        part = Recording(Signal(np.column_stack(channels), file.rate), stimulus)
        parts.append(replace(part, clock=words, band_limit=_band_limit(recording.rate, file.rate)))
    return parts, clock


def _cut(x: Samples, first: float, step: float, frames: int) -> Samples:
    """Return so many frames of x (frames,) from ``first`` on, read at every ``step`` frames."""
    low = max(0, math.floor(first) - 4096)
    high = min(x.size, math.ceil(first + step * frames) + 4096)
    return resample(x[low:high], step, first - low, frames)


def _band_limit(recorded: float, played: float) -> float | None:
    """Return the frequency in Hz up to which a recorder at a lower rate than the file's holds what was played."""
    if recorded >= played:
        return None
    return _BAND_SHARE * recorded


def marker_level_dbfs(stimuli_peak: float) -> float:
    """Return a level in dBFS at which marks are as loud as what they enclose, but never so quiet that they drown:
    dBFS.
    """
    return max(-40.0, min(-3.0, to_db(stimuli_peak) if stimuli_peak > 0 else -12.0))
