"""Maximum level: tones rising by steps in each third octave, until distortion, compression or the drive limit ends it.

Each band ends as soon as a limit is passed, and a rest follows, so that nothing is heated for longer than it takes.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.capture_checks import headroom
from epidote.core.analysis.sine.stepped_tone import StepMeasurement
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_usable_recordings
from epidote.core.procedures.common.stepped_tones import (
    OVERHEAD,
    analyse_steps,
    distorts,
    least_dwell,
    locate_starts,
    monitored,
    safe_db,
)
from epidote.core.procedures.maximum_level.settings import MaximumLevelSettings
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, unique
from epidote.core.results.kinds import Microphone, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.silence import silence
from epidote.core.stimuli.stepped_tones import KIND as STAIRCASE
from epidote.core.stimuli.stepped_tones import Step, stepped_tones

_REFERENCE_STEPS = 3  # of the lowest levels, whose gain is that without compression
_LEAST_CYCLES = 3


@dataclass(frozen=True)
class Limited:
    """What ended a band: the limit's name, the drive in dBFS at which it was reached, and the output's peak in FS."""

    frequency: float
    by: str
    drive: float
    output: float
    thd: float
    compression: float


class MaximumLevel(ProcedureBase):
    """The highest level in each third octave."""

    key = "maximum-level"
    title = "Maximum level"
    about = About(
        QuestionGroup.LEVEL,
        question="What is the maximum level, and what limits it?",
        played="Tones in third octaves, rising until a limit is reached",
        gives="Maximum level by third octave within limits of distortion, compression and generator level.",
        needs="The voltage that the unit is rated for",
        sketch=((0, 0.15), (0.15, 0.45), (0.3, 0.7), (0.45, 0.75), (0.7, 0.74), (0.9, 0.7), (1, 0.6)),
    )
    presets = (
        Preset("10 % distortion", {"distortion_limit": 10.0}, "Usual limit for loudspeakers at low frequencies."),
        Preset("Small steps", {"step": 1.0, "rest": 3.0}, "Small steps and long pauses, to limit heating."),
    )
    Settings = MaximumLevelSettings
    of_the_chain = False
    of_levels = False
    views = (
        CurveView("maximum_level", "Maximum", "level", "Highest level of the fundamental", microphone=Microphone.LEVEL),
        CurveView("maximum_drive", "Maximum", "drive", "Generator level at the maximum"),
        CurveView("thd_at_maximum", "At the maximum", "THD", "THD at the maximum", ratio=True),
        CurveView("compression_at_maximum", "At the maximum", "compression", "Compression at the maximum"),
    )
    readings = (
        ReadingKind("maximum_level", "Maximum level", meaning="Highest of the maximum levels of all bands."),
        ReadingKind("lowest_maximum", "Lowest maximum", meaning="Level of the band with the lowest maximum."),
        ReadingKind(
            "lowest_maximum_frequency", "Lowest maximum at", meaning="Frequency of the band with the lowest maximum."
        ),
        HEADROOM,
    )

    def conduct(self, settings: MaximumLevelSettings, chain: Chain) -> Conduct:
        for stimulus in self.plan(settings, chain):
            yield monitored(stimulus, settings, lambda steps: _is_over(steps, settings))
            if settings.rest:
                yield silence(chain.rate, settings.rest)

    def plan(self, settings: MaximumLevelSettings, chain: Chain) -> list[Stimulus]:
        levels, channels = settings.levels(chain), settings.outputs(len(chain.outputs))

        def band(frequency: float) -> Stimulus:
            dwell = max(settings.dwell, least_dwell(frequency, _LEAST_CYCLES))
            steps = [Step(frequency, level, dwell) for level in levels]
            return stepped_tones(rate=chain.rate, steps=steps, channels=channels)

        return [band(float(frequency)) for frequency in settings.frequencies()]

    def duration(self, settings: MaximumLevelSettings, chain: Chain) -> float:
        one = len(settings.levels(chain)) * settings.dwell + OVERHEAD + settings.rest
        return one * settings.frequencies().size

    def headline(self, result: Result) -> Reading | None:
        return result.reading("maximum_level")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("maximum_level")

    def summary(self, settings: MaximumLevelSettings) -> str:
        return f"{settings.distortion_limit:g} %, {settings.compression_limit:g} dB, up to {settings.stop_level}"

    def analyse(self, recordings: Sequence[Recording], settings: MaximumLevelSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, 256)
        played = [r for r in recordings if r.stimulus is not None and r.stimulus.kind == STAIRCASE]
        if not played:
            raise UnusableInputError(
                "Maximum level needs the recordings of its own tones, with their descriptions. Nothing was computed;"
                " export the stimulus and record it again."
            )
        numbers = settings.read_channels(channels)
        stimuli = [r.stimulus for r in played if r.stimulus is not None]
        starts = locate_starts(played, stimuli)

        def of_channel(place: int) -> Result:
            return _channel(played, stimuli, starts, numbers[place - 1], settings, chain=chain)

        return merge_channels(per_channel(len(numbers), of_channel), recordings, chain)


def _gain_db(step: StepMeasurement) -> float:
    return safe_db(step.amplitude) - step.level


def _without_compression(steps: Sequence[StepMeasurement]) -> float:
    """Return the gain in dB at the lowest levels."""
    return float(np.median([_gain_db(s) for s in steps[:_REFERENCE_STEPS]]))


def _is_over(steps: Sequence[StepMeasurement], settings: MaximumLevelSettings) -> bool:
    """Whether the last step passes a limit."""
    ordered = sorted(steps, key=lambda s: s.level)
    compressed = _without_compression(ordered) - _gain_db(ordered[-1]) > settings.compression_limit
    return compressed or distorts(ordered[-1], settings.distortion_limit)


def limit_of(steps: Sequence[StepMeasurement], settings: MaximumLevelSettings) -> Limited:
    """Return what ends a band, between the steps before and after, from its steps in the order of level."""
    ordered = sorted(steps, key=lambda s: s.level)
    base = _without_compression(ordered)
    for before, after in zip([None, *ordered[:-1]], ordered, strict=True):
        found = []
        if distorts(after, settings.distortion_limit):
            limit = math.log(settings.distortion_limit / 100)
            found.append((_share(before, after, lambda s: math.log(max(s.thd, 1e-9)), limit), "distortion"))
        if base - _gain_db(after) > settings.compression_limit:
            found.append(
                (_share(before, after, lambda s: base - _gain_db(s), settings.compression_limit), "compression")
            )
        if found:
            share, by = min(found)
            return _between(before or after, after, share, by, base)
    return _between(ordered[-1], ordered[-1], 1.0, "drive", base)


def _share(
    before: StepMeasurement | None, after: StepMeasurement, value: Callable[[StepMeasurement], float], limit: float
) -> float:
    """Return how far between two steps a value reaches its limit, from 0 to 1."""
    if before is None:
        return 1.0
    low, high = value(before), value(after)
    if high <= low:
        return 1.0
    return min(1.0, max(0.0, (limit - low) / (high - low)))


def _between(before: StepMeasurement, after: StepMeasurement, share: float, by: str, base: float) -> Limited:
    def mixed(low: float, high: float) -> float:
        return low + share * (high - low)

    output_db = mixed(safe_db(before.amplitude), safe_db(after.amplitude))
    thd = math.exp(mixed(math.log(max(before.thd, 1e-9)), math.log(max(after.thd, 1e-9))))
    drive = mixed(before.level, after.level)
    return Limited(after.frequency, by, drive, 10 ** (output_db / 20), thd, base - (output_db - drive))


def _channel(
    played: Sequence[Recording],
    stimuli: Sequence[Stimulus],
    starts: Sequence[int | None],
    number: int,
    settings: MaximumLevelSettings,
    *,
    chain: Chain,
) -> Result:
    bands: list[Limited] = []
    cautions: list[Caution] = []
    for recording, stimulus, start in zip(played, stimuli, starts, strict=True):
        parts = analyse_steps([recording], [stimulus], [start], number, settings)
        cautions += parts.cautions
        if parts.found:
            bands.append(limit_of(parts.found, settings))
    if not bands:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        return Result((), (Reading("maximum_level", number, None, "dB", cautions=missing),), missing)
    scale = ChannelScale.at(played[0].signal, chain, number)
    x = np.array([b.frequency for b in bands])
    level = np.array([to_db(b.output) for b in bands]) + scale.level_offset
    curves = (
        Curve("maximum_level", number, x, level, "Hz", scale.level_unit),
        Curve("maximum_drive", number, x, np.array([b.drive for b in bands]), "Hz", "dBFS"),
        Curve("thd_at_maximum", number, x, np.array([to_db(b.thd) for b in bands]), "Hz", "dB"),
        Curve("compression_at_maximum", number, x, np.array([b.compression for b in bands]), "Hz", "dB"),
    )
    top, low = int(level.argmax()), int(level.argmin())
    at: dict[str, float | str] = {"finding": limits_in_words(bands)}
    readings = (
        Reading("maximum_level", number, float(level[top]), scale.level_unit, {**at, "frequency_hz": float(x[top])}),
        Reading("lowest_maximum", number, float(level[low]), scale.level_unit, {"limited_by": bands[low].by}),
        Reading("lowest_maximum_frequency", number, float(x[low]), "Hz"),
        headroom(played[-1].signal, number),
    )
    return Result(curves, readings, unique(cautions))


def limits_in_words(bands: Sequence[Limited]) -> str:
    """Return which limit ended which bands: "distortion 50 Hz to 100 Hz; drive 126 Hz to 7.94 kHz"."""
    runs: list[list[Limited]] = []
    for band in bands:
        if runs and runs[-1][-1].by == band.by:
            runs[-1].append(band)
        else:
            runs.append([band])

    def words(run: list[Limited]) -> str:
        first, last = (format_quantity(b.frequency, "Hz", digits=3) for b in (run[0], run[-1]))
        where = first if len(run) == 1 else f"{first} to {last}"
        return f"{run[0].by} {where}"

    return "limited by " + "; ".join(words(run) for run in runs)
