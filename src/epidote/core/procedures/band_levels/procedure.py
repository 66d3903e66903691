"""Band levels: the level of noise in fractional-octave bands, as each microphone hears it and averaged over them.

Bands by IEC 61260-1, A- and C-weighting by IEC 61672-1. The background is recorded before, compared band by band, and
its power subtracted where that may be done (ISO 3744: not where the level is less than 3 dB above it).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from epidote.core.analysis.acoustics.band_levels import BandPowers, band_powers_of_record, bands_within
from epidote.core.analysis.acoustics.disturbances import Disturbance, find_disturbances, without
from epidote.core.analysis.capture_checks import headroom, is_clipped
from epidote.core.analysis.delay.delay_estimation import NoCorrelation, delay_between
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.chain.level_setting import drive_dbfs
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.band_levels.settings import Background, BandLevelSettings, Outputs
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_usable_recordings
from epidote.core.procedures.common.disturbed import disturbance_reading
from epidote.core.procedures.common.power_average import averaged, suspect_channels
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.channels import AVERAGE
from epidote.core.results.kinds import CurveRole, Microphone, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result, with_caution
from epidote.core.results.shared_readings import DELAY, DISTURBED, HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples
from epidote.core.stimuli import noise as noise_stimuli
from epidote.core.stimuli.silence import KIND as SILENCE
from epidote.core.stimuli.silence import silence

LEAST_FRAMES = 8192
BUILD_UP = 0.5  # s after the arrival, in which a room fills with sound
_DELAY_FROM, _DELAY_SEARCH = 4.0, 3.0  # s of the noise that is looked for, and how late it may be
_NEAR_DB = 3.0  # over the background, below which nothing is subtracted
_MAY_SUBTRACT = 10 ** (_NEAR_DB / 10)
_AVERAGED_CURVES = ("levels", "background")
_AVERAGED_READINGS = ("level", "level_a", "level_c", "background")
_DEVIATION = "level_deviation"


class BandLevels(ProcedureBase):
    """Levels of noise in bands, at one or many microphones."""

    key = "band-levels"
    title = "Band levels"
    about = About(
        QuestionGroup.LEVEL,
        question="How loud is it in each band, at each microphone?",
        played="Background, then noise",
        gives="Levels in 1/1 to 1/24 octave, A- and C-weighted levels, the power average over microphones.",
        needs="Microphones with calibration for dB SPL",
        sketch=((0, 0.3), (0.1, 0.55), (0.2, 0.5), (0.35, 0.72), (0.5, 0.64), (0.65, 0.7), (0.85, 0.6), (1, 0.3)),
    )
    presets = (
        Preset("Octaves, quick", {"bandwidth": "1/1", "duration": 10.0}, "Quick overview of a room."),
        Preset(
            "Uncorrelated noise",
            {"outputs": "independent"},
            "No interference between the channels; compare with the same noise on all outputs.",
        ),
        Preset(
            "Uncertainty 0.2 dB",
            {"length_by": "uncertainty", "uncertainty": 0.2},
            "Duration follows from the lowest band.",
        ),
    )
    Settings = BandLevelSettings
    of_any_recording = True
    of_the_chain = False
    of_levels = False
    takes_background = True
    views = (
        CurveView(
            "levels", "Levels", "levels", "Level in the band", role=CurveRole.SPECTRUM, microphone=Microphone.LEVEL
        ),
        CurveView("background", "Background", "background", "Level of the background in the band", compared=False),
        CurveView(_DEVIATION, "Deviation", "deviation", "Standard deviation of the level in the band", compared=False),
    )
    readings = (
        ReadingKind("level", "Level", meaning="Equivalent continuous level (L_eq), Z-weighted."),
        ReadingKind("level_a", "Level, A-weighted", meaning="Equivalent continuous level, A-weighted (IEC 61672-1)."),
        ReadingKind("level_c", "Level, C-weighted", meaning="Equivalent continuous level, C-weighted (IEC 61672-1)."),
        ReadingKind("background", "Background, A", meaning="A-weighted level of the background before the noise."),
        DELAY,
        ReadingKind(
            "largest_deviation",
            "Std. deviation",
            compared=False,
            meaning="Largest statistical standard deviation of all band levels.",
        ),
        DISTURBED,
        HEADROOM,
    )

    def conduct(self, settings: BandLevelSettings, chain: Chain) -> Conduct:
        if settings.background > 0:
            yield silence(chain.rate, settings.background)
        yield noise_stimuli.noise(
            rate=chain.rate,
            colour=settings.noise,
            duration=settings.seconds(),
            level=drive_dbfs(settings.level, chain),
            channels=chain.stimulus_channels,
            independent=settings.outputs is Outputs.INDEPENDENT,
            band=settings.noise_band(chain),
        )

    def duration(self, settings: BandLevelSettings, chain: Chain) -> float:
        return settings.background + settings.seconds() + noise_stimuli.LEAD + noise_stimuli.TAIL

    def headline(self, result: Result) -> Reading | None:
        return result.reading("level_a", AVERAGE) or result.reading("level_a")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("levels", AVERAGE) or result.curve("levels")

    def summary(self, settings: BandLevelSettings) -> str:
        independent = ", independent" if settings.outputs is Outputs.INDEPENDENT else ""
        return f"{settings.noise.label} noise{independent}, {settings.bandwidth} oct, {settings.seconds():g} s"

    def for_existing_sound(self, settings: dict[str, object]) -> dict[str, object]:  # type: ignore[override]
        return {**settings, "background": 0.0}

    def analyse(self, recordings: Sequence[Recording], settings: BandLevelSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, LEAST_FRAMES)
        sound, background = _parts(recordings)
        unknown = sorted(n for n in settings.channels_left_out() if not 1 <= n <= channels)
        if unknown:
            raise SettingError(
                f"{{left_out}} names channel {unknown[0]}; the recording has {channels}. Enter channel numbers from 1.",
                "left_out",
            )
        results = per_channel(channels, lambda number: _channel(sound, background, number, settings, chain))
        results = _with_suspects(results)
        counted = [r for number, r in enumerate(results, start=1) if number not in settings.channels_left_out()]
        if channels > 1 and counted:
            average = averaged(counted, _AVERAGED_CURVES, _AVERAGED_READINGS, _DEVIATION)
            results.insert(0, _with_largest_deviation(_judged_by_average(average)))
        return merge_channels(results, recordings, chain)


def _with_suspects(results: list[Result]) -> list[Result]:
    """Return the channels' results, the levels of microphones that are unlike the others with a caution."""
    levels = [g for r in results for g in r.readings if g.key == "level"]
    suspects = suspect_channels(levels)

    def told(result: Result) -> Result:
        readings = tuple(
            with_caution(g, Caution.UNLIKE_OTHERS) if g.key == "level" and g.channel in suspects else g
            for g in result.readings
        )
        return replace(result, readings=readings)

    return [told(r) for r in results]


def _parts(recordings: Sequence[Recording]) -> tuple[Recording, Recording | None]:
    """Return the recording of the noise, and that of the background where there is one."""
    quiet = [r for r in recordings if r.stimulus is not None and r.stimulus.kind == SILENCE]
    loud = [r for r in recordings if r.stimulus is None or r.stimulus.kind != SILENCE]
    if len(loud) != 1:
        raise UnusableInputError(
            f"Band levels need one recording of the noise; there are {len(loud)}. Select one recording, and give the"
            " background separately."
        )
    return loud[0], quiet[0] if quiet else None


def _channel(
    sound: Recording, background: Recording | None, number: int, settings: BandLevelSettings, chain: Chain
) -> Result:
    signal = sound.signal
    rate, fraction = signal.rate, settings.bandwidth.fraction
    scale = ChannelScale.at(signal, chain, number)
    x = signal.channel(number)
    cautions = list(caution_when(is_clipped(x, signal.unit), Caution.CLIPPED))
    # Step 1 (docs/methods.md, Band levels): where the noise lies in the recording
    delay = _delay_of(sound, number)
    if sound.stimulus is not None and delay.value is None:
        cautions.append(Caution.STIMULUS_NOT_FOUND)
    x = _steady_part(sound, x, delay.value)
    # Step 2: sounds from elsewhere, left out where enough remains
    disturbed = find_disturbances(x, rate)
    if disturbed:
        cautions.append(Caution.DISTURBED)
    if disturbed and sound.stimulus is not None:  # a recording of anything else may change as it likes
        x = _left_of(x, rate, disturbed)
    middle = bands_within(fraction, settings.band_low, settings.band_high, rate, x.size)
    if not middle.size:
        raise SettingError(
            "No band lies within {band_low} and {band_high} that this recording can resolve. Use other limits, or a"
            " longer recording.",
            "band_low",
            "band_high",
        )
    # Step 3: powers in bands and with weightings
    found = band_powers_of_record(x, rate, middle, fraction)
    if background is None:
        beneath = None
    else:
        quiet = background.signal.channel(number)
        beneath = band_powers_of_record(quiet, rate, middle, fraction)
    # Step 4: the background, subtracted where it may be
    subtract = settings.background_use is Background.SUBTRACT
    powers, near = _less_background(found.powers, beneath.powers if beneath is not None else None, subtract=subtract)
    if near.any():
        cautions.append(Caution.BACKGROUND)
    levels = _levels(found, beneath, scale, subtract=subtract)
    if Caution.CLIPPED in cautions:
        levels = [with_caution(g, Caution.CLIPPED) for g in levels]
    readings = (*levels, delay, *disturbance_reading(disturbed, number), headroom(signal, number))
    curves = _curves(found, beneath, powers, scale, settings)
    return _with_largest_deviation(Result(curves, readings, unique(cautions)))


def _left_of(x: Samples, rate: float, disturbed: tuple[Disturbance, ...]) -> Samples:
    """Return what is left of x without the disturbances; all of it where that would be too little."""
    left = without(x, rate, disturbed)
    if left is None:
        return x
    return left


def _steady_part(sound: Recording, x: Samples, delay: float | None) -> Samples:
    """Return the part of x (frames,) in which the noise sounds and the room has filled with it; all of x where it is
    not known what was played.
    """
    stimulus, rate = sound.stimulus, sound.signal.rate
    if stimulus is None or delay is None or "sounding" not in stimulus.parameters:
        return x
    begin = round((delay + BUILD_UP + noise_stimuli.RAMP) * rate + stimulus["lead"])
    end = round((delay - noise_stimuli.RAMP) * rate + stimulus["lead"] + stimulus["sounding"])
    part = x[max(0, begin) : max(0, end)]
    if part.size < LEAST_FRAMES:
        return x
    return part


def _delay_of(sound: Recording, number: int) -> Reading:
    """Return how much later the noise is in a channel than it was played."""
    stimulus, rate = sound.stimulus, sound.signal.rate
    if stimulus is None or not stimulus.playable or "sounding" not in stimulus.parameters:
        return Reading("delay", number, None, "s", cautions=(Caution.STIMULUS_NOT_FOUND,))
    # a part from the beginning tells it: all of a long recording would take many times as long
    frames = round(_DELAY_FROM * rate + stimulus["lead"])
    played = stimulus.samples()[:frames]
    x = sound.signal.channel(number)[: frames + round(_DELAY_SEARCH * rate)]
    if not x.any():
        return Reading("delay", number, None, "s", cautions=(Caution.SILENT,))
    band = (
        max(20.0, stimulus.parameters.get("low", 0.0)),
        min(0.45 * rate, stimulus.parameters.get("high", 0.45 * rate)),
    )
    delay = delay_between(played, x, rate, band, _DELAY_SEARCH, watch_dispersion=False)
    if isinstance(delay, NoCorrelation):
        return Reading("delay", number, None, "s", cautions=(Caution.STIMULUS_NOT_FOUND,))
    return Reading("delay", number, delay.frames / rate, "s", {"samples": delay.frames}, None, delay.spread / rate)


def _less_background(powers: Samples, beneath: Samples | None, *, subtract: bool) -> tuple[Samples, np.ndarray]:
    """Return the powers (bands,) less the background's, and which are less than 3 dB above it and stay as they are."""
    if beneath is None:
        return powers, np.zeros(powers.size, bool)
    near = powers < _MAY_SUBTRACT * beneath
    if not subtract:
        return powers, near
    return np.where(near, powers, powers - beneath), near


def _levels(found: BandPowers, beneath: BandPowers | None, scale: ChannelScale, *, subtract: bool) -> list[Reading]:
    """Return the equivalent levels, and the background's."""
    readings = []
    for key, weighting in (("level", Weighting.NONE), ("level_a", Weighting.A), ("level_c", Weighting.C)):
        power, spread = found.weighted[weighting], found.weighted_spreads_db[weighting]
        own: tuple[Caution, ...] = ()
        if beneath is not None:
            remaining, near = _less_background(
                np.array([power]), np.array([beneath.weighted[weighting]]), subtract=subtract
            )
            power, own = float(remaining[0]), caution_when(bool(near[0]), Caution.BACKGROUND)
        at: dict[str, float | str] = {"weighting": "Z" if weighting is Weighting.NONE else str(weighting)}
        readings.append(_level(scale, key, power, at, spread, cautions=own))
    if beneath is not None:
        quiet, spread = beneath.weighted[Weighting.A], beneath.weighted_spreads_db[Weighting.A]
        readings.append(_level(scale, "background", quiet, {"weighting": "A"}, spread))
    return readings


def _level(
    scale: ChannelScale,
    key: str,
    mean_square: float,
    at: dict[str, float | str],
    spread_db: float,
    *,
    cautions: tuple[Caution, ...] = (),
) -> Reading:
    """Return a mean square in FS² as a level in dB."""
    if mean_square > 0:
        value = 10 * math.log10(2 * mean_square) + scale.level_offset
    else:
        value = None
    return Reading(key, scale.channel, value, scale.level_unit, at, None, spread_db, cautions)


def _judged_by_average(average: Result) -> Result:
    """Return the average, cautioned by its own distance from the background and not by that of each microphone."""
    level, quiet = average.reading("level_a", AVERAGE), average.reading("background", AVERAGE)
    known = level is not None and quiet is not None and level.value is not None and quiet.value is not None
    is_near = known and level.value - quiet.value < _NEAR_DB  # type: ignore[union-attr, operator]

    def judged(reading: Reading) -> Reading:
        own = tuple(c for c in reading.cautions if c is not Caution.BACKGROUND)
        if reading is level and is_near:
            return replace(reading, cautions=(*own, Caution.BACKGROUND))
        return replace(reading, cautions=own)

    return replace(average, readings=tuple(judged(r) for r in average.readings))


def _with_largest_deviation(result: Result) -> Result:
    """Return one channel's result with the reading of the band in which its level deviates most."""
    deviation = next((c for c in result.curves if c.key == _DEVIATION), None)
    if deviation is None:
        return result
    worst = int(np.argmax(deviation.y))
    at: dict[str, float | str] = {"frequency_hz": float(deviation.x[worst])}
    largest = Reading("largest_deviation", deviation.channel, float(deviation.y[worst]), "dB", at)
    return replace(result, readings=(*result.readings, largest))


def _curves(
    found: BandPowers, beneath: BandPowers | None, powers: Samples, scale: ChannelScale, settings: BandLevelSettings
) -> tuple[Curve, ...]:
    number, unit, x = scale.channel, scale.level_unit, found.middle

    def level(mean_square: Samples) -> Samples:
        return np.asarray(10 * np.log10(np.maximum(2 * mean_square, 1e-40)) + scale.level_offset)

    meta: dict[str, float | str] = {"bandwidth": str(settings.bandwidth)}
    curves = [Curve(_DEVIATION, number, x, found.spreads_db, "Hz", "dB")]
    floor = None
    if beneath is not None:
        floor = level(beneath.powers)
        curves.insert(0, Curve("background", number, x, floor, "Hz", unit, None, meta))
    return (Curve("levels", number, x, level(powers), "Hz", unit, floor, meta), *curves)
