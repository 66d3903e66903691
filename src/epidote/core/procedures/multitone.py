"""Multitone: response, and distortion with noise between the tones, from one capture of a few seconds.

Every tone lies on an exact bin of the period, so that what lies on the others is the unit's. A recording from a unit's
own player may run on another clock and begin anywhere: the tones' phases tell the clock, and the recording is brought
to the stimulus' own first.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.capture_checks import capture_cautions, headroom, require_valid
from epidote.core.analysis.delay.clock_offset import OWN_CLOCK_PPM
from epidote.core.analysis.sine.multitone import Tones, analyse_multitone
from epidote.core.analysis.spectral.spectrum import bin_frequencies, line_levels
from epidote.core.analysis.spreads import power_spread_db
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.claims.answer import ClaimAnswer
from epidote.core.claims.claimed_quantity import RESPONSE
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_consistent_channels
from epidote.core.procedures.common.claim_answers import response_candidates
from epidote.core.procedures.common.views import GAIN_VIEW, spectrum_view
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution, unique
from epidote.core.results.kinds import ChainShare, ReadingKind
from epidote.core.results.level_readings import KINDS as LEVEL_READINGS
from epidote.core.results.level_readings import level_readings
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.settings import Settings, require_rising, setting
from epidote.core.signals.recording import Recording
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.multitone import KIND, LEAD, SETTLE, TAIL, multitone


class MultitoneSettings(Settings):
    """Settings of a multitone."""

    start_frequency: float = setting(20.0, "Start frequency", "Lowest tone", "Hz", played=True, ge=1, le=50000)
    stop_frequency: float = setting(20000.0, "Stop frequency", "Highest tone", "Hz", played=True, ge=20, le=180000)
    per_octave: int = setting(3, "Tones per octave", "Tones per octave", played=True, ge=1, le=48)
    duration: float = setting(4.0, "Duration", "Duration of the analysed period", "s", played=True, ge=0.2, le=60)
    level: float = setting(
        -6.0,
        "Level",
        "Level of a sine with the same peak value as all tones together",
        "dBFS",
        played=True,
        ge=-140,
        le=0,
        affects=effects.LEVEL,
    )

    @model_validator(mode="after")
    def _band_is_one(self) -> MultitoneSettings:
        require_rising(self, "start_frequency", "stop_frequency")
        return self


class Multitone(ProcedureBase):
    """Gain, distortion and noise from many tones at once."""

    key = "multitone"
    title = "Multitone"
    about = About(
        QuestionGroup.LEVEL,
        question="Is it flat and clean with many tones at once?",
        played="About thirty tones at once",
        gives="Response, and distortion and noise between the tones, with a music-like signal.",
        needs="",
        sketch=(
            (0, 0.7),
            (0.1, 0.7),
            (0.1, 0.15),
            (0.3, 0.15),
            (0.3, 0.7),
            (0.34, 0.15),
            (0.55, 0.15),
            (0.55, 0.68),
            (0.59, 0.15),
            (0.8, 0.2),
            (0.8, 0.66),
            (0.84, 0.2),
            (1, 0.25),
        ),
    )
    presets = (Preset("Dense, 10 per octave", {"per_octave": 10}, "Closer to music; fewer bins for distortion."),)
    Settings = MultitoneSettings
    answers = (ClaimAnswer((RESPONSE,), response_candidates, curves=("level",)),)
    views = (
        GAIN_VIEW,
        CurveView(
            "floor",
            "Distortion + noise",
            "distortion + noise",
            "Distortion and noise re tone level",
            chain=ChainShare.ADDS,
            ratio=True,
        ),
        spectrum_view(),
    )
    readings = (
        ReadingKind(
            "distortion_noise",
            "Distortion and noise",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Everything between the tones, re the tones.",
        ),
        *LEVEL_READINGS,
        ReadingKind(
            "clock",
            "Clock offset of tones",
            meaning="Frequency offset of all tones: the sample clock of the unit re that of the chain.",
        ),
        HEADROOM,
    )

    def conduct(self, settings: MultitoneSettings, chain: Chain) -> Conduct:
        yield self._stimulus(settings, chain.rate, chain.stimulus_channels)

    @staticmethod
    def _stimulus(settings: MultitoneSettings, rate: float, channels: tuple[int, ...] = (1, 2)) -> Stimulus:
        return multitone(
            rate=rate,
            start=settings.start_frequency,
            stop=settings.stop_frequency,
            per_octave=settings.per_octave,
            duration=settings.duration,
            level=settings.level,
            channels=channels,
        )

    def duration(self, settings: MultitoneSettings, chain: Chain) -> float:
        return settings.duration + 2 * LEAD + SETTLE + TAIL

    def headline(self, result: Result) -> Reading | None:
        return result.reading("distortion_noise")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("level")

    def summary(self, settings: MultitoneSettings) -> str:
        return (
            f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz, {settings.per_octave} per octave,"
            f" {settings.duration:g} s"
        )

    def analyse(self, recordings: Sequence[Recording], settings: MultitoneSettings, chain: Chain) -> Result:
        channels = require_consistent_channels(recordings)
        recording = recordings[0]
        require_valid(recording.signal, 4096)
        stimulus = recording.stimulus or self._stimulus(settings, recording.signal.rate)
        if stimulus.kind != KIND:
            raise UnusableInputError(
                f"This recording is of a {stimulus.kind} stimulus, not of a multitone. Nothing was computed; analyse it"
                " with the procedure that made the stimulus."
            )
        results = per_channel(channels, lambda number: _channel(recording, stimulus, number, chain))
        return merge_channels(results, recordings, chain)


def _channel(recording: Recording, stimulus: Stimulus, number: int, chain: Chain) -> Result:
    signal = recording.signal
    cautions = list(capture_cautions(signal, number, gaps=False))
    analysis = analyse_multitone(signal.channel(number), stimulus)
    if analysis is None:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        return Result(
            (),
            tuple(Reading(k, number, None, "dB", cautions=missing) for k in ("distortion_noise", "gain_1k")),
            unique((*cautions, *missing)),
        )
    terminal = ChannelScale.at(signal, chain, number)
    ppm = (analysis.ratio - 1) * 1e6
    if abs(ppm) > OWN_CLOCK_PPM:
        cautions.append(Caution.OTHER_CLOCK)
    if analysis.hum_included:
        cautions.append(Caution.HUM_INCLUDED)
    if analysis.undithered:
        cautions.append(Caution.UNDITHERED)
    level, floor, spectrum = _curves(analysis, terminal, chain)
    tones = float(np.square(analysis.peaks).sum()) / 2
    rest = float(analysis.between.sum())
    if rest > 0:
        rest_spread = power_spread_db(analysis.between_variance, rest)
    else:
        rest_spread = None
    at: dict[str, float | str] = {
        "band_low_hz": float(analysis.frequencies[0]),
        "band_high_hz": float(analysis.frequencies[-1]),
        "level_dbfs": stimulus["level"],
    }
    readings = [
        Reading(
            "distortion_noise", number, 10 * math.log10(rest / tones) if rest > 0 else None, "dB", at, None, rest_spread
        ),
        *level_readings(level, DB_PER_NEPER * analysis.peak_spreads / analysis.peaks),
        Reading("clock", number, ppm, "ppm", {}, None, analysis.ratio_spread * 1e6),
        headroom(signal, number),
    ]
    return Result((level, floor, spectrum), tuple(readings), unique(cautions))


def _curves(tones: Tones, terminal: ChannelScale, chain: Chain) -> tuple[Curve, Curve, Curve]:
    """Gain of every tone; what lies from each tone to the next, relative to the tone at the output; and the whole
    spectrum.
    """
    number, x = terminal.channel, tones.frequencies
    gain = 20 * np.log10(np.maximum(tones.peaks, 1e-20) / tones.played) + (chain.offset_db(number) or 0.0)
    own = np.square(tones.peaks) / 2
    mean = np.sqrt(own[:-1] * own[1:])
    floor = 10 * np.log10(np.maximum(tones.between, 1e-40) / np.maximum(mean, 1e-40))
    middle = np.sqrt(x[:-1] * x[1:])
    f, level = bin_frequencies(tones.whole.size, tones.width), line_levels(2 * tones.whole, terminal.level_offset)
    meta: dict[str, float | str] = {
        "window": "none, whole periods",
        "enbw_hz": tones.width,
        "frames": float(2 * (level.size - 1)),
    }
    return (
        Curve("level", number, x, gain, "Hz", "dB"),
        Curve("floor", number, middle, floor, "Hz", "dB", None, {"tones_per_period": float(x.size)}),
        Curve("spectrum", number, f[1:], level[1:], "Hz", terminal.level_unit, None, meta),
    )
