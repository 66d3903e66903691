"""Tone: what a unit adds to one steady sine.

THD, THD+N, SINAD, SNR, ENOB, level, frequency, noise, hum, and every harmonic.

Definitions: THD and THD+N relative to the fundamental (IEC 60268-3); SINAD and ENOB as in IEEE 1241, ENOB = (SINAD -
1.7609)/6.0206.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.capture_checks import capture_cautions, headroom, require_valid, settled_segment
from epidote.core.analysis.sine.hum import hum_in_harmonics, mains_seen, may_meet_hum
from epidote.core.analysis.sine.tone import ToneAnalysis, analyse_tone
from epidote.core.analysis.spectral.spectrum import LINE_CLEAR, MAINS, MAINS_ORDERS, line_powers
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7 as WINDOW
from epidote.core.analysis.spreads import line_power_variance, power_spread_db
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.concurrency import start_in_thread
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import (
    merge_channels,
    per_channel,
    require_consistent_channels,
    without_spreads,
)
from epidote.core.procedures.common.shared_settings import (
    MOST_HARMONICS,
    highest_harmonic,
    lower_band_limit,
    tone_frequency,
    upper_band_limit,
)
from epidote.core.procedures.common.tone_curves import tone_curves
from epidote.core.procedures.common.views import spectrum_view
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.procedures.tone.claim_answers import ANSWERS
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.units import DB_PER_NEPER, to_db
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.kinds import ChainShare, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.settings import Settings, require_rising, setting
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.stimuli.tone import LEAD, RAMP, SETTLE, TAIL, tone

LEAST_FRAMES = 256


class ToneSettings(Settings):
    """Settings of a single tone."""

    frequency: float = tone_frequency()
    duration: float = setting(2.0, "Duration", "Duration of the analysed section", "s", played=True, ge=0.05, le=600)
    level: float = setting(-6.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0, affects=effects.LEVEL)
    band_low: float = lower_band_limit()
    band_high: float = upper_band_limit()
    weighting: Weighting = setting(
        Weighting.NONE, "Weighting", "Weighting of noise, THD+N, SINAD and SNR", affects=effects.NOISE_WEIGHTING
    )
    harmonics: int = highest_harmonic()

    @model_validator(mode="after")
    def _band_is_one(self) -> ToneSettings:
        require_rising(self, "band_low", "band_high")
        return self


class Tone(ProcedureBase):
    """Level, harmonics, distortion and noise of a single tone."""

    key = "tone"
    title = "Single tone"
    about = About(
        QuestionGroup.DISTORTION,
        question="How clean is a single tone?",
        played="A tone of a few seconds",
        gives="THD, THD+N, SINAD, each harmonic, noise and hum, with the spectrum.",
        needs="",
        sketch=(
            (0, 0.15),
            (0.2, 0.12),
            (0.22, 0.95),
            (0.24, 0.12),
            (0.42, 0.1),
            (0.44, 0.55),
            (0.46, 0.1),
            (0.64, 0.12),
            (0.66, 0.4),
            (0.68, 0.1),
            (1, 0.12),
        ),
    )
    presets = (
        Preset(
            "Full scale -1 dBFS, 997 Hz", {"frequency": 997.0, "level": -1.0}, "As data sheets of converters state it."
        ),
        Preset("Low frequency, 40 Hz", {"frequency": 40.0, "duration": 4.0}, "Transformers and small loudspeakers."),
        Preset("Long, 10 s", {"duration": 10.0}, "Resolves harmonics below the noise floor."),
    )
    of_any_recording = True
    Settings = ToneSettings
    in_new_study = True
    answers = ANSWERS
    views = (
        spectrum_view(),
        CurveView("waveform", "Waveform", "waveform", "Signal", log_x=False, compared=False),
        CurveView("residual", "Residual", "residual", "Residual without fundamental", log_x=False, compared=False),
    )
    readings = (
        ReadingKind(
            "thd_n",
            "THD+N",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Everything but the fundamental, in the measurement band, re the fundamental.",
        ),
        ReadingKind(
            "thd",
            "THD",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="RMS sum of the harmonics re the fundamental (IEC 60268-3).",
        ),
        ReadingKind("level", "Level", meaning="Level of the fundamental."),
        ReadingKind("frequency", "Frequency", meaning="Frequency of the tone as recorded."),
        ReadingKind(
            "noise",
            "Noise",
            chain=ChainShare.ADDS,
            rise="noise_rise",
            meaning="Everything but the fundamental and its harmonics, in the measurement band; hum counts as noise.",
        ),
        ReadingKind("snr", "SNR", chain=ChainShare.LIMITS, meaning="Fundamental re noise without harmonics."),
        ReadingKind(
            "sinad",
            "SINAD",
            chain=ChainShare.LIMITS,
            meaning="Fundamental re noise and distortion together: THD+N with the opposite sign.",
        ),
        ReadingKind(
            "enob",
            "ENOB",
            chain=ChainShare.LIMITS,
            meaning="Bits of an ideal converter with the same SINAD: (SINAD - 1.76 dB) / 6.02 dB (IEEE 1241).",
        ),
        ReadingKind(
            "hum", "Hum", chain=ChainShare.ADDS, meaning="Level of the mains frequency and its harmonics together."
        ),
        ReadingKind("dc", "DC", meaning="Direct voltage at the input."),
        HEADROOM,
        *(
            ReadingKind(
                f"h{n}", f"H{n}", chain=ChainShare.ADDS, ratio=True, meaning="Level of one harmonic re the fundamental."
            )
            for n in range(2, MOST_HARMONICS + 1)
        ),
    )

    def conduct(self, settings: ToneSettings, chain: Chain) -> Conduct:
        yield tone(rate=chain.rate, frequency=settings.frequency, duration=settings.duration, level=settings.level)

    def duration(self, settings: ToneSettings, chain: Chain) -> float:
        return settings.duration + 2 * LEAD + 2 * RAMP + SETTLE + TAIL

    def headline(self, result: Result) -> Reading | None:
        return result.reading("thd_n")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("spectrum")

    def summary(self, settings: ToneSettings) -> str:
        if settings.weighting is Weighting.NONE:
            weighted = ""
        else:
            weighted = f", {settings.weighting}-weighted"
        return f"{format_plain(settings.frequency, 'Hz')}, {settings.duration:g} s{weighted}"

    def analyse(self, recordings: Sequence[Recording], settings: ToneSettings, chain: Chain) -> Result:
        channels = require_consistent_channels(recordings)
        recording = recordings[0]
        require_valid(recording.signal, LEAST_FRAMES)
        results = per_channel(channels, lambda number: _analyse_channel(recording, number, settings, chain))
        return merge_channels(results, recordings, chain)


def _analyse_channel(recording: Recording, number: int, settings: ToneSettings, chain: Chain) -> Result:
    signal = recording.signal
    wrong_with_it = start_in_thread(lambda: capture_cautions(signal, number))
    if recording.stimulus is not None:
        expected = recording.stimulus["frequency"]
    else:
        expected = settings.frequency
    played = recording.stimulus is not None
    x = settled_segment(
        signal.channel(number),
        signal.rate,
        SETTLE / 2 if played else 0.0,
        settings.duration if played else None,
        LEAST_FRAMES,
    )
    if x.any():
        analysis = analyse_tone(
            x,
            signal.rate,
            expected,
            settings.harmonics,
            (settings.band_low, settings.band_high),
            weighting=settings.weighting,
        )
    else:
        analysis = None
    cautions = list(wrong_with_it())
    wrong = (
        analysis is not None and recording.stimulus is not None and abs(analysis.fit.frequency / expected - 1) > 0.02
    )
    if analysis is None or wrong:
        cautions.append(Caution.STIMULUS_NOT_FOUND)
        keys = ["frequency", "level", "thd", "thd_n", "sinad", "snr", "enob", "noise", "dc", "hum"]
        units = {"frequency": "Hz", "level": "dBFS", "noise": "dBFS", "enob": "bit", "dc": "FS", "hum": "dBFS"}
        missing = (Caution.STIMULUS_NOT_FOUND,)
        return Result(
            (), tuple(Reading(k, number, None, units.get(k, "dB"), cautions=missing) for k in keys), tuple(cautions)
        )
    if analysis.drifted:
        cautions.append(Caution.DRIFT)
    if analysis.undithered is not None:
        cautions.append(Caution.UNDITHERED)
    if may_meet_hum(
        analysis.fit.frequency, len(analysis.fit.amplitudes), analysis.rate / analysis.frames
    ) and hum_in_harmonics(analysis, mains_seen(analysis)):
        cautions.append(Caution.HUM_INCLUDED)
    terminal = ChannelScale.at(signal, chain, number)
    readings = _readings(analysis, signal, settings, terminal)
    if analysis.undithered is not None and analysis.undithered.coherent:
        readings = tuple(without_spreads(readings))
    return Result(tone_curves(analysis, terminal), readings, tuple(cautions))


def _readings(c: ToneAnalysis, signal: Signal, settings: ToneSettings, terminal: ChannelScale) -> tuple[Reading, ...]:
    fit = c.fit
    number = terminal.channel
    carrier = abs(fit.amplitudes[0])
    spreads = c.line_spreads
    spread = float(spreads[0])
    at: dict[str, float | str] = {
        "frequency_hz": fit.frequency,
        "band_low_hz": c.band[0],
        "band_high_hz": c.band[1],
        "weighting": str(settings.weighting),
    }
    # mean-square powers of fundamental and of the harmonics inside the band
    inside = c.harmonics_inside()
    main, harmonic = carrier**2 / 2, float(c.harmonic_powers().sum())
    rest = c.noise + float(c.harmonic_powers(settings.weighting).sum())
    left_out = settings.harmonics > int(inside.sum()) + 1
    expected_noise = float((np.square(spreads[1:]) * inside).sum())
    thd_cautions = (
        *caution_when(left_out, Caution.OUTSIDE_BAND),
        *caution_when(harmonic < 3 * expected_noise, Caution.NOISE_DOMINATED),
    )
    floor = _level_db(expected_noise / main)
    main_spread = DB_PER_NEPER * spread / carrier
    thd_spread = rest_spread = None
    if harmonic > 0:
        thd_spread = math.hypot(power_spread_db(c.harmonic_variance(), harmonic), main_spread)
    noise_variance = (c.noise_spread_db * c.noise / (DB_PER_NEPER / 2)) ** 2
    rest_variance = noise_variance + c.harmonic_variance(settings.weighting)
    if rest > 0:
        rest_spread = math.hypot(power_spread_db(rest_variance, rest), main_spread)

    def ratio(
        key: str,
        value: float,
        spread_db: float | None,
        cautions: tuple[Caution, ...] = (),
        floor_db: float | None = None,
    ) -> Reading:
        return Reading(key, number, _level_db(value), "dB", at, floor_db, spread_db, cautions)

    sinad = main / rest if rest > 0 else 0.0
    sinad_db = _level_db(sinad)
    # IEEE 1241: the resolution of an ideal quantiser with this SINAD
    enob = None if sinad_db is None else (sinad_db - 1.7609) / 6.0206
    drift = caution_when(c.drifted, Caution.DRIFT)
    readings = [
        Reading("frequency", number, fit.frequency, "Hz", {}, None, c.frequency_spread),
        terminal.level("level", main, at, main_spread),
        ratio("thd", harmonic / main, thd_spread, thd_cautions, floor),
        ratio("thd_n", rest / main, rest_spread, drift),
        ratio("sinad", sinad, rest_spread, drift),
        ratio("snr", main / c.noise if c.noise > 0 else 0.0, c.noise_spread_db, drift),
        Reading("enob", number, enob, "bit", at, None, None if rest_spread is None else rest_spread / 6.0206, drift),
        terminal.level("noise", c.noise, at, c.noise_spread_db, drift),
        Reading("dc", number, fit.dc * terminal.peak_scale, terminal.unit, {}, None, c.dc_spread * terminal.peak_scale),
        _hum(c, terminal),
        headroom(signal, number),
    ]
    readings += [_harmonic(c, n, main_spread, number) for n in range(2, len(fit.amplitudes) + 1)]
    # those above half the rate
    for n in range(len(fit.amplitudes) + 1, settings.harmonics + 1):
        beyond: dict[str, float | str] = {"frequency_hz": n * fit.frequency}
        readings.append(Reading(f"h{n}", number, None, "dB", beyond, cautions=(Caution.OUTSIDE_BAND,)))
    return tuple(readings)


def _harmonic(c: ToneAnalysis, n: int, main_spread: float, number: int) -> Reading:
    """Harmonic n re the fundamental."""
    fit = c.fit
    carrier, amplitude = abs(fit.amplitudes[0]), fit.amplitudes[n - 1]
    phase = float(np.angle(amplitude * np.exp(-1j * n * np.angle(fit.amplitudes[0])), deg=True))
    size, own = abs(amplitude), float(c.line_spreads[n - 1])
    at: dict[str, float | str] = {"frequency_hz": float(n * fit.frequency), "phase_deg": phase}
    cautions = (
        *caution_when(size < 3 * own, Caution.NOISE_DOMINATED),
        *caution_when(n * fit.frequency > c.band[1] * (1 + 1e-6), Caution.OUTSIDE_BAND),
    )
    level = to_db(size / carrier) if size > 0 else None
    floor = to_db(2 * own / carrier) if own > 0 else None
    spread = math.hypot(DB_PER_NEPER * own / size, main_spread) if size > 0 else None
    return Reading(f"h{n}", number, level, "dB", at, floor, spread, cautions)


def _level_db(ratio: float) -> float | None:
    """Return a ratio of powers in dB; None for none."""
    return 10 * math.log10(ratio) if ratio > 0 else None


def _hum(c: ToneAnalysis, terminal: ChannelScale) -> Reading:
    """Mains lines (50 or 60 Hz, whichever is stronger, to the 10th harmonic) as one level, less the noise under
    them.
    """
    width = c.rate / c.frames
    best = _Lines(0.0, 0.0, 0.0, False, 50.0)
    if 3 * WINDOW.half_width * width < 50:
        for mains in MAINS:
            orders = mains * np.arange(1, MAINS_ORDERS + 1)
            from_tone = np.abs((orders + c.fit.frequency / 2) % c.fit.frequency - c.fit.frequency / 2)
            separate = orders[
                from_tone >= 2 * WINDOW.half_width * width
            ]  # the others are hidden by the tone or one of its harmonics
            lines = _Lines.of(*line_powers(c.residual_power, width, separate, WINDOW), mains)
            best = max(best, lines, key=lambda one: one.power)
    cautions = caution_when(not best.clear, Caution.NOISE_DOMINATED)
    power = max(best.power - best.under, 0.25 * best.power)
    if power > 0:
        spread = power_spread_db(best.variance, power)
    else:
        spread = None
    return terminal.level("hum", power, {"mains_hz": best.mains}, spread, cautions)


@dataclass(frozen=True)
class _Lines:
    """The mains' lines together: mean square, that of the noise under them, variance of their sum, whether one of
    them is clear of the noise; and the mains' frequency in Hz.
    """

    power: float
    under: float
    variance: float
    clear: bool
    mains: float

    @staticmethod
    def of(powers: Samples, under: Samples, mains: float) -> _Lines:
        variance = float(line_power_variance(np.maximum(powers - under, 0.0), under, WINDOW).sum())
        return _Lines(
            float(powers.sum()), float(under.sum()), variance, bool(np.any(powers > LINE_CLEAR * under)), mains
        )
