"""Distortion against frequency: tones in a row at one drive, or at one output of the unit, each taken apart on its
own.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from epidote.core.analysis.capture_checks import headroom
from epidote.core.analysis.sine.stepped_tone import StepMeasurement
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.chain.level_setting import drive_dbfs
from epidote.core.errors import SettingError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import (
    merge_channels,
    per_channel,
    require_usable_recordings,
    without_spreads,
)
from epidote.core.procedures.common.power_average import is_averaged, summed_ratios
from epidote.core.procedures.common.stepped_tones import (
    OVERHEAD,
    STEP_VIEWS,
    analyse_steps,
    curves_of_step,
    locate_starts,
    monitored,
    ratio_curves,
    safe_db,
    stimulus_for,
)
from epidote.core.procedures.distortion_frequency.claim_answers import ANSWERS
from epidote.core.procedures.distortion_frequency.settings import DistortionFrequencySettings, Hold
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.units import from_db, to_db
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.channels import AVERAGE
from epidote.core.results.curve_features import interpolate
from epidote.core.results.kinds import ChainShare, CurveRole, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import stepped_tones

HELD_DB = 0.1
_LOOK_BELOW_DB, _LOOK_DWELL = 10.0, 0.12  # the first look at the gain: below the wanted output, and short
_FIRST_LOOK_DBFS = -50.0
_CORRECTIONS = 3
_STEP_REACH_OCTAVES = 0.1  # farther from it, a step is another one
_FILTERED_DB = 30.0  # below what the unit passes best


class DistortionFrequency(ProcedureBase):
    """Distortion as a function of frequency."""

    key = "distortion-frequency"
    measures_power = True
    title = "THD vs. frequency"
    about = About(
        QuestionGroup.DISTORTION,
        question="How does distortion depend on frequency?",
        played="Tones in steps over the band, at one level",
        gives="THD and THD+N over frequency, at constant input or constant output power.",
        needs="A load for powers",
        sketch=((0, 0.5), (0.2, 0.3), (0.5, 0.2), (0.75, 0.35), (1, 0.8)),
    )
    presets = (
        Preset("Overview, octaves", {"points_per_octave": 1, "dwell": 0.3}, "Quick overview."),
        Preset("Constant output, 1 W", {"level": "1 W", "hold": "output"}, "Needs calibration and a load."),
    )
    Settings = DistortionFrequencySettings
    answers = ANSWERS
    keeps_part = True
    views = (
        CurveView("thd_n", "THD+N", "THD+N", "THD+N", chain=ChainShare.ADDS, ratio=True),
        CurveView("thd", "THD", "THD", "THD", chain=ChainShare.ADDS, ratio=True),
        *(CurveView(f"h{n}", "THD", f"H{n}", f"Harmonic {n}", chain=ChainShare.ADDS, ratio=True) for n in range(2, 6)),
        CurveView("noise", "Noise", "noise", "Residual noise", chain=ChainShare.ADDS),
        CurveView("gain", "Gain", "gain", "Gain", role=CurveRole.GAIN),
        CurveView("output", "Output", "output", "Level of the fundamental"),
    )
    step_views = STEP_VIEWS
    readings = (
        ReadingKind(
            "thd",
            "THD at 1 kHz",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="RMS sum of the harmonics re the fundamental at 1 kHz.",
        ),
        ReadingKind(
            "thd_n",
            "THD+N at 1 kHz",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Everything but the fundamental, in the measurement band, re the fundamental, at 1 kHz.",
        ),
        ReadingKind(
            "worst",
            "Highest THD+N",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Highest THD+N over all frequencies measured.",
        ),
        ReadingKind("worst_frequency", "Highest THD+N at", meaning="Frequency of the highest THD+N."),
        ReadingKind(
            "worst_thd",
            "Highest THD",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Highest THD over all frequencies measured.",
        ),
        ReadingKind(
            "lowest_thd_n",
            "Lowest THD+N",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Lowest THD+N over all frequencies measured.",
        ),
        ReadingKind("output", "Output at 1 kHz", meaning="Level at the output of the unit at 1 kHz."),
        ReadingKind(
            "level_error",
            "Output level error",
            meaning="Largest deviation of the output level from the one that was to be held constant.",
        ),
        HEADROOM,
    )

    def conduct(self, settings: DistortionFrequencySettings, chain: Chain) -> Conduct:
        channels = settings.outputs(len(chain.outputs))
        if not settings.holds_output:
            yield monitored(self._even(settings, chain), settings)
            return
        output_level = settings.output_dbfs(chain)
        count = settings.frequencies().size
        # a first look so far down that no unit minds, then one nearer to the output
        levels = [min(_FIRST_LOOK_DBFS, chain.ceiling_dbfs)] * count
        recording = yield monitored(
            stepped_tones(rate=chain.rate, steps=settings.steps(levels, _LOOK_DWELL), channels=channels), settings
        )
        levels = self._corrected(recording, settings, chain, levels, output_level - _LOOK_BELOW_DB)
        recording = yield monitored(
            stepped_tones(rate=chain.rate, steps=settings.steps(levels, _LOOK_DWELL), channels=channels), settings
        )
        levels = self._corrected(recording, settings, chain, levels, output_level)
        for _ in range(_CORRECTIONS):
            recording = yield monitored(
                stepped_tones(rate=chain.rate, steps=settings.steps(levels), channels=channels), settings
            )
            after = self._corrected(recording, settings, chain, levels, output_level)
            if max(abs(a - b) for a, b in zip(after, levels, strict=True)) <= HELD_DB / 2:
                return
            levels = after

    def _corrected(
        self,
        recording: Recording,
        settings: DistortionFrequencySettings,
        chain: Chain,
        levels: Sequence[float],
        output_level: float,
    ) -> list[float]:
        """Drive levels, rising in frequency, with which the first driven channel would put out ``output_level``
        dBFS, as far as the ceiling lets it.
        """
        stimulus = recording.stimulus
        assert stimulus is not None
        number = settings.read_channels(recording.signal.channels)[0]
        corrected = {
            round(s.frequency, 1): s
            for s in analyse_steps(
                [recording], [stimulus], locate_starts([recording], [stimulus]), number, settings
            ).found
        }
        played = sorted(corrected.values(), key=lambda s: s.frequency)
        new = []
        for frequency, level in zip(settings.frequencies(), levels, strict=True):
            near = min(played, key=lambda s: abs(math.log(s.frequency / frequency)), default=None)
            if near is None or abs(near.frequency / frequency - 1) > 0.02:
                new.append(level)  # nothing came back: more drive would not be answered either
                continue
            new.append(min(level + output_level - to_db(near.amplitude), chain.ceiling_dbfs))
        return new

    def _even(self, settings: DistortionFrequencySettings, chain: Chain) -> Stimulus:
        """Every tone at the same drive."""
        level = drive_dbfs(settings.level, chain)
        if level > chain.ceiling_dbfs:
            raise SettingError(
                f"{{level}} {level:g} dBFS exceeds the chain's maximum output of {chain.ceiling_dbfs:g} dBFS. Nothing"
                " was played; lower the level, or raise the maximum on the Chain page.",
                "level",
            )
        steps = settings.steps([level] * settings.frequencies().size)
        return stepped_tones(rate=chain.rate, steps=steps, channels=settings.outputs(len(chain.outputs)))

    def plan(self, settings: DistortionFrequencySettings, chain: Chain) -> list[Stimulus]:
        if settings.holds_output:
            raise SettingError(
                "A stimulus file cannot follow the unit's output. Set “{hold}” to the generator level, and “{level}” in"
                " dBFS.",
                "hold",
                "level",
            )
        return [self._even(settings, chain)]

    def wired(self, settings: DistortionFrequencySettings) -> DistortionFrequencySettings:
        """Return settings for a wire, which has no power to hold: the same tones at a usual drive."""
        if not settings.holds_output:
            return settings
        return settings.model_copy(update={"hold": Hold.DRIVE, "level": "-20 dBFS"})

    def duration(self, settings: DistortionFrequencySettings, chain: Chain) -> float:
        def sounds(dwell: float | None) -> float:
            return sum(s.dwell for s in settings.steps([0.0] * settings.frequencies().size, dwell)) + OVERHEAD

        return sounds(None) * 1.0 + (2 * sounds(_LOOK_DWELL) + sounds(None) if settings.holds_output else 0.0)

    def headline(self, result: Result) -> Reading | None:
        if result.readings:
            return result.reading("worst", result.readings[0].channel)
        return None

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key == "thd_n"), None)

    def summary(self, settings: DistortionFrequencySettings) -> str:
        hold = ""
        if settings.holds_output:
            hold = ", constant output"
        return f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz, {settings.level}{hold}"

    def analyse(self, recordings: Sequence[Recording], settings: DistortionFrequencySettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, 256)
        last = recordings[-1]  # those before it were for finding the drive
        stimulus = stimulus_for(last, lambda: self._even(settings, chain))
        starts = locate_starts([last], [stimulus])
        numbers = settings.read_channels(channels)
        results = per_channel(
            len(numbers), lambda i: _channel(last, stimulus, starts, numbers[i - 1], settings, chain=chain)
        )
        if is_averaged(len(numbers), chain):
            results.insert(0, _over_microphones(results))
        return merge_channels(results, recordings, chain)

    def step_curves(
        self, recordings: Sequence[Recording], settings: DistortionFrequencySettings, chain: Chain, x: float
    ) -> tuple[Curve, ...]:
        last = recordings[-1]
        stimulus = stimulus_for(last, lambda: self._even(settings, chain))
        channels = settings.read_channels(last.signal.channels)
        return curves_of_step(
            [last],
            [stimulus],
            channels,
            settings,
            lambda s: abs(math.log2(s.frequency / x)),
            reach=_STEP_REACH_OCTAVES,
            terminals=partial(ChannelScale.of, chain),
        )


def _over_microphones(results: Sequence[Result]) -> Result:
    """Return the power sums over the channels, with the readings that are read off them."""
    together = summed_ratios(results, ("thd_n", "thd", *(f"h{n}" for n in range(2, 6))), "output")
    readings: list[Reading] = []
    thd_n, thd = together.curve("thd_n", AVERAGE), together.curve("thd", AVERAGE)
    if thd_n is not None:
        worst = int(np.argmax(thd_n.y))
        at: dict[str, float | str] = {"frequency_hz": float(thd_n.x[worst])}
        readings.append(
            Reading("thd_n", AVERAGE, interpolate(thd_n.x, thd_n.y, 1000.0), "dB", {"frequency_hz": 1000.0})
        )
        readings.append(Reading("worst", AVERAGE, float(thd_n.y[worst]), "dB", at))
        readings.append(Reading("worst_frequency", AVERAGE, float(thd_n.x[worst]), "Hz"))
    if thd is not None:
        readings.insert(0, Reading("thd", AVERAGE, interpolate(thd.x, thd.y, 1000.0), "dB", {"frequency_hz": 1000.0}))
    return replace(together, readings=tuple(readings))


def _channel(
    recording: Recording,
    stimulus: Stimulus,
    starts: Sequence[int | None],
    number: int,
    settings: DistortionFrequencySettings,
    *,
    chain: Chain,
) -> Result:
    parts = analyse_steps([recording], [stimulus], starts, number, settings)
    steps = sorted(parts.found, key=lambda s: s.frequency)
    if not steps:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        return Result(
            (), tuple(Reading(k, number, None, "dB", cautions=missing) for k in ("worst", "thd", "thd_n")), missing
        )
    signal = recording.signal
    terminal = ChannelScale.at(signal, chain, number)
    cautions = list(parts.cautions)
    if parts.missing:
        cautions.append(Caution.PARTIAL)
    passed = _passed(steps)
    if not passed.all() or parts.silent:
        cautions.append(Caution.FILTERED)
    outside = np.array([s.left_out for s in steps])
    if outside.any():
        cautions.append(Caution.OUTSIDE_BAND)
    with_hum = [s for s in steps if s.meets_hum(steps)]
    if with_hum:
        cautions.append(Caution.HUM_INCLUDED)
    if settings.holds_output:
        error = _error_of_hold(steps, settings, chain, number)
    else:
        error = None
    if error is not None and error > HELD_DB:
        cautions.append(Caution.LEVEL_NOT_HELD)
    if any(s.undithered for s in steps):
        cautions.append(Caution.UNDITHERED)
    channel_readings = _readings(steps, passed, with_hum, settings, terminal, error=error)
    readings = (
        *(without_spreads(channel_readings) if any(s.repeats for s in steps) else channel_readings),
        headroom(signal, number),
    )
    return Result(_curves(steps, passed, with_hum, terminal, chain), readings, unique(cautions))


def _passed(steps: Sequence[StepMeasurement]) -> np.ndarray:
    """Whether the unit passes each tone (steps,): its gain lies within 30 dB of the greatest, or its THD+N is not
    mostly noise.
    """
    gain = np.array([safe_db(s.amplitude) - s.level for s in steps])
    noisy = np.array([s.noise > s.harmonic for s in steps])
    return np.asarray((gain > gain.max() - _FILTERED_DB) | ~noisy)


def _error_of_hold(
    steps: Sequence[StepMeasurement], settings: DistortionFrequencySettings, chain: Chain, number: int
) -> float | None:
    """Greatest departure of the output from the wanted one, in dB, of the channel that it was corrected by."""
    if number != settings.read_channels(len(chain.inputs))[0]:
        return None
    output_level = settings.output_dbfs(chain)
    return max(abs(to_db(s.amplitude) - output_level) for s in steps)


def _curves(
    steps: Sequence[StepMeasurement],
    passed: np.ndarray,
    with_hum: Sequence[StepMeasurement],
    terminal: ChannelScale,
    chain: Chain,
) -> tuple[Curve, ...]:
    """Raise into the floor what is filtered away, or counts harmonics beyond the band: drawn faint, named
    in ``meta``.
    """
    x = np.array([s.frequency for s in steps])
    offset = chain.offset_db(terminal.channel) or 0.0
    curves = []
    for one in ratio_curves(steps, terminal.channel, x, "Hz", offset, noise_unit=terminal.level_unit):
        curve = one
        if curve.key == "noise":
            curve = replace(curve, y=curve.y + terminal.level_offset)
        elif curve.key != "gain":
            own = np.searchsorted(x, curve.x)
            doubtful = (~passed | (np.array([s.left_out for s in steps]) if curve.key == "thd" else False))[own]
            if curve.floor is not None:
                floor = curve.floor
            else:
                floor = np.full(curve.x.size, -400.0)
            meta: dict[str, float | str] = {}
            if (~passed).any():
                meta["filtered_away_hz"] = " ".join(f"{f:.4g}" for f in x[~passed])
            if curve.key == "thd" and any(s.left_out for s in steps):
                meta["harmonics_outside_band_hz"] = " ".join(f"{s.frequency:.4g}" for s in steps if s.left_out)
            if curve.key == "thd" and with_hum:
                meta["hum_included_hz"] = " ".join(f"{s.frequency:.4g}" for s in with_hum)
            curve = replace(curve, floor=np.where(doubtful, np.maximum(curve.y, floor), floor), meta=meta)
        curves.append(curve)
    out = np.array([to_db(s.amplitude) for s in steps]) + terminal.level_offset
    curves.append(Curve("output", terminal.channel, x, out, "Hz", terminal.level_unit))
    return tuple(curves)


def _readings(
    steps: Sequence[StepMeasurement],
    passed: np.ndarray,
    with_hum: Sequence[StepMeasurement],
    settings: DistortionFrequencySettings,
    terminal: ChannelScale,
    *,
    error: float | None,
) -> list[Reading]:
    number = terminal.channel
    base: dict[str, float | str] = {
        "level": settings.level,
        "band_low_hz": settings.band_low,
        "band_high_hz": settings.band_high,
        "weighting": str(settings.weighting),
    }
    x = np.array([s.frequency for s in steps])
    thd, thd_n = (
        np.array([safe_db(v) for v in values]) for values in ([s.thd for s in steps], [s.thd_n for s in steps])
    )
    at_1k: dict[str, float | str] = {**base, "frequency_hz": 1000.0}
    near = steps[int(np.argmin(np.abs(np.log(x / 1000))))]
    buried = caution_when(near.harmonic < 3 * near.expected_noise, Caution.NOISE_DOMINATED)
    left = caution_when(near.left_out, Caution.OUTSIDE_BAND)
    absent = caution_when(not (x[0] <= 1000 * (1 + 1e-6) and x[-1] >= 1000 * (1 - 1e-6)), Caution.OUTSIDE_BAND)

    def of_hum(step: StepMeasurement) -> tuple[Caution, ...]:
        return caution_when(step in with_hum, Caution.HUM_INCLUDED)

    readings = [
        Reading(
            "thd",
            number,
            None if absent else interpolate(x, thd, 1000.0),
            "dB",
            at_1k,
            safe_db(math.sqrt(near.expected_noise / near.main)),
            None if absent else near.thd_spread_db,
            (*absent, *buried, *left, *of_hum(near)),
        ),
        Reading(
            "thd_n",
            number,
            None if absent else interpolate(x, thd_n, 1000.0),
            "dB",
            at_1k,
            None,
            None if absent else near.thd_n_spread_db,
            absent,
        ),
    ]
    usable = np.flatnonzero(passed)
    if usable.size:
        top = usable[int(np.argmax(thd_n[usable]))]
        least = usable[int(np.argmin(thd_n[usable]))]
        worst_thd = usable[int(np.argmax(thd[usable]))]
        skipped = caution_when(usable.size < x.size, Caution.FILTERED)
        mostly = caution_when(steps[top].noise > steps[top].harmonic, Caution.NOISE_DOMINATED)

        def at(place: int) -> dict[str, float | str]:
            return {**base, "frequency_hz": float(x[place])}

        worst = steps[top].thd_n_spread_db
        readings.append(Reading("worst", number, float(thd_n[top]), "dB", at(top), None, worst, (*skipped, *mostly)))
        readings.append(Reading("worst_frequency", number, float(x[top]), "Hz"))
        doubts = (*skipped, *of_hum(steps[worst_thd]))
        readings.append(
            Reading(
                "worst_thd",
                number,
                float(thd[worst_thd]),
                "dB",
                at(worst_thd),
                None,
                steps[worst_thd].thd_spread_db,
                doubts,
            )
        )
        readings.append(
            Reading("lowest_thd_n", number, float(thd_n[least]), "dB", at(least), None, steps[least].thd_n_spread_db)
        )
    amplitude = from_db(interpolate(x, np.array([to_db(s.amplitude) for s in steps]), 1000.0) or to_db(near.amplitude))
    readings.append(terminal.level("output", amplitude**2 / 2, at_1k, near.main_spread_db))
    if error is not None:
        readings.append(
            Reading(
                "level_error", number, error, "dB", base, cautions=caution_when(error > HELD_DB, Caution.LEVEL_NOT_HELD)
            )
        )
    return readings
