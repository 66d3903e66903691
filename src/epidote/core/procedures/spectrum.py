"""Spectrum: what comes in while nothing is played (or what plays outside): lines of the mains, levels, and the
spectrum itself.

A state held on the Watch page becomes such a run.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from epidote.core import effects
from epidote.core.analysis.capture_checks import headroom, require_valid
from epidote.core.analysis.listening.phase_relation import phase_relation
from epidote.core.analysis.spectral.spectrum import (
    LINE_CLEAR,
    MAINS_ORDERS,
    band_power,
    band_powers_of,
    bin_frequencies,
    line_levels,
    mains_lines,
    windowed_mean_squares,
)
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_4 as WINDOW
from epidote.core.analysis.spreads import line_power_variance, power_spread_db, windowed_band_spread
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_consistent_channels
from epidote.core.procedures.common.views import spectrum_view
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.kinds import ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.settings import LabelledEnum, Settings, setting
from epidote.core.signals.fft_lengths import trim_to_fast_length
from epidote.core.signals.recording import Recording
from epidote.core.stimuli.silence import silence

LEAST_FRAMES = 1024


class Mains(LabelledEnum):
    """Frequencies of the mains."""

    FIFTY = "50 Hz"
    SIXTY = "60 Hz"

    @property
    def hertz(self) -> float:
        return float(self.value.split()[0])


class SpectrumSettings(Settings):
    """Settings of a spectrum while nothing is played."""

    duration: float = setting(3.0, "Duration", "Duration of the recording", "s", played=True, ge=0.1, le=600)
    mains: Mains = setting(
        Mains.FIFTY, "Mains frequency", "Mains frequency, for the hum readings", affects=effects.MAINS
    )
    band_low: float = setting(
        20.0, "Lower band limit", "Lower limit of the bandwidth of the level readings", "Hz", ge=0, le=100000
    )
    band_high: float = setting(
        20000.0, "Upper band limit", "Upper limit of the bandwidth of the level readings", "Hz", gt=0, le=192000
    )


class Spectrum(ProcedureBase):
    """Spectrum and levels while nothing is played."""

    key = "spectrum"
    title = "Spectrum"
    about = About(
        QuestionGroup.NOISE,
        question="What is in this recording?",
        played="Nothing; records, or reads a file",
        gives="Spectrum, level, crest factor and mains components of any sound.",
        needs="",
        sketch=((0, 0.4), (0.15, 0.75), (0.3, 0.6), (0.45, 0.65), (0.6, 0.4), (0.8, 0.3), (1, 0.1)),
    )
    presets = (Preset("Long, 30 s", {"duration": 30.0}, "Lower scatter of the noise floor."),)
    of_any_recording = first_look = True
    Settings = SpectrumSettings
    views = (
        spectrum_view(),
        CurveView("correlation_time", "Two channels", "correlation", "Correlation of both channels", log_x=False),
        CurveView("mid_time", "Two channels", "mid", "Level of half the sum", log_x=False),
        CurveView("side_time", "Two channels", "side", "Level of half the difference", log_x=False),
    )
    readings = (
        ReadingKind("level", "Level", meaning="RMS level in the measurement band."),
        ReadingKind("level_a", "Level, A-weighted", meaning="RMS level with A-weighting (IEC 61672-1)."),
        ReadingKind("peak", "Peak", meaning="Peak sample value."),
        ReadingKind("crest", "Crest factor", meaning="Peak re RMS."),
        ReadingKind(
            "channel_correlation",
            "Channel correlation",
            meaning=(
                "Correlation coefficient of the first two channels: 1 in phase, 0 uncorrelated, -1 in opposite phase."
            ),
        ),
        ReadingKind("mains_sum", "Mains hum, total", meaning="Mains frequency and its harmonics together."),
        HEADROOM,
        *(
            ReadingKind(
                f"mains_{n}",
                f"Mains component {n}",
                meaning="Level of the mains frequency, or of one of its harmonics.",
            )
            for n in range(1, MAINS_ORDERS + 1)
        ),
    )

    def conduct(self, settings: SpectrumSettings, chain: Chain) -> Conduct:
        yield silence(chain.rate, settings.duration)

    def duration(self, settings: SpectrumSettings, chain: Chain) -> float:
        return settings.duration

    def headline(self, result: Result) -> Reading | None:
        return result.reading("level_a")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("spectrum")

    def summary(self, settings: SpectrumSettings) -> str:
        return f"{settings.duration:g} s, nothing played"

    def analyse(self, recordings: Sequence[Recording], settings: SpectrumSettings, chain: Chain) -> Result:
        channels = require_consistent_channels(recordings)
        recording = recordings[0]
        require_valid(recording.signal, LEAST_FRAMES)
        results = per_channel(channels, lambda number: _channel(recording, number, settings, chain))
        if channels == 2:
            results.append(_both_channels(recording))
        return merge_channels(results, recordings, chain)


def _both_channels(recording: Recording) -> Result:
    """Return how two channels relate over time, as curves of the first."""
    signal = recording.signal
    found = phase_relation(signal.channel(1), signal.channel(2), signal.rate)
    levels = [10 * np.log10(np.maximum(2 * power, 1e-20)) for power in (found.mid, found.side)]
    curves = (
        Curve("correlation_time", 1, found.time, found.correlation, "s", "ratio"),
        Curve("mid_time", 1, found.time, levels[0], "s", "dBFS"),
        Curve("side_time", 1, found.time, levels[1], "s", "dBFS"),
    )
    cautions = caution_when(found.whole is None, Caution.SILENT)
    return Result(curves, (Reading("channel_correlation", 1, found.whole, "ratio", cautions=cautions),))


def _channel(recording: Recording, number: int, settings: SpectrumSettings, chain: Chain) -> Result:
    rate, terminal = recording.signal.rate, ChannelScale.of(chain, number)
    x = trim_to_fast_length(recording.signal.channel(number))
    clean, width = windowed_mean_squares(x, rate, WINDOW)
    top = min(settings.band_high, rate / 2)
    at: dict[str, float | str] = {"band_low_hz": settings.band_low, "band_high_hz": top}
    peak, rms = float(np.abs(x).max()), math.sqrt(float(np.square(x).mean()))

    def spread(weighting: Weighting) -> float:
        return windowed_band_spread(band_powers_of(clean, width, settings.band_low, top, weighting), WINDOW.crowding)

    readings = [
        terminal.level("level", band_power(clean, width, settings.band_low, top), at, spread(Weighting.NONE)),
        terminal.level(
            "level_a",
            band_power(clean, width, settings.band_low, top, Weighting.A),
            {**at, "weighting": "A"},
            spread(Weighting.A),
        ),
        terminal.level("peak", peak**2 / 2, {}),
        Reading("crest", number, to_db(peak / rms) if rms > 0 else None, "dB"),
    ]
    total = variance = 0.0
    for n, (f, line, under) in enumerate(mains_lines(clean, width, rate, settings.mains.hertz, WINDOW), start=1):
        own = max(line - under, 0.25 * line)
        of_line = line_power_variance(own, under, WINDOW)
        clear = line > LINE_CLEAR * under
        if clear:
            total += own
        else:
            total += 0.0
        if clear:
            variance += of_line
        else:
            variance += 0.0
        faint = caution_when(line < LINE_CLEAR * under or line == 0, Caution.NOISE_DOMINATED)
        readings.append(
            terminal.level(
                f"mains_{n}", own, {"frequency_hz": f}, power_spread_db(of_line, own) if own > 0 else None, faint
            )
        )
    readings.insert(
        4,
        terminal.level(
            "mains_sum",
            total,
            {"mains_hz": settings.mains.hertz},
            power_spread_db(variance, total) if total > 0 else None,
            () if total else (Caution.NOISE_DOMINATED,),
        ),
    )
    readings.append(headroom(recording.signal, number))
    bins, level = bin_frequencies(clean.size, width), line_levels(2 * WINDOW.enbw * clean, terminal.level_offset)
    meta: dict[str, float | str] = {"window": WINDOW.name, "enbw_hz": WINDOW.enbw * width, "frames": float(x.size)}
    cautions = caution_when(peak >= 1 - 2.0**-15, Caution.CLIPPED)
    return Result(
        (Curve("spectrum", number, bins[1:], level[1:], "Hz", terminal.level_unit, None, meta),),
        tuple(readings),
        cautions,
    )
