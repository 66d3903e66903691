"""Distortion against level: a staircase of tones, finer where distortion passes a limit, ended by the limit, the
ceiling or the unit.

Power is that of the fundamental into the chain's load, V²/R; 1 % as rated power, 2 % as practical clipping limit are
common practice.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from epidote.core.analysis.capture_checks import headroom
from epidote.core.analysis.sine import distortion_limits as knee
from epidote.core.analysis.sine.stepped_tone import StepMeasurement
from epidote.core.analysis.spreads import median_spread
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import (
    merge_channels,
    per_channel,
    require_usable_recordings,
    without_spreads,
)
from epidote.core.procedures.common.stepped_tones import (
    OVERHEAD,
    STEP_VIEWS,
    analyse_steps,
    curves_of_step,
    level_steps,
    locate_starts,
    monitored,
    ratio_curves,
    safe_db,
    stimulus_for,
)
from epidote.core.procedures.distortion_level.claim_answers import ANSWERS
from epidote.core.procedures.distortion_level.settings import PRACTICAL, RATED, DistortionLevelSettings
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.formatting import format_plain
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.kinds import ChainShare, CurveRole, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import SHORT_PREAMBLE, stepped_tones

_ROUNDS = 3
_STEP_REACH_DB = 1.25  # farther from it, a step is another one
_SMALL_DB = 20.0  # this far below the end, a unit's gain is its small-signal gain


class DistortionLevel(ProcedureBase):
    """Distortion as a function of level."""

    key = "distortion-level"
    measures_power = True
    title = "THD vs. level"
    about = About(
        QuestionGroup.DISTORTION,
        question="How much power does it deliver before it clips?",
        played="A tone in steps from low to high level",
        gives="THD+N over output level, power at 1 %, compression.",
        needs="A load of measured resistance, for power readings",
        sketch=((0, 0.8), (0.35, 0.4), (0.7, 0.15), (0.82, 0.15), (0.88, 0.5), (0.92, 0.95)),
    )
    presets = (
        Preset("Overview, 12 steps", {"steps": 12, "dwell": 0.2}, "Quick overview."),
        Preset(
            "Power, stop at 1 %",
            {"stop_at": 1.0, "steps": 40},
            "Fine steps near clipping; stops there.",
        ),
    )
    Settings = DistortionLevelSettings
    answers = ANSWERS
    keeps_part = True
    views = (
        CurveView("thd_n", "THD+N", "THD+N", "THD+N", chain=ChainShare.ADDS, ratio=True),
        CurveView("thd", "THD", "THD", "THD", chain=ChainShare.ADDS, ratio=True),
        *(CurveView(f"h{n}", "THD", f"H{n}", f"Harmonic {n}", chain=ChainShare.ADDS, ratio=True) for n in range(2, 6)),
        CurveView("noise", "Noise", "noise", "Residual noise", chain=ChainShare.ADDS),
        CurveView("gain", "Gain", "gain", "Gain", role=CurveRole.GAIN),
    )
    step_views = STEP_VIEWS
    readings = (
        ReadingKind(
            "power_at_1pct", "Power at 1 %", meaning="Power into the load at which the distortion reaches 1 %."
        ),
        ReadingKind(
            "level_at_1pct",
            "Level at 1 %",
            meaning="Output level at which the distortion reaches 1 %, interpolated between steps.",
        ),
        ReadingKind(
            "power_at_2pct", "Power at 2 %", meaning="Power into the load at which the distortion reaches 2 %."
        ),
        ReadingKind(
            "level_at_2pct",
            "Level at 2 %",
            meaning="Output level at which the distortion reaches 2 %, interpolated between steps.",
        ),
        ReadingKind(
            "power_at_limit",
            "Power at stop limit",
            meaning="Power into the load at which the distortion reaches the stop limit.",
        ),
        ReadingKind(
            "level_at_limit",
            "Level at stop limit",
            meaning="Output level at which the distortion reaches the stop limit.",
        ),
        ReadingKind(
            "thd_n_1w", "THD+N at 1 W", chain=ChainShare.ADDS, ratio=True, meaning="THD+N at 1 W into the load."
        ),
        ReadingKind(
            "lowest_thd_n",
            "Lowest THD+N",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Lowest THD+N over all levels measured.",
        ),
        ReadingKind("lowest_thd_n_level", "Lowest THD+N at", meaning="Output level of the lowest THD+N."),
        ReadingKind(
            "max_clean_level",
            "Clean level (max.)",
            meaning="Highest output level up to which the distortion stays below the clean limit.",
        ),
        ReadingKind(
            "max_clean_power",
            "Clean power (max.)",
            meaning="Highest power into the load up to which the distortion stays below the clean limit.",
        ),
        ReadingKind("gain", "Small-signal gain", meaning="Gain at low level."),
        ReadingKind(
            "gain_compression",
            "Gain compression",
            meaning="Gain reduction at 1 % distortion, or at the last step, relative to low level.",
        ),
        HEADROOM,
    )

    def conduct(self, settings: DistortionLevelSettings, chain: Chain) -> Conduct:
        stimulus = self._coarse(settings, chain)
        limit = settings.stop_at / 100

        def is_over(steps: Sequence[StepMeasurement]) -> bool:
            return knee.is_reached(steps, limit, settings.measure) or knee.output_decreases(steps)

        recording = yield monitored(stimulus, settings, is_over)
        measurements: dict[int, list[StepMeasurement]] = {
            n: [] for n in settings.read_channels(recording.signal.channels)
        }
        for _ in range(_ROUNDS):
            starts = locate_starts([recording], [stimulus])
            for number, known in measurements.items():
                known.extend(analyse_steps([recording], [stimulus], starts, number, settings).found)
            finer = _apart(
                v
                for known in measurements.values()
                for v in knee.refinement_levels(_rising(known), settings.limits, settings.measure)
            )
            if not finer:
                return
            steps = level_steps(settings, settings.frequency, finer)
            stimulus = stepped_tones(rate=chain.rate, steps=steps, channels=stimulus.channels, opening=SHORT_PREAMBLE)
            recording = yield monitored(stimulus, settings)

    def _coarse(self, settings: DistortionLevelSettings, chain: Chain) -> Stimulus:
        levels, _ = settings.levels(chain)
        steps = level_steps(settings, settings.frequency, levels)
        return stepped_tones(rate=chain.rate, steps=steps, channels=settings.outputs(len(chain.outputs)))

    def plan(self, settings: DistortionLevelSettings, chain: Chain) -> list[Stimulus]:
        return [self._coarse(settings, chain)]

    def duration(self, settings: DistortionLevelSettings, chain: Chain) -> float:
        return len(settings.levels(chain)[0]) * settings.dwell + OVERHEAD

    def headline(self, result: Result) -> Reading | None:
        for key in ("power_at_1pct", "level_at_1pct", "lowest_thd_n"):
            if result.readings:
                reading = result.reading(key, result.readings[0].channel)
            else:
                reading = None
            if reading is not None and reading.value is not None:
                return reading
        return None

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key == "thd_n"), None)

    def summary(self, settings: DistortionLevelSettings) -> str:
        driven = ""
        if settings.driven:
            driven = f", output {settings.driven} only"
        return f"{format_plain(settings.frequency, 'Hz')}, to {settings.stop_at:g} %{driven}"

    def analyse(self, recordings: Sequence[Recording], settings: DistortionLevelSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, 256)
        stimuli = [stimulus_for(r, lambda: self._coarse(settings, chain)) for r in recordings]
        starts = locate_starts(recordings, stimuli)
        numbers = settings.read_channels(channels)
        results = per_channel(
            len(numbers), lambda i: _channel(recordings, stimuli, starts, numbers[i - 1], settings, chain=chain)
        )
        result = merge_channels(results, recordings, chain)
        if any(_ended(r) for r in results):  # one channel's limit ends the staircase of all
            return replace(result, cautions=tuple(c for c in result.cautions if c is not Caution.PARTIAL))
        return result

    def step_curves(
        self, recordings: Sequence[Recording], settings: DistortionLevelSettings, chain: Chain, x: float
    ) -> tuple[Curve, ...]:
        stimuli = [stimulus_for(r, lambda: self._coarse(settings, chain)) for r in recordings]
        channels = settings.read_channels(recordings[0].signal.channels)
        return curves_of_step(
            recordings,
            stimuli,
            channels,
            settings,
            lambda s: abs(s.level - x),
            reach=_STEP_REACH_DB,
            terminals=partial(ChannelScale.of, chain),
        )


def _ended(result: Result) -> bool:
    """Whether this channel gave a reason to stop."""
    limit = next((r for r in result.readings if r.key == "level_at_limit"), None)
    return Caution.FOLDED_BACK in result.cautions or (
        limit is not None and (limit.value is not None or Caution.OVER_LIMIT in limit.cautions)
    )


def _apart(levels: Iterable[float]) -> list[float]:
    """Rising, without those that say nothing new."""
    separate: list[float] = []
    for level in sorted(levels):
        if not separate or level - separate[-1] > knee.FINE_DB / 4:
            separate.append(level)
    return separate


def _rising(measurements: Sequence[StepMeasurement]) -> list[StepMeasurement]:
    return sorted(measurements, key=lambda s: s.level)


def _channel(
    recordings: Sequence[Recording],
    stimuli: Sequence[Stimulus],
    starts: Sequence[int | None],
    number: int,
    settings: DistortionLevelSettings,
    *,
    chain: Chain,
) -> Result:
    parts = analyse_steps(recordings, stimuli, starts, number, settings)
    steps = _rising(parts.found)
    if not steps:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        keys = (("level_at_1pct", "dBFS"), ("power_at_1pct", "W"), ("lowest_thd_n", "dB"))
        return Result((), tuple(Reading(k, number, None, unit, cautions=missing) for k, unit in keys), missing)
    limit = settings.stop_at / 100
    reached = knee.limit_crossing(steps, limit, settings.measure) is not None or knee.always_above(steps, limit)
    cautions = [*parts.cautions, *knee.anomalies(steps, limit)]
    if parts.missing and not reached and Caution.FOLDED_BACK not in cautions:
        cautions.append(Caution.PARTIAL)
    elif not reached and settings.levels(chain)[1]:
        cautions.append(Caution.CEILING)
    if any(s.meets_hum(steps) for s in steps):
        cautions.append(Caution.HUM_INCLUDED)
    signal = recordings[0].signal
    terminal = ChannelScale.at(signal, chain, number)
    if terminal.full and terminal.base == "V":
        load = chain.load_ohms
    else:
        load = None
    if any(s.undithered for s in steps):
        cautions.append(Caution.UNDITHERED)
    channel_readings = _readings(steps, settings, terminal, load, chain)
    readings = (
        *(without_spreads(channel_readings) if any(s.repeats for s in steps) else channel_readings),
        headroom(signal, number),
    )
    return Result(_curves(steps, terminal, load, chain), readings, unique(cautions))


def _curves(
    steps: Sequence[StepMeasurement], terminal: ChannelScale, load: float | None, chain: Chain
) -> tuple[Curve, ...]:
    """Each against the drive in dBFS; against what the unit puts out, in V (FS without a calibration); and in W where
    there is a load.
    """
    offset = chain.offset_db(terminal.channel) or 0.0
    out = np.array([s.amplitude for s in steps]) * (terminal.full or math.sqrt(0.5))
    axes = [(np.array([s.level for s in steps]), "dBFS"), (out, terminal.unit)]
    if load:
        axes.append((out**2 / load, "W"))
    curves: list[Curve] = []
    for x, unit in axes:
        keep = [
            i for i in range(x.size) if i == 0 or x[i] > x[:i].max()
        ]  # where the unit folds back, there is no function of its output
        part = ratio_curves(
            [steps[i] for i in keep], terminal.channel, x[keep], unit, offset, noise_unit=terminal.level_unit
        )
        curves += [replace(c, y=c.y + terminal.level_offset) if c.key == "noise" else c for c in part]
    return tuple(curves)


@dataclass(frozen=True)
class _LevelReadings:
    """The readings of one channel. load in Ω, None where none is known; base: what every reading says in ``at``."""

    steps: Sequence[StepMeasurement]
    settings: DistortionLevelSettings
    terminal: ChannelScale
    load: float | None
    base: dict[str, float | str]

    def at_limit(self, name: str, limit: float) -> list[Reading]:
        """Level and power at which distortion passes a limit."""
        number, terminal = self.terminal.channel, self.terminal
        at: dict[str, float | str] = {**self.base, "limit_percent": 100 * limit}
        crossing = knee.limit_crossing(self.steps, limit, self.settings.measure)
        if crossing is not None:
            at["drive_dbfs"] = crossing.level
            return self.output(f"level_at_{name}", f"power_at_{name}", crossing.amplitude, at, crossing.spread_db)
        over = (Caution.OVER_LIMIT,) if knee.always_above(self.steps, limit) else (Caution.NOT_REACHED,)
        unit = terminal.base if terminal.full else "dBFS"
        absent = [Reading(f"level_at_{name}", number, None, unit, at, cautions=over)]
        if self.load:
            absent.insert(0, Reading(f"power_at_{name}", number, None, "W", at, cautions=over))
        return absent

    def output(
        self, key: str, power_key: str, amplitude: float, at: dict[str, float | str], spread: float | None
    ) -> list[Reading]:
        """Power, where the load is known, and level of a tone of a peak amplitude in FS."""
        level = self.terminal.level(key, amplitude**2 / 2, at, spread)
        if not self.load or level.value is None:
            return [level]
        watts = level.value**2 / self.load
        # 10 lg of a power: 4.343 dB for a neper
        watts_spread = None if spread is None else watts * spread / 4.343
        at = {**at, "load_ohms": self.load}
        return [Reading(power_key, self.terminal.channel, watts, "W", at, None, watts_spread), level]

    def at_one_watt(self) -> list[Reading]:
        if not self.load or not self.terminal.full:
            return []
        watts = np.array([(s.amplitude * self.terminal.full) ** 2 / self.load for s in self.steps])
        at: dict[str, float | str] = {**self.base, "power_w": 1.0}
        if not watts[0] <= 1 <= watts[-1]:
            return [Reading("thd_n_1w", self.terminal.channel, None, "dB", at, cautions=(Caution.OUTSIDE_BAND,))]
        value = float(np.interp(0.0, np.log(watts), [safe_db(s.thd_n) for s in self.steps]))
        spread = self.steps[int(np.argmin(np.abs(np.log(watts))))].thd_n_spread_db
        return [Reading("thd_n_1w", self.terminal.channel, value, "dB", at, None, spread)]

    def lowest(self) -> list[Reading]:
        best = self.steps[knee.index_of_minimum(self.steps, lambda s: s.thd_n)]
        at: dict[str, float | str] = {**self.base, "drive_dbfs": best.level}
        value, spread = safe_db(best.thd_n), best.thd_n_spread_db
        return [
            Reading("lowest_thd_n", self.terminal.channel, value, "dB", at, None, spread),
            self.terminal.level("lowest_thd_n_level", best.main, self.base, best.main_spread_db),
        ]

    def max_clean(self) -> list[Reading]:
        """Return the output up to which distortion stays below the limit of clean output."""
        limit, measure = self.settings.clean / 100, self.settings.measure
        clean = [s for s in self.steps if measure(s) <= limit]
        if not clean:
            return []
        amplitude, spread = clean[-1].amplitude, clean[-1].main_spread_db
        edge = knee.limit_crossing(self.steps, limit, measure)
        if edge:
            amplitude, spread = edge.amplitude, edge.spread_db
        at: dict[str, float | str] = {**self.base, "limit_percent": self.settings.clean}
        return self.output("max_clean_level", "max_clean_power", amplitude, at, spread)

    def gain(self, offset: float | None) -> list[Reading]:
        """Gain of the small steps, and by how much it is less at the end. ``offset``: from FS to volts in dB."""
        last = self.steps[-1]
        level, amplitude, end_spread = last.level, last.amplitude, last.main_spread_db
        rated = knee.limit_crossing(self.steps, RATED, self.settings.measure)
        if rated:
            level, amplitude = rated.level, rated.amplitude
            end_spread = rated.spread_db or end_spread
        small = [s for s in self.steps if s.level < level - _SMALL_DB and s.noise < 1e-4 * s.main] or [self.steps[0]]
        gain = float(np.median([safe_db(s.amplitude) - s.level for s in small]))
        gain_spread = median_spread(float(np.median([s.main_spread_db for s in small])), len(small))
        uncalibrated = caution_when(offset is None, Caution.UNCALIBRATED)
        at: dict[str, float | str] = {**self.base, "drive_dbfs": level}
        compression = gain - (safe_db(amplitude) - level)
        both = math.hypot(gain_spread, end_spread)
        number = self.terminal.channel
        return [
            Reading("gain", number, gain + (offset or 0.0), "dB", self.base, None, gain_spread, uncalibrated),
            Reading("gain_compression", number, compression, "dB", at, None, both),
        ]


def _readings(
    steps: Sequence[StepMeasurement],
    settings: DistortionLevelSettings,
    terminal: ChannelScale,
    load: float | None,
    chain: Chain,
) -> list[Reading]:
    base: dict[str, float | str] = {
        "frequency_hz": settings.frequency,
        "band_low_hz": settings.band_low,
        "band_high_hz": settings.band_high,
        "weighting": str(settings.weighting),
        "of": str(settings.stop_on),
    }
    of = _LevelReadings(steps, settings, terminal, load, base)
    limits = (("1pct", RATED), ("2pct", PRACTICAL), ("limit", settings.stop_at / 100))
    return [
        *(reading for name, limit in limits for reading in of.at_limit(name, limit)),
        *of.at_one_watt(),
        *of.lowest(),
        *of.max_clean(),
        *of.gain(chain.offset_db(terminal.channel)),
    ]
