"""What the procedures that step a tone share: their settings, taking the steps of recordings apart, and curves of
what was found.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.sine.stepped_tone import (
    GUARD,
    SETTLE,
    StepMeasurement,
    analyse_step,
    locate_preamble,
    measure_step,
    settling_time,
    step_segment,
)
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.common.shared_settings import highest_harmonic, lower_band_limit, upper_band_limit
from epidote.core.procedures.common.tone_curves import tone_curves
from epidote.core.procedures.protocol import CurveView, InterruptibleStimulus
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.result import Curve
from epidote.core.settings import Settings, require_rising, setting
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import KIND, LONG_PREAMBLE, TAIL, ScheduledStep, Step, steps_of

OVERHEAD = LONG_PREAMBLE.seconds + TAIL
_LEAST_CYCLES = 3
_CLEAR = 10.0  # times the noise under the harmonics, above which distortion counts

STEP_VIEWS = (
    CurveView("step_waveform", "Single step", "waveform", "Signal", log_x=False, compared=False),
    CurveView("step_residual", "Single step", "residual", "Residual without fundamental", log_x=False, compared=False),
    CurveView("step_spectrum", "Single step", "spectrum", "Level", compared=False),
)


class SteppedSettings(Settings):
    """Settings that all procedures of stepped tones have."""

    dwell: float = setting(
        0.4, "Dwell time", "Duration of each tone, including settling time", "s", played=True, ge=0.02, le=60
    )
    driven: int = setting(
        0, "Driven output", "Drive this output only; 0 drives all outputs", played=True, ge=0, le=64, secondary=True
    )
    band_low: float = lower_band_limit()
    band_high: float = upper_band_limit()
    weighting: Weighting = setting(
        Weighting.NONE, "Weighting", "Weighting of noise and THD+N", affects=effects.NOISE_WEIGHTING
    )
    harmonics: int = highest_harmonic()

    @model_validator(mode="after")
    def _band_is_one(self) -> SteppedSettings:
        require_rising(self, "band_low", "band_high")
        return self

    def outputs(self, available: int) -> tuple[int, ...]:
        """Return the driven outputs, as positions from 1. Raises SettingError."""
        if self.driven > available:
            raise SettingError(
                f"{{driven}} {self.driven}: the chain has only {available} outputs. Use one of them, or change the"
                " chain.",
                "driven",
            )
        if self.driven:
            return (self.driven,)
        return tuple(range(1, available + 1))

    def read_channels(self, available: int) -> list[int]:
        """Return the channels that carry the driven tone."""
        if 0 < self.driven <= available:
            return [self.driven]
        return list(range(1, available + 1))

    def require_cycles(self, frequency: float) -> None:
        """Raise SettingError for a dwell too short for the tone."""
        least = least_dwell(frequency, _LEAST_CYCLES)
        if self.dwell < least:
            raise SettingError(
                f"A dwell of {self.dwell:g} s is only {self.dwell * frequency:.1f} cycles of {frequency:g} Hz, too"
                f" short to settle and measure. Use at least {least:.2g} s."
            )


def least_dwell(frequency: float, cycles: float) -> float:
    """How long a tone must sound in s so that ``cycles`` of it are left once it has settled."""
    return max(settling_time(frequency) + cycles / frequency, cycles / frequency / (1 - SETTLE - 0.02)) + GUARD


@dataclass(frozen=True)
class ChannelSteps:
    """What one channel shows: found steps with their place in the stimulus, how many should be there, and what is
    wrong.
    """

    found: tuple[StepMeasurement, ...]
    missing: int
    silent: tuple[ScheduledStep, ...]
    cautions: tuple[Caution, ...]


def stimulus_for(recording: Recording, planned: Callable[[], Stimulus]) -> Stimulus:
    """Return the staircase of a recording; for one without description, the one that the settings make.

    Raises UnusableInputError.
    """
    stimulus = recording.stimulus or planned()
    if stimulus.kind != KIND:
        raise UnusableInputError(
            f"This recording is of a {stimulus.kind} stimulus, not of a stepped sweep. Nothing was computed; analyse it"
            " with the procedure that made the stimulus."
        )
    return stimulus


def locate_starts(recordings: Sequence[Recording], stimuli: Sequence[Stimulus]) -> list[int | None]:
    """Where each recording's stimulus begins in it, in frames."""
    return [locate_preamble(r.signal, s) for r, s in zip(recordings, stimuli, strict=True)]


def analyse_steps(
    recordings: Sequence[Recording],
    stimuli: Sequence[Stimulus],
    starts: Sequence[int | None],
    number: int,
    settings: SteppedSettings,
) -> ChannelSteps:
    """Every step of one channel (from 1), in the order of playing."""
    measurements: list[StepMeasurement] = []
    silent: list[ScheduledStep] = []
    missing = 0
    for recording, stimulus, start in zip(recordings, stimuli, starts, strict=True):
        if start is None:
            continue
        x = recording.signal.channel(number)
        for step in steps_of(stimulus):
            part = step_segment(x, start, step, recording.signal.rate)
            if part is None:
                missing += 1
                continue
            one = measure_by_settings(part, recording.signal, step, settings)
            if one is None:
                silent.append(step)
            else:
                measurements.append(one)
    cautions = caution_when(any(s.clipped for s in measurements), Caution.CLIPPED)
    return ChannelSteps(tuple(measurements), missing, tuple(silent), cautions)


def measure_by_settings(
    part: Samples, signal: Signal, step: ScheduledStep, settings: SteppedSettings
) -> StepMeasurement | None:
    """Measure one step of a channel, as the settings of its procedure say."""
    return measure_step(
        part,
        signal.rate,
        step,
        settings.harmonics,
        (settings.band_low, settings.band_high),
        weighting=settings.weighting,
        unit=signal.unit,
    )


class StepMonitor:
    """Looks at each step as soon as it is there: the recording ends with its last step, or before where ``is_over``
    finds a reason among the steps of one channel so far.
    """

    def __init__(
        self,
        stimulus: Stimulus,
        settings: SteppedSettings,
        is_over: Callable[[Sequence[StepMeasurement]], bool] | None = None,
    ) -> None:
        self.stimulus, self.settings, self.is_over = stimulus, settings, is_over
        self.waiting = steps_of(stimulus)
        self.start: int | None = None
        self.look_at = self.waiting[0].first + self.waiting[0].frames  # not for every block that comes in
        self.found: dict[int, list[StepMeasurement]] = {}

    def enough(self, signal: Signal) -> bool:
        if self.start is None:
            if signal.frames < self.look_at:
                return False
            self.start = locate_preamble(signal, self.stimulus)
            if self.start is None:
                self.look_at += self.waiting[0].frames
                return False
        while self.waiting and self.start + self.waiting[0].first + self.waiting[0].frames <= signal.frames:
            step = self.waiting.pop(0)
            over = [
                self._over(signal, step, n) for n in self.settings.read_channels(signal.channels)
            ]  # each channel is looked at
            if any(over):
                return True
        return not self.waiting

    def _over(self, signal: Signal, step: ScheduledStep, number: int) -> bool:
        if self.is_over is None:
            return False
        part = step_segment(signal.channel(number), self.start or 0, step, signal.rate)
        if part is None:
            one = None
        else:
            one = measure_by_settings(part, signal, step, self.settings)
        if one is None:
            return False
        steps = self.found.setdefault(number, [])
        steps.append(one)
        return self.is_over(steps)


def monitored(
    stimulus: Stimulus, settings: SteppedSettings, is_over: Callable[[Sequence[StepMeasurement]], bool] | None = None
) -> InterruptibleStimulus:
    """Return a staircase to be played as far as ``Watch`` lets it."""
    return InterruptibleStimulus(stimulus, StepMonitor(stimulus, settings, is_over).enough)


def distorts(step: StepMeasurement, limit_percent: float) -> bool:
    """Return whether a step's THD is over a limit in %, and its harmonics stand clear of the noise."""
    return step.harmonic > _CLEAR * step.expected_noise and 100 * step.thd > limit_percent


def safe_db(ratio: float) -> float:
    """Return a ratio of amplitudes in dB, -400 dB for none."""
    if ratio > 0:
        return 20 * math.log10(ratio)
    return -400.0


def ratio_curves(
    steps: Sequence[StepMeasurement], number: int, x: Samples, x_unit: str, offset: float, *, noise_unit: str
) -> list[Curve]:
    """thd, thd_n, noise, gain and h2 to h5 against ``x`` (steps,) in ``x_unit``.

    ``offset``: what turns digital gain into the unit's, in dB.

        thd and the harmonics carry the noise under them as floor.
    """

    def curve(key: str, y: Sequence[float], unit: str = "dB", floor: Sequence[float] | None = None) -> Curve:
        values = np.array(y)
        there = np.isfinite(values)  # a curve ends where its data end
        return Curve(
            key, number, x[there], values[there], x_unit, unit, None if floor is None else np.array(floor)[there]
        )

    under = [safe_db(math.sqrt(s.expected_noise / s.main)) for s in steps]
    curves = [
        curve("thd_n", [safe_db(s.thd_n) for s in steps]),
        curve("thd", [safe_db(s.thd) for s in steps], floor=under),
        curve("noise", [10 * math.log10(max(2 * s.noise, 1e-40)) for s in steps], noise_unit),
        curve("gain", [safe_db(s.amplitude) - s.level + offset for s in steps]),
    ]
    for n in range(2, 6):
        values = [
            (
                safe_db(math.sqrt(s.harmonics[n - 2] / s.main))
                if n - 2 < len(s.harmonics) and s.harmonics[n - 2] > 0
                else math.nan
            )
            for s in steps
        ]
        one = [safe_db(math.sqrt(s.expected_noise / max(1, len(s.harmonics)) / s.main)) for s in steps]
        if any(math.isfinite(v) for v in values):
            curves.append(curve(f"h{n}", values, floor=one))
    return curves


def curves_of_step(
    recordings: Sequence[Recording],
    stimuli: Sequence[Stimulus],
    channels: Sequence[int],
    settings: SteppedSettings,
    away: Callable[[ScheduledStep], float],
    *,
    reach: float,
    terminals: Callable[[int], ChannelScale],
) -> tuple[Curve, ...]:
    """Waveform, residual and spectrum of the step for which ``away`` is least, of each channel.

    None where the nearest is beyond ``reach``.
    """
    starts = locate_starts(recordings, stimuli)
    every = [
        (away(step), i, step)
        for i, stimulus in enumerate(stimuli)
        if starts[i] is not None
        for step in steps_of(stimulus)
    ]
    places = [p for p in every if p[0] <= reach]
    curves: list[Curve] = []
    for number in channels:
        for _, i, step in sorted(places, key=lambda p: p[0]):
            start, signal = starts[i], recordings[i].signal
            part = step_segment(signal.channel(number), start or 0, step, signal.rate)
            if part is None:
                continue
            analysis = analyse_step(
                part,
                signal.rate,
                step,
                settings.harmonics,
                (settings.band_low, settings.band_high),
                weighting=settings.weighting,
            )
            if analysis is not None:
                meta: dict[str, float | str] = {"step_level_dbfs": step.level, "step_frequency_hz": step.frequency}
                curves += [
                    Curve(f"step_{c.key}", number, c.x, c.y, c.x_unit, c.y_unit, None, {**c.meta, **meta})
                    for c in tone_curves(analysis, terminals(number))
                ]
                break
    return tuple(curves)


def level_steps(settings: SteppedSettings, frequency: float, levels: Sequence[float]) -> list[Step]:
    """Return the steps of a level sweep at one frequency; levels in dBFS."""
    return [Step(frequency, level, settings.dwell) for level in levels]
