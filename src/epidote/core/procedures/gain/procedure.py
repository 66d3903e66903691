"""Gain: how much a unit amplifies at one frequency, how alike its channels are, which way round, and what input a
stated output takes.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.capture_checks import capture_cautions, headroom, settled_segment
from epidote.core.analysis.sine.tone import analyse_tone
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.chain.level_setting import LevelString
from epidote.core.errors import SettingError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import (
    merge_channels,
    per_channel,
    require_usable_recordings,
    without_spreads,
)
from epidote.core.procedures.common.shared_settings import tone_frequency
from epidote.core.procedures.common.tone_curves import tone_curves
from epidote.core.procedures.common.views import spectrum_view
from epidote.core.procedures.gain.claim_answers import ANSWERS
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.units import DB_PER_NEPER, QuantityError, parse_as, to_db
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.kinds import ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM, POLARITY
from epidote.core.settings import Settings, setting
from epidote.core.signals.recording import Recording
from epidote.core.stimuli.sweep import sweep
from epidote.core.stimuli.tone import LEAD, RAMP, SETTLE, TAIL, tone

_LEAST_FRAMES = 256
_SWEEP_SECONDS = 0.5
_BAND = (20.0, 20000.0)


class GainSettings(Settings):
    """Settings of gain."""

    frequency: float = tone_frequency()
    duration: float = setting(
        1.0, "Duration", "Duration of the analysed section", "s", played=True, ge=0.05, le=600, secondary=True
    )
    level: float = setting(-20.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0, affects=effects.LEVEL)
    output_level: LevelString = setting(
        "1 V",
        "Target output level",
        "Output level to find the required input for: V, dBV, W or dBFS of the input",
        max_length=40,
    )

    @model_validator(mode="after")
    def _holds_cycles(self) -> GainSettings:
        if self.duration * self.frequency < 3:
            raise SettingError(
                f"{{duration}} {self.duration:g} s is less than three cycles of {self.frequency:g} Hz. Use a longer"
                " duration or a higher frequency.",
                "duration",
            )
        return self


class Gain(ProcedureBase):
    """Gain, balance of the channels, polarity."""

    key = "gain"
    title = "Gain"
    about = About(
        QuestionGroup.LEVEL,
        question="What is the gain, and how well do the channels match?",
        played="A short tone",
        gives="Gain in dB and as a ratio, channel balance, input level for a target output level.",
        needs="Calibration for volts",
        sketch=((0, 0.2), (0.45, 0.2), (0.45, 0.75), (1, 0.75)),
    )
    presets = (Preset("At 100 Hz", {"frequency": 100.0}, "Away from most filters."),)
    Settings = GainSettings
    answers = ANSWERS
    views = (
        spectrum_view("Tone"),
        CurveView("waveform", "Tone", "waveform", "Signal", log_x=False, compared=False),
    )
    readings = (
        ReadingKind("gain", "Gain", meaning="Output voltage re input voltage of the unit, at the set frequency."),
        ReadingKind("gain_ratio", "Gain (ratio)", range_of="gain", meaning="Gain as a voltage ratio."),
        ReadingKind("balance", "Balance re channel 1", meaning="Gain of this channel re that of channel 1."),
        ReadingKind("output", "Output level", meaning="Level at the output of the unit."),
        ReadingKind("input", "Input level", meaning="Level at the input of the unit."),
        ReadingKind(
            "input_for_output", "Input at target output", meaning="Input level that gives the target output level."
        ),
        POLARITY,
        HEADROOM,
    )

    def conduct(self, settings: GainSettings, chain: Chain) -> Conduct:
        yield tone(
            rate=chain.rate,
            frequency=settings.frequency,
            duration=settings.duration,
            level=settings.level,
            channels=chain.stimulus_channels,
        )
        yield sweep(
            rate=chain.rate,
            start=40.0,
            stop=min(16000.0, 0.4 * chain.rate),
            duration=_SWEEP_SECONDS,
            level=settings.level,
            channels=chain.stimulus_channels,
        )

    def duration(self, settings: GainSettings, chain: Chain) -> float:
        return settings.duration + 2 * LEAD + 2 * RAMP + SETTLE + TAIL + _SWEEP_SECONDS + 0.7

    def headline(self, result: Result) -> Reading | None:
        return result.reading("gain")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("spectrum")

    def summary(self, settings: GainSettings) -> str:
        return f"{format_plain(settings.frequency, 'Hz')}, {settings.level:g} dBFS"

    def analyse(self, recordings: Sequence[Recording], settings: GainSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, _LEAST_FRAMES)
        levels = per_channel(channels, lambda number: _channel(recordings, number, settings, chain))
        result = merge_channels(levels, recordings, chain)
        first = result.reading("gain")
        balance = [
            Reading(
                "balance",
                r.channel,
                r.value - first.value,
                "dB",
                r.at,
                None,
                math.hypot(r.spread or 0.0, first.spread or 0.0),
            )
            for r in result.readings
            if r.key == "gain"
            and r.channel > 1
            and r.value is not None
            and first is not None
            and first.value is not None
        ]
        return Result(result.curves, (*result.readings, *balance), result.cautions)


def _channel(recordings: Sequence[Recording], number: int, settings: GainSettings, chain: Chain) -> Result:
    recording = recordings[0]
    signal = recording.signal
    cautions = list(capture_cautions(signal, number))
    if recording.stimulus is not None:
        expected = recording.stimulus["frequency"]
    else:
        expected = settings.frequency
    if recording.stimulus is not None:
        drive = recording.stimulus["level"]
    else:
        drive = settings.level
    x = settled_segment(signal.channel(number), signal.rate, SETTLE / 2, settings.duration, _LEAST_FRAMES)
    if x.any() and expected < signal.rate / 2:
        tone = analyse_tone(x, signal.rate, expected, 5, _BAND, weighting=Weighting.NONE)
    else:
        tone = None
    if tone is None or abs(tone.fit.frequency / expected - 1) > 0.02:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        return Result((), (Reading("gain", number, None, "dB", cautions=missing),), unique((*cautions, *missing)))
    fit = tone.fit
    amplitude = abs(fit.amplitudes[0])
    at: dict[str, float | str] = {"frequency_hz": fit.frequency, "level_dbfs": drive}
    terminal = ChannelScale.at(signal, chain, number)
    spread = DB_PER_NEPER * float(tone.line_spreads[0]) / amplitude
    if tone.undithered is not None:
        cautions.append(Caution.UNDITHERED)
    offset = chain.offset_db(number)
    digital = to_db(amplitude) - drive
    gain = digital + (offset or 0.0)
    weak = caution_when(offset is None, Caution.UNCALIBRATED)
    if terminal.base == "V" or offset is None:
        unit = "ratio"
    else:
        unit = "Pa/V"
    readings = [
        Reading("gain", number, gain, "dB", at, None, spread, weak),
        Reading(
            "gain_ratio", number, 10 ** (gain / 20), unit, at, None, 10 ** (gain / 20) * spread / DB_PER_NEPER, weak
        ),
        terminal.level("output", amplitude**2 / 2, at, spread),
        _input(number, drive, chain, at),
        _input_for(number, digital, settings, chain, at, spread_db=spread),
        *_polarity(recordings, number),
        headroom(signal, number),
    ]
    if tone.undithered is not None and tone.undithered.coherent:
        readings = without_spreads(readings)
    curves = tuple(c for c in tone_curves(tone, terminal) if c.key != "residual")
    return Result(curves, tuple(readings), unique(cautions))


def _input(
    number: int,
    drive: float,
    chain: Chain,
    at: dict[str, float | str],
    key: str = "input",
    *,
    spread_db: float | None = None,
) -> Reading:
    """Return a level at the chain's output: in V where that is calibrated."""
    if chain.output_full_scale is None:
        return Reading(key, number, drive, "dBFS", at, None, spread_db)
    volts = chain.output_full_scale * 10 ** (drive / 20)
    return Reading(key, number, volts, "V", at, None, None if spread_db is None else volts * spread_db / DB_PER_NEPER)


def _input_for(
    number: int, digital: float, settings: GainSettings, chain: Chain, at: dict[str, float | str], *, spread_db: float
) -> Reading:
    """Return what input brings the stated output, by the gain that was measured: no word about whether the unit reaches
    it.
    """
    where = {**at, "output_level": settings.output_level}
    try:
        full, base = chain.scale(number)
        text = settings.output_level
        if full is None:
            input_level = parse_as(text, "dBFS")
        else:
            input_level = to_db(parse_as(text, base, chain.conversion()) / full)
    except QuantityError:
        return Reading(
            "input_for_output",
            number,
            None,
            "V" if chain.output_full_scale else "dBFS",
            where,
            cautions=(Caution.UNCALIBRATED,),
        )
    return _input(number, input_level - digital, chain, where, "input_for_output", spread_db=spread_db)


def _polarity(recordings: Sequence[Recording], number: int) -> list[Reading]:
    """1 or -1 by the sign of the impulse response's greatest sample."""
    swept = next((r for r in recordings if r.stimulus is not None and r.stimulus.kind == "sweep"), None)
    if swept is None or swept.stimulus is None:
        return []
    impulse = dc.deconvolve(swept.signal.channel(number), dc.kernel(swept.stimulus, swept.signal.frames))
    if not impulse.found:
        return [Reading("polarity", number, None, "ratio", cautions=(Caution.STIMULUS_NOT_FOUND,))]
    return [Reading("polarity", number, float(np.sign(impulse.impulse[impulse.peak])), "ratio")]
