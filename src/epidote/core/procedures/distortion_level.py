"""Distortion against level: a staircase of tones, finer where distortion passes a limit, ended by the limit, the ceiling or the unit.

Power is that of the fundamental into the chain's load, V²/R; 1 % as rated power, 2 % as practical clipping limit are common practice.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import replace
from enum import StrEnum
from functools import partial

import numpy as np
from pydantic import model_validator

from epidote.core.analysis import knee
from epidote.core.analysis.capture import headroom, require_usable
from epidote.core.analysis.steps import StepFound, found_start, stretch_of
from epidote.core.caution import Caution, unique
from epidote.core.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.base import (
    Conduct,
    CurveView,
    Stoppable,
    UsualProcedure,
    gathered,
    per_channel,
    setting,
    single_recording_channels,
)
from epidote.core.procedures.levels import LevelText, drive_dbfs
from epidote.core.procedures.stepped import (
    OVERHEAD,
    STEP_VIEWS,
    SteppedSettings,
    curves_of_step,
    db,
    figures_of,
    level_steps,
    ratio_curves,
    starts_of,
    stimulus_for,
    taken_apart,
)
from epidote.core.procedures.terminal import Terminal
from epidote.core.result import Curve, Reading, Result
from epidote.core.signal import Recording, Signal, Stimulus
from epidote.core.stimulus.staircase import StepAt, staircase, steps_of

RATED, PRACTICAL = 0.01, 0.02
_ROUNDS = 3
_STEP_REACH_DB = 1.25  # farther from it, a step is another one
_SMALL_DB = 20.0  # this far below the end, a unit's gain is its small-signal gain


class StopOn(StrEnum):
    """Which distortion is held against the limit."""

    THD_N = "THD+N"
    THD = "THD"


class DistortionLevelSettings(SteppedSettings):
    frequency: float = setting(1000.0, "frequency of the tones", "Hz", played=True, ge=5, le=100000)
    start_level: LevelText = setting("-60 dBFS", "first level at the chain's output: dBFS, V, dBV or dBu", played=True, max_length=40)
    stop_level: LevelText = setting("0 dBFS", "last level, unless the limit comes first", played=True, max_length=40)
    steps: int = setting(
        30, "levels between them, evenly spaced in dB; finer ones follow where a limit is passed", played=True, ge=2, le=400
    )
    stop_at: float = setting(5.0, "distortion at which the staircase ends", "%", played=True, gt=0, le=100)
    stop_on: StopOn = setting(StopOn.THD_N, "which distortion is held against the limits")
    clean: float = setting(0.1, "distortion below which the output counts as clean", "%", gt=0, le=100)

    @property
    def limits(self) -> tuple[float, ...]:
        """As ratios, rising."""
        return tuple(sorted({RATED, PRACTICAL, self.stop_at / 100}))

    @property
    def measure(self) -> knee.Measure:
        return (lambda s: s.thd) if self.stop_on is StopOn.THD else (lambda s: s.thd_n)

    @model_validator(mode="after")
    def _holds_cycles(self) -> DistortionLevelSettings:
        try:
            self.require_cycles(self.frequency)
        except SettingError as error:
            raise ValueError(str(error)) from error
        return self

    def levels(self, chain: Chain) -> tuple[list[float], bool]:
        """Drive levels in dBFS, and whether the chain's ceiling cut them short. Raises SettingError."""
        first, last = (drive_dbfs(t, chain, n) for t, n in ((self.start_level, "start_level"), (self.stop_level, "stop_level")))
        ceiling = chain.ceiling_dbfs
        if first >= min(last, ceiling):
            what = f"stop_level {last:g} dBFS" if last <= ceiling else f"the chain's ceiling of {ceiling:g} dBFS"
            raise SettingError(f"start_level {first:g} dBFS must lie below {what}. Nothing was played.")
        all_levels = np.linspace(first, last, self.steps)
        under = [float(v) for v in all_levels if v <= ceiling + 1e-9]
        if len(under) < self.steps and under[-1] < ceiling - 0.01:
            under.append(ceiling)
        return under, len(under) < self.steps or last > ceiling


class DistortionLevel(UsualProcedure):
    key = "distortion-level"
    title = "THD by level"
    Settings = DistortionLevelSettings
    keeps_part = True
    views = (
        CurveView("thd_n", "THD+N", "THD+N", "THD+N"),
        CurveView("thd", "THD", "THD", "THD"),
        *(CurveView(f"h{n}", "THD", f"H{n}", f"Harmonic {n}") for n in range(2, 6)),
        CurveView("noise", "Noise", "noise", "Noise beside the tone"),
        CurveView("gain", "Gain", "gain", "Gain"),
    )
    step_views = STEP_VIEWS
    reading_titles = {  # noqa: RUF012
        "power_at_1pct": "Power at 1 %", "level_at_1pct": "Level at 1 %", "power_at_2pct": "Power at 2 %", "level_at_2pct": "Level at 2 %",
        "power_at_limit": "Power at the limit", "level_at_limit": "Level at the limit", "thd_n_1w": "THD+N at 1 W",
        "lowest_thd_n": "Lowest THD+N", "lowest_thd_n_level": "Lowest THD+N at", "max_clean_level": "Clean up to",
        "max_clean_power": "Clean up to", "gain": "Gain, small signal", "gain_compression": "Gain compression", "headroom": "Headroom",
    }  # fmt: skip

    def conduct(self, settings: DistortionLevelSettings, chain: Chain) -> Conduct:
        stimulus = self._coarse(settings, chain)
        recording = yield Stoppable(stimulus, _Watch(stimulus, settings).enough)
        found: dict[int, list[StepFound]] = {n: [] for n in settings.read_channels(recording.signal.channels)}
        for _ in range(_ROUNDS):
            starts = starts_of([recording], [stimulus])
            for number, steps in found.items():
                steps.extend(taken_apart([recording], [stimulus], starts, number, settings).found)
            finer = _apart(v for steps in found.values() for v in knee.finer_levels(_rising(steps), settings.limits, settings.measure))
            if not finer:
                return
            stimulus = staircase(rate=chain.rate, steps=level_steps(settings, settings.frequency, finer), channels=stimulus.channels)
            recording = yield stimulus

    def _coarse(self, settings: DistortionLevelSettings, chain: Chain) -> Stimulus:
        levels, _ = settings.levels(chain)
        steps = level_steps(settings, settings.frequency, levels)
        return staircase(rate=chain.rate, steps=steps, channels=settings.outputs(len(chain.outputs)))

    def plan(self, settings: DistortionLevelSettings, chain: Chain) -> list[Stimulus]:
        return [self._coarse(settings, chain)]

    def duration(self, settings: DistortionLevelSettings, chain: Chain) -> float:
        return len(settings.levels(chain)[0]) * settings.dwell + OVERHEAD

    def headline(self, result: Result) -> Reading | None:
        for key in ("power_at_1pct", "level_at_1pct", "lowest_thd_n"):
            reading = result.reading(key, result.readings[0].channel) if result.readings else None
            if reading is not None and reading.value is not None:
                return reading
        return None

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key == "thd_n"), None)

    def summary(self, settings: DistortionLevelSettings) -> str:
        driven = f", output {settings.driven} alone" if settings.driven else ""
        return f"{settings.frequency:g} Hz, to {settings.stop_at:g} %{driven}"

    def analyse(self, recordings: Sequence[Recording], settings: DistortionLevelSettings, chain: Chain) -> Result:
        channels = single_recording_channels(recordings)
        for recording in recordings:
            require_usable(recording.signal, 256)
        stimuli = [stimulus_for(r, lambda: self._coarse(settings, chain)) for r in recordings]
        starts = starts_of(recordings, stimuli)
        numbers = settings.read_channels(channels)
        results = per_channel(len(numbers), lambda i: _channel(recordings, stimuli, starts, numbers[i - 1], settings, chain))
        result = gathered(results, recordings, chain)
        if any(_ended(r) for r in results):  # one channel's limit ends the staircase of all
            return replace(result, cautions=tuple(c for c in result.cautions if c is not Caution.PARTIAL))
        return result

    def step_curves(self, recordings: Sequence[Recording], settings: DistortionLevelSettings, chain: Chain, x: float) -> tuple[Curve, ...]:
        stimuli = [stimulus_for(r, lambda: self._coarse(settings, chain)) for r in recordings]
        channels = settings.read_channels(recordings[0].signal.channels)
        return curves_of_step(
            recordings, stimuli, channels, settings, lambda s: abs(s.level - x), _STEP_REACH_DB, partial(Terminal.of, chain)
        )


class _Watch:
    """Looks at each step as soon as it is there, and says when the staircase has gone far enough."""

    def __init__(self, stimulus: Stimulus, settings: DistortionLevelSettings) -> None:
        self.stimulus, self.settings = stimulus, settings
        self.waiting = steps_of(stimulus)
        self.start: int | None = None
        self.look_at = self.waiting[0].first + self.waiting[0].frames  # not for every block that comes in
        self.found: dict[int, list[StepFound]] = {}

    def enough(self, signal: Signal) -> bool:
        if self.start is None:
            if signal.frames < self.look_at:
                return False
            self.start = found_start(signal, self.stimulus)
            if self.start is None:
                self.look_at += self.waiting[0].frames
                return False
        while self.waiting and self.start + self.waiting[0].first + self.waiting[0].frames <= signal.frames:
            step = self.waiting.pop(0)
            over = [self._is_over(signal, step, n) for n in self.settings.read_channels(signal.channels)]
            if any(over):
                return True
        return False

    def _is_over(self, signal: Signal, step: StepAt, number: int) -> bool:
        part = stretch_of(signal.channel(number), self.start or 0, step, signal.rate)
        one = None if part is None else figures_of(part, signal, step, self.settings)
        if one is None:
            return False
        steps = self.found.setdefault(number, [])
        steps.append(one)
        return knee.is_reached(steps, self.settings.stop_at / 100, self.settings.measure) or knee.is_folded_back(steps)


def _ended(result: Result) -> bool:
    """Whether this channel gave a reason to stop."""
    limit = next((r for r in result.readings if r.key == "level_at_limit"), None)
    return Caution.FOLDED_BACK in result.cautions or (
        limit is not None and (limit.value is not None or Caution.OVER_LIMIT in limit.cautions)
    )


def _apart(levels: Iterable[float]) -> list[float]:
    """Rising, without those that say nothing new."""
    kept: list[float] = []
    for level in sorted(levels):
        if not kept or level - kept[-1] > knee.FINE_DB / 4:
            kept.append(level)
    return kept


def _rising(found: Sequence[StepFound]) -> list[StepFound]:
    return sorted(found, key=lambda s: s.level)


def _channel(
    recordings: Sequence[Recording], stimuli: Sequence[Stimulus], starts: Sequence[int | None], number: int,
    settings: DistortionLevelSettings, chain: Chain,
) -> Result:  # fmt: skip
    parts = taken_apart(recordings, stimuli, starts, number, settings)
    steps = _rising(parts.found)
    if not steps:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        keys = (("level_at_1pct", "dBFS"), ("power_at_1pct", "W"), ("lowest_thd_n", "dB"))
        return Result((), tuple(Reading(k, number, None, unit, cautions=missing) for k, unit in keys), missing)
    limit = settings.stop_at / 100
    reached = knee.crossing(steps, limit, settings.measure) is not None or knee.over_from_the_start(steps, limit)
    cautions = [*parts.cautions, *knee.oddities(steps, limit)]
    if parts.missing and not reached and Caution.FOLDED_BACK not in cautions:
        cautions.append(Caution.PARTIAL)
    elif not reached and settings.levels(chain)[1]:
        cautions.append(Caution.CEILING)
    signal = recordings[0].signal
    terminal = Terminal.of(chain, number) if signal.unit == "FS" else Terminal(number, None, "V")
    load = chain.load_ohms if terminal.full and terminal.base == "V" else None
    readings = (*_readings(steps, settings, terminal, load, chain), headroom(signal, number))
    return Result(_curves(steps, terminal, load, chain), readings, unique(cautions))


def _curves(steps: Sequence[StepFound], terminal: Terminal, load: float | None, chain: Chain) -> tuple[Curve, ...]:
    """Each against the drive in dBFS; against what the unit puts out, in V (FS without a calibration); and in W where there is a load."""
    offset = chain.offset_db(terminal.channel) or 0.0
    out = np.array([s.amplitude for s in steps]) * (terminal.full or math.sqrt(0.5))
    axes = [(np.array([s.level for s in steps]), "dBFS"), (out, terminal.unit)]
    if load:
        axes.append((out**2 / load, "W"))
    curves: list[Curve] = []
    for x, unit in axes:
        keep = [i for i in range(x.size) if i == 0 or x[i] > x[:i].max()]  # where the unit folds back, there is no function of its output
        part = ratio_curves([steps[i] for i in keep], terminal.channel, x[keep], unit, offset, terminal.level_unit)
        curves += [replace(c, y=c.y + terminal.level_offset) if c.key == "noise" else c for c in part]
    return tuple(curves)


def _readings(
    steps: Sequence[StepFound], settings: DistortionLevelSettings, terminal: Terminal, load: float | None, chain: Chain
) -> list[Reading]:
    number, measure = terminal.channel, settings.measure
    base: dict[str, float | str] = {
        "frequency_hz": settings.frequency, "band_low_hz": settings.band_low, "band_high_hz": settings.band_high,
        "weighting": str(settings.weighting), "of": str(settings.stop_on),
    }  # fmt: skip

    def at_limit(name: str, limit: float) -> list[Reading]:
        found = knee.crossing(steps, limit, measure)
        over = (Caution.OVER_LIMIT,) if knee.over_from_the_start(steps, limit) else (Caution.NOT_REACHED,)
        at: dict[str, float | str] = {**base, "limit_percent": 100 * limit}
        if found is None:
            absent = Reading(f"level_at_{name}", number, None, terminal.base if terminal.full else "dBFS", at, cautions=over)
            return [Reading(f"power_at_{name}", number, None, "W", at, cautions=over), absent] if load else [absent]
        at["drive_dbfs"] = found.level
        return _out(f"level_at_{name}", f"power_at_{name}", found.amplitude, at, found.spread_db)

    def _out(key: str, power_key: str, amplitude: float, at: dict[str, float | str], spread: float | None) -> list[Reading]:
        level = terminal.level(key, amplitude**2 / 2, at, spread)
        if not load or level.value is None:
            return [level]
        watts = level.value**2 / load
        return [
            Reading(power_key, number, watts, "W", {**at, "load_ohms": load}, None, None if spread is None else watts * spread / 4.343),
            level,
        ]

    readings = [
        r for name, limit in (("1pct", RATED), ("2pct", PRACTICAL), ("limit", settings.stop_at / 100)) for r in at_limit(name, limit)
    ]
    if load and terminal.full:
        watts = np.array([(s.amplitude * terminal.full) ** 2 / load for s in steps])
        inside = watts[0] <= 1 <= watts[-1]
        value = float(np.interp(0.0, np.log(watts), [db(s.thd_n) for s in steps])) if inside else None
        readings.append(
            Reading("thd_n_1w", number, value, "dB", {**base, "power_w": 1.0}, cautions=() if inside else (Caution.OUTSIDE_BAND,))
        )
    best = steps[knee.lowest(steps, lambda s: s.thd_n)]
    spread = best.noise_spread_db * best.noise / (best.noise + best.harmonic) if best.noise > 0 else None
    readings.append(Reading("lowest_thd_n", number, db(best.thd_n), "dB", {**base, "drive_dbfs": best.level}, None, spread))
    readings.append(terminal.level("lowest_thd_n_level", best.main, base))
    clean = [s for s in steps if measure(s) <= settings.clean / 100]
    if clean:
        edge = knee.crossing(steps, settings.clean / 100, measure)
        amplitude = edge.amplitude if edge else clean[-1].amplitude
        readings += _out("max_clean_level", "max_clean_power", amplitude, {**base, "limit_percent": settings.clean}, None)
    rated = knee.crossing(steps, RATED, measure)
    end = (rated.level, rated.amplitude) if rated else (steps[-1].level, steps[-1].amplitude)
    small = [db(s.amplitude) - s.level for s in steps if s.level < end[0] - _SMALL_DB and s.noise < 1e-4 * s.main] or [
        db(steps[0].amplitude) - steps[0].level
    ]
    gain, offset = float(np.median(small)), chain.offset_db(number)
    readings.append(
        Reading("gain", number, gain + (offset or 0.0), "dB", base, cautions=() if offset is not None else (Caution.UNCALIBRATED,))
    )
    readings.append(Reading("gain_compression", number, gain - (db(end[1]) - end[0]), "dB", {**base, "drive_dbfs": end[0]}))
    return readings
