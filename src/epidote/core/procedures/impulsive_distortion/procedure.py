"""Impulsive distortion: a slow sweep, and what strikes or rubs once or more in each of its periods.

Terms and the peak, RMS and crest factor of the residual after IEC 60268-21 (from memory); the verdict by the project's
own recipe (docs/methods.md, Impulsive distortion).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.acoustics.impulsive import (
    LIMIT,
    MAP_PHASES,
    SUSPECT_ORDER,
    VERDICT_ORDER,
    Group,
    SweepResidual,
    groups,
)
from epidote.core.analysis.capture_checks import capture_cautions, headroom
from epidote.core.chain.chain import Chain
from epidote.core.chain.level_setting import LevelString, drive_dbfs
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_usable_recordings
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase, RunSound
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, unique
from epidote.core.results.kinds import CurveKind, CurveRole, ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.settings import Settings, setting
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.sweep import LEAD, TAIL, sweep

LEAST_FRAMES = 48000
_CONFIRMING_ORDER = 30  # above which something must be left, so that ordinary distortion of high order is no verdict
_CONFIRMED = 6.0  # of the score there, in one of the groups
_NEIGHBOUR = 2**0.25  # times a group's frequency
_LEAST_FUNDAMENTAL = 1e-6  # FS
_QUIETEST = 1e-9


class ImpulsiveDistortionSettings(Settings):
    """Settings of the sweep."""

    level: LevelString = setting(
        "-6", "Level", "Generator level", "dBFS", played=True, max_length=40, affects=effects.LEVEL
    )
    start_frequency: float = setting(
        20.0, "Start frequency", "Lowest frequency of the sweep", "Hz", played=True, ge=5, le=2000
    )
    stop_frequency: float = setting(
        2000.0, "Stop frequency", "Highest frequency of the sweep", "Hz", played=True, ge=100, le=20000
    )
    duration: float = setting(
        10.0,
        "Duration",
        "Duration of the sweep; a longer sweep detects weaker impulses",
        "s",
        played=True,
        ge=3,
        le=120,
    )

    @model_validator(mode="after")
    def _band_is_wide_enough(self) -> ImpulsiveDistortionSettings:
        if self.start_frequency * 2 > self.stop_frequency:
            raise SettingError(
                "{start_frequency} must be at least an octave below {stop_frequency}.",
                "start_frequency",
                "stop_frequency",
            )
        return self

    def played(self, chain: Chain) -> Stimulus:
        """Return the sweep. Raises SettingError when its band does not fit the rate."""
        return sweep(
            rate=chain.rate,
            start=self.start_frequency,
            stop=self.stop_frequency,
            duration=self.duration,
            level=drive_dbfs(self.level, chain),
            channels=chain.stimulus_channels,
        )


@dataclass(frozen=True)
class _Finding:
    """What was found in a channel: the group that shows it best, the range and its middle in Hz, and whether it is only
    suspected.
    """

    best: Group
    low: float
    high: float
    middle: float
    suspected: bool

    @property
    def words(self) -> str:
        count = {1: "once per period", 2: "twice per period"}.get(
            self.best.count, f"{self.best.count} times per period"
        )
        where = f"between {self.low:.0f} Hz and {self.high:.0f} Hz"
        if self.suspected:
            return f"impulses {count} {where}, which ordinary distortion of high order may also cause: suspect"
        return f"impulses {count} {where}: rubbing or a loose part"


NOTHING_FOUND = "noise only"


class ImpulsiveDistortion(ProcedureBase):
    """Impulses that come with each period of the sweep."""

    key = "impulsive-distortion"
    title = "Impulsive distortion"
    about = About(
        QuestionGroup.DISTORTION,
        question="Does something rub, buzz or rattle?",
        played="A slow sweep",
        gives="Peak level and crest factor above the harmonics, and the frequencies where impulses repeat.",
        needs="A quiet room",
        sketch=((0, 0.2), (0.2, 0.2), (0.27, 0.8), (0.33, 0.85), (0.4, 0.25), (0.7, 0.2), (1, 0.15)),
    )
    presets = (
        Preset("Sensitive, 30 s", {"duration": 30.0}, "Detects impulses of half the height."),
        Preset("Tweeter", {"start_frequency": 200.0, "stop_frequency": 5000.0}, "Without low frequencies."),
    )
    Settings = ImpulsiveDistortionSettings
    of_levels = False
    of_the_chain = False
    views = (
        CurveView("impulsive_level", "Level", "peak", "Peak level re fundamental"),
        CurveView("residual_level", "Level", "RMS", "RMS level re fundamental"),
        CurveView("crest_factor", "Crest factor", "crest factor", "Crest factor"),
        CurveView("impulse_score", "Repetition", "repetition", "Maximum excess by phase", compared=False),
    )
    maps = (CurveKind("period_map", role=CurveRole.MAP),)
    sounds = (RunSound("residual", "Residual above 20th harmonic"),)
    readings = (
        ReadingKind(
            "impulsive_level",
            "Impulsive level",
            meaning="Peak of what lies above the 20th harmonic, re the fundamental: where impulses are found, or else"
            " where it is highest.",
        ),
        ReadingKind("crest_factor", "Crest factor", meaning="Crest factor of the residual above the 20th harmonic."),
        ReadingKind(
            "impulses",
            "Impulses per period",
            shown=Shown.COUNT,
            compared=False,
            meaning="Number of impulses that repeat in each period; none if only noise is found.",
        ),
        ReadingKind("worst_frequency", "Impulses at", meaning="Exciting frequency at which impulses stand out most."),
        HEADROOM,
    )

    def conduct(self, settings: ImpulsiveDistortionSettings, chain: Chain) -> Conduct:
        yield settings.played(chain)

    def duration(self, settings: ImpulsiveDistortionSettings, chain: Chain) -> float:
        return settings.duration + LEAD + TAIL

    def headline(self, result: Result) -> Reading | None:
        return result.reading("impulsive_level")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("impulsive_level")

    def summary(self, settings: ImpulsiveDistortionSettings) -> str:
        return f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz, {settings.duration:g} s"

    def analyse(self, recordings: Sequence[Recording], settings: ImpulsiveDistortionSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, LEAST_FRAMES)
        recording = recordings[0]
        stimulus = recording.stimulus or settings.played(chain)
        if "length" not in stimulus.parameters:
            raise UnusableInputError(
                "Impulsive distortion needs the recording of a sweep. Use the stimulus that this procedure exports."
            )
        results = per_channel(channels, lambda number: _channel(recording, stimulus, number))
        return merge_channels(results, recordings, chain)

    def make_sound(
        self,
        key: str,
        recordings: Sequence[Recording],
        settings: ImpulsiveDistortionSettings,
        chain: Chain,
        channel: int,
    ) -> Signal:
        """Return what lies above the 20th harmonic of a channel (frames, 1), as loud as it was recorded."""
        require_usable_recordings(recordings, LEAST_FRAMES)
        signal = recordings[0].signal
        stimulus = recordings[0].stimulus or settings.played(chain)
        residual = SweepResidual(signal.channel(channel), signal.rate, stimulus)
        return Signal(residual.above(VERDICT_ORDER)[:, None], signal.rate, signal.unit)


def _channel(recording: Recording, stimulus: Stimulus, number: int) -> Result:
    rate, x = recording.signal.rate, recording.signal.channel(number)
    cautions = list(capture_cautions(recording.signal, number))
    head = headroom(recording.signal, number)
    # Steps 1 to 5 (docs/methods.md, Impulsive distortion)
    residual = SweepResidual(x, rate, stimulus)
    found = list(groups(residual, rate, VERDICT_ORDER, stimulus["stop"]))
    heard = [g for g in found if g.fundamental > _LEAST_FUNDAMENTAL]
    if not heard or not residual.is_found:
        cautions.append(Caution.STIMULUS_NOT_FOUND)
        own = (Caution.STIMULUS_NOT_FOUND,)
        units = {"impulsive_level": "dB", "crest_factor": "dB", "impulses": "", "worst_frequency": "Hz"}
        readings = [Reading(key, number, None, unit, cautions=own) for key, unit in units.items()]
        return Result((), (*readings, head), unique(cautions))
    finding = _judge(residual, rate, stimulus, found)
    if finding is not None and finding.suspected:
        cautions.append(Caution.SUSPECT)
    return Result(_curves(found, number), (*_readings(found, finding, number), head), unique(cautions))


def _judge(residual: SweepResidual, rate: float, stimulus: Stimulus, found: list[Group]) -> _Finding | None:
    """Return what is found: a verdict above the 20th order, if the 30th leaves something; else a suspicion."""
    striking = [g for g in found if g.score > LIMIT]
    if striking:
        confirming = {g.frequency: g.score for g in groups(residual, rate, _CONFIRMING_ORDER, stimulus["stop"])}
        regions = _regions(striking)
        confirmed = [r for r in regions if any(confirming.get(g.frequency, 0.0) > _CONFIRMED for g in r)]
        return _finding(confirmed or regions, suspected=not confirmed)
    lower = [g for g in groups(residual, rate, SUSPECT_ORDER, stimulus["stop"]) if g.score > LIMIT]
    if lower:
        return _finding(_regions(lower), suspected=True)
    return None


def _regions(striking: list[Group]) -> list[list[Group]]:
    """Return the groups in runs of neighbours, which lie a sixth of an octave apart."""
    regions: list[list[Group]] = []
    for group in striking:
        if regions and group.frequency < regions[-1][-1].frequency * _NEIGHBOUR:
            regions[-1].append(group)
        else:
            regions.append([group])
    return regions


def _finding(regions: list[list[Group]], *, suspected: bool) -> _Finding:
    """Return the region with the group that shows it best, and its middle, weighted by how much each group shows."""
    region = max(regions, key=lambda r: max(g.score for g in r))
    best = max(region, key=lambda g: g.score)
    weights = np.array([g.score for g in region])
    middle = float(np.exp(np.average(np.log([g.frequency for g in region]), weights=weights)))
    half = 2 ** (1 / 12)
    return _Finding(best, region[0].frequency / half, region[-1].frequency * half, middle, suspected)


def _readings(found: list[Group], finding: _Finding | None, number: int) -> list[Reading]:
    if finding is None:
        shown = max(found, key=lambda g: g.peak / max(g.fundamental, _QUIETEST))
        at: dict[str, float | str] = {"finding": NOTHING_FOUND}
        count, where = None, None
        own: tuple[Caution, ...] = (Caution.NOTHING_FOUND,)
    else:
        shown = next((g for g in found if g.frequency == finding.best.frequency), finding.best)
        at = {"finding": finding.words, "low_hz": finding.low, "high_hz": finding.high}
        count, where = float(finding.best.count), finding.middle
        own = (Caution.SUSPECT,) if finding.suspected else ()
    at = {**at, "frequency_hz": shown.frequency, "order": float(VERDICT_ORDER)}
    level = to_db(max(shown.peak, _QUIETEST) / max(shown.fundamental, _QUIETEST))
    return [
        Reading("impulsive_level", number, level, "dB", at, cautions=own if count is not None else ()),
        Reading("crest_factor", number, _decibels(shown.crest), "dB", at),
        Reading("impulses", number, count, "", at, cautions=own),
        Reading("worst_frequency", number, where, "Hz", at, cautions=own),
    ]


def _decibels(ratio: float) -> float:
    return to_db(max(ratio, _QUIETEST))


def _curves(found: list[Group], number: int) -> tuple[Curve, ...]:
    x = np.array([g.frequency for g in found])

    def curve(key: str, values: list[float], unit: str = "dB") -> Curve:
        return Curve(key, number, x, np.array(values), "Hz", unit)

    return (
        curve("impulsive_level", [_decibels(g.peak / max(g.fundamental, _QUIETEST)) for g in found]),
        curve("residual_level", [_decibels(math.sqrt(2) * g.rms / max(g.fundamental, _QUIETEST)) for g in found]),
        curve("crest_factor", [_decibels(g.crest) for g in found]),
        curve("impulse_score", [g.score for g in found], "ratio"),
        _period_map(found, number),
    )


def _period_map(found: list[Group], number: int) -> Curve:
    """Return the energy by phase within the period of all groups, one after the other, in dB re its median.

    x counts the groups, and the phase between them; their frequencies stand in ``columns_hz``.
    """
    columns = " ".join(f"{g.frequency:.4g}" for g in found)
    rows = np.array([10 * np.log10(np.maximum(g.profile, 1e-6)) for g in found])
    x: Samples = (np.arange(rows.size) / MAP_PHASES).astype(np.float64)
    return replace(
        Curve("period_map", number, x, rows.ravel(), "", "dB"),
        meta={"phases": float(MAP_PHASES), "columns_hz": columns},
    )
