"""Noise: what a unit adds when it should be silent, plainly and as it is heard; and its dynamic range by a tone at -60
dBFS.

Idle noise in a band, A-weighted (IEC 61672-1), and by ITU-R BS.468-4: quasi-peak, and as an RMS value counted from 2
kHz (AES17). Dynamic range by AES17: full scale over everything but the tone while 997 Hz plays at -60 dBFS, 468
weighting counted from 2 kHz; with A beside it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.capture_checks import headroom, steady_interval
from epidote.core.analysis.sine.tone import analyse_tone
from epidote.core.analysis.spectral.fractional_octave import band_powers, centres, edges
from epidote.core.analysis.spectral.quasi_peak import quasi_peak
from epidote.core.analysis.spectral.spectrum import (
    LINE_CLEAR,
    band_power,
    band_powers_of,
    mains_lines,
    windowed_mean_squares,
)
from epidote.core.analysis.spectral.weighting import AES17_DB, Weighting
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_4 as WINDOW
from epidote.core.analysis.spreads import line_power_variance, power_spread_db, windowed_band_spread
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.chain.level_setting import LevelString
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_usable_recordings
from epidote.core.procedures.common.shared_settings import lower_band_limit, upper_band_limit
from epidote.core.procedures.noise.claim_answers import ANSWERS
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.procedures.spectrum import Mains
from epidote.core.quantities.units import QuantityError, from_db, parse, parse_as
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.kinds import ChainShare, CurveRole, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.settings import Settings, require_rising, setting
from epidote.core.signals.fft_lengths import trim_to_fast_length
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.silence import silence
from epidote.core.stimuli.tone import LEAD, RAMP, SETTLE, TAIL, tone

LEAST_FRAMES = 4096
HISS_DB = -60.0  # 0.1 % of the reference
_RANGE_TONE, _RANGE_LEVEL, _RANGE_SECONDS = 997.0, -60.0, 2.0
_FINE = 24


class NoiseSettings(Settings):
    """Settings of noise."""

    duration: float = setting(
        5.0, "Duration", "Duration of the recording, with nothing played", "s", played=True, ge=0.2, le=600
    )
    band_low: float = lower_band_limit()
    band_high: float = upper_band_limit()
    reference_level: LevelString = setting(
        "0 dBFS",
        "SNR reference level",
        "Reference level for SNR, at the unit's output: V, dBV, W or dBFS of the input",
        max_length=40,
        affects=effects.NOISE_REFERENCE,
    )
    mains: Mains = setting(
        Mains.FIFTY, "Mains frequency", "Mains frequency, for separating hum from noise", affects=effects.MAINS
    )

    @model_validator(mode="after")
    def _band_is_one(self) -> NoiseSettings:
        require_rising(self, "band_low", "band_high")
        return self


class Noise(ProcedureBase):
    """Idle noise, signal-to-noise ratio, dynamic range, hum."""

    key = "noise"
    title = "Noise"
    about = About(
        QuestionGroup.NOISE,
        question="Does it hiss or hum?",
        played="Nothing, then a tone at -60 dBFS",
        gives="Noise with every usual weighting, SNR, dynamic range by AES17, hum.",
        needs="Calibration for volts",
        sketch=(
            (0, 0.3),
            (0.12, 0.32),
            (0.14, 0.85),
            (0.16, 0.3),
            (0.26, 0.28),
            (0.28, 0.6),
            (0.3, 0.28),
            (0.6, 0.3),
            (0.8, 0.42),
            (1, 0.62),
        ),
    )
    presets = (
        Preset("Re 2 V, A-weighted reading", {"reference_level": "2 V"}, "The usual output of players and converters."),
        Preset("Long, 20 s", {"duration": 20.0}, "Half the standard deviation of the default."),
        Preset(
            "Wide, 10 Hz to 80 kHz",
            {"band_low": 10.0, "band_high": 80000.0},
            "As some data sheets of amplifiers state it. Needs 192 kHz.",
        ),
    )
    of_any_recording = True
    Settings = NoiseSettings
    answers = ANSWERS
    views = (
        CurveView("density", "Density", "density", "Noise in 1 Hz bandwidth"),
        CurveView(
            "third_octave", "Third octave", "third octave", "Noise in third-octave bands", role=CurveRole.SPECTRUM
        ),
    )
    readings = (
        ReadingKind(
            "noise",
            "Noise",
            chain=ChainShare.ADDS,
            rise="noise_rise",
            meaning="RMS noise in the measurement band, without weighting.",
        ),
        ReadingKind("noise_a", "Noise, A-weighted", meaning="RMS noise with A-weighting (IEC 61672-1)."),
        ReadingKind(
            "noise_468",
            "Noise, 468 quasi-peak",
            meaning="Noise by ITU-R BS.468-4: weighting curve and quasi-peak detector, highest value.",
        ),
        ReadingKind(
            "noise_468_mean", "468 quasi-peak, mean", meaning="Mean of the quasi-peak detector over the recording."
        ),
        ReadingKind(
            "noise_468_rms",
            "Noise, 468 RMS (2 kHz)",
            meaning="RMS noise with the weighting curve of ITU-R BS.468-4, 0 dB at 2 kHz.",
        ),
        ReadingKind("snr", "SNR", chain=ChainShare.LIMITS, meaning="Reference level re noise in the measurement band."),
        ReadingKind("snr_a", "SNR, A-weighted", meaning="Reference level re A-weighted noise."),
        ReadingKind(
            "dynamic_range",
            "AES17 dynamic range",
            chain=ChainShare.LIMITS,
            meaning=(
                "Full scale re noise and distortion with a -60 dBFS tone, weighted by ITU-R 468, 0 dB at 2 kHz (AES17)."
            ),
        ),
        ReadingKind("dynamic_range_a", "Dynamic range (A)", meaning="AES17 dynamic range, A-weighted."),
        ReadingKind("noise_share", "Noise re reference", meaning="Noise re the reference level."),
        ReadingKind("hum", "Hum", chain=ChainShare.ADDS, meaning="Mains frequency and its harmonics together."),
        ReadingKind(
            "noise_without_hum", "Noise without hum", meaning="Noise without the mains frequency and its harmonics."
        ),
        ReadingKind("noise_rise", "Noise rise re baseline", meaning="Rise of the noise re that of the chain itself."),
        HEADROOM,
    )

    def conduct(self, settings: NoiseSettings, chain: Chain) -> Conduct:
        yield silence(chain.rate, settings.duration)
        yield tone(rate=chain.rate, frequency=_RANGE_TONE, duration=_RANGE_SECONDS, level=_RANGE_LEVEL)

    def duration(self, settings: NoiseSettings, chain: Chain) -> float:
        return settings.duration + _RANGE_SECONDS + 2 * LEAD + 2 * RAMP + SETTLE + TAIL

    def headline(self, result: Result) -> Reading | None:
        return result.reading("noise_a")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("third_octave")

    def summary(self, settings: NoiseSettings) -> str:
        return f"{settings.band_low:g} Hz–{settings.band_high / 1000:g} kHz, {settings.duration:g} s"

    def analyse(self, recordings: Sequence[Recording], settings: NoiseSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, LEAST_FRAMES)
        results = per_channel(channels, lambda number: _channel(recordings, number, settings, chain))
        return merge_channels(results, recordings, chain)


def _reference(settings: NoiseSettings, chain: Chain, full: float | None) -> float | None:
    """Mean square in FS² of the level that SNR is stated to; None when the chain does not know its volts."""
    quantity = parse(settings.reference_level, "dBFS")
    if quantity.unit in ("dBFS", "FS"):
        return 0.5 * from_db(parse_as(settings.reference_level, "dBFS")) ** 2
    if full is None:
        return None
    try:
        if chain.acoustic and quantity.unit in ("Pa", "dB SPL"):
            base = "Pa"
        else:
            base = "V"
        return 0.5 * (parse_as(settings.reference_level, base, chain.conversion()) / full) ** 2
    except QuantityError:
        return None


def _channel(recordings: Sequence[Recording], number: int, settings: NoiseSettings, chain: Chain) -> Result:
    recording = recordings[0]
    rate, terminal = recording.signal.rate, ChannelScale.of(chain, number)
    x = trim_to_fast_length(recording.signal.channel(number))
    x = x - x.mean()
    power, width = windowed_mean_squares(x, rate, WINDOW)
    low, high = settings.band_low, min(settings.band_high, rate / 2)
    at: dict[str, float | str] = {"band_low_hz": low, "band_high_hz": high}
    in_band = {w: band_powers_of(power, width, low, high, w) for w in Weighting}
    spreads = {w: windowed_band_spread(powers, WINDOW.crowding) for w, powers in in_band.items()}
    plain = band_power(power, width, low, high)
    weighted = {w: band_power(power, width, low, high, w) for w in (Weighting.A, Weighting.ITU_468)}
    # only what stands clear of the noise beside it
    clear = [
        (line - under, under)
        for _, line, under in mains_lines(power, width, rate, settings.mains.hertz, WINDOW)
        if line > LINE_CLEAR * under
    ]
    hum = sum(own for own, _ in clear)
    hum_variance = sum(line_power_variance(own, under, WINDOW) for own, under in clear)
    reference = _reference(settings, chain, terminal.full)
    if reference:
        share = plain / reference
    else:
        share = None
    hiss = caution_when(share is not None and share > 10 ** (HISS_DB / 10), Caution.HISS)
    cautions = caution_when(reference is None, Caution.UNCALIBRATED)
    stated: dict[str, float | str] = {**at, "reference": settings.reference_level}

    def ratio(key: str, mean_square: float, where: dict[str, float | str], spread: float, sign: int = 1) -> Reading:
        if reference is None or mean_square <= 0:
            value = None
        else:
            value = sign * 10 * math.log10(reference / mean_square)
        return Reading(
            key, number, value, "dB", where, None, spread, (*cautions, *(hiss if key == "noise_share" else ()))
        )

    indicated = quasi_peak(x, rate)
    quasi: dict[str, float | str] = {"weighting": "468", "detector": "quasi-peak"}
    flat, without = spreads[Weighting.NONE], max(plain - hum, 0.0)
    if hum > 0:
        of_hum = power_spread_db(hum_variance, hum)
    else:
        of_hum = None
    readings = [
        terminal.level("noise", plain, at, flat),
        terminal.level("noise_a", weighted[Weighting.A], {**at, "weighting": "A"}, spreads[Weighting.A]),
        terminal.level(
            "noise_468", indicated.greatest**2, {**quasi, "indication": "maximum"}, indicated.greatest_spread_db
        ),
        terminal.level("noise_468_mean", indicated.mean**2, {**quasi, "indication": "mean"}, indicated.mean_spread_db),
        terminal.level(
            "noise_468_rms",
            weighted[Weighting.ITU_468] * 10 ** (AES17_DB / 10),
            {**at, "weighting": "468, 0 dB at 2 kHz", "detector": "RMS"},
            spreads[Weighting.ITU_468],
        ),
        ratio("snr", plain, stated, flat),
        ratio("snr_a", weighted[Weighting.A], {**stated, "weighting": "A"}, spreads[Weighting.A]),
        *_dynamic_range(recordings, number, (low, high)),
        ratio("noise_share", plain, stated, flat, -1),
        terminal.level(
            "hum", hum, {"mains_hz": settings.mains.hertz}, of_hum, () if hum > 0 else (Caution.NOISE_DOMINATED,)
        ),
        terminal.level(
            "noise_without_hum",
            without,
            at,
            windowed_band_spread(in_band[Weighting.NONE], WINDOW.crowding, lines=False) if without > 0 else None,
        ),
        headroom(recording.signal, number),
    ]
    return Result(_curves(power, width, (low, high), terminal), tuple(readings))


def _dynamic_range(recordings: Sequence[Recording], number: int, band: tuple[float, float]) -> list[Reading]:
    """Full scale over everything but the tone, while it plays 60 dB below full scale."""
    at: dict[str, float | str] = {"frequency_hz": _RANGE_TONE, "level_dbfs": _RANGE_LEVEL}
    keys = (("dynamic_range", Weighting.ITU_468, AES17_DB), ("dynamic_range_a", Weighting.A, 0.0))
    missing = (Caution.STIMULUS_NOT_FOUND,)
    if len(recordings) < 2:
        return [Reading(key, number, None, "dB", at, cautions=missing) for key, *_ in keys]
    signal = recordings[1].signal
    x = signal.channel(number)
    first, end = steady_interval(x, signal.rate)
    first = min(first + round(SETTLE / 2 * signal.rate), end)
    x = trim_to_fast_length(x[first : max(end, first + 256)])
    readings = []
    for key, weighting, offset in keys:
        if x.size >= 256 and x.any():
            tone = analyse_tone(x, signal.rate, _RANGE_TONE, 1, band, weighting=weighting)
        else:
            tone = None
        if tone is None or tone.noise <= 0 or abs(tone.fit.frequency / _RANGE_TONE - 1) > 0.02:
            readings.append(Reading(key, number, None, "dB", at, cautions=missing))
            continue
        main = abs(tone.fit.amplitudes[0]) ** 2 / 2
        value = 10 * math.log10(main / tone.noise) - offset - _RANGE_LEVEL
        readings.append(
            Reading(key, number, value, "dB", {**at, "weighting": str(weighting)}, None, tone.noise_spread_db)
        )
    return readings


def _curves(power: Samples, width: float, band: tuple[float, float], terminal: ChannelScale) -> tuple[Curve, ...]:
    number, unit = terminal.channel, terminal.level_unit
    low = max(band[0], 12 * width, 1.0)
    fine, thirds = centres(_FINE, low, band[1]), centres(3, low, band[1])
    below, above = edges(fine, _FINE)
    density = band_powers(power, width, fine, _FINE) / (above - below)

    def level(mean_square: Samples) -> Samples:
        return np.asarray(10 * np.log10(np.maximum(2 * mean_square, 1e-40)) + terminal.level_offset)

    return (
        Curve(
            "density",
            number,
            fine,
            level(density),
            "Hz",
            unit,
            None,
            {"bandwidth_hz": 1.0, "averaged_over_octaves": 1 / _FINE},
        ),
        Curve("third_octave", number, thirds, level(band_powers(power, width, thirds, 3)), "Hz", unit),
    )
