"""A microphone as the unit, against a reference microphone beside it or a source that one has measured before.

Response and sensitivity (IEC 60268-4, terms from memory): the voltage in each twenty-fourth of an octave over the sound
pressure that the reference microphone hears, at the same time (simultaneous comparison) or before, at the same point
(substitution). docs/methods.md, A microphone as the unit.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.capture_checks import capture_cautions, headroom
from epidote.core.analysis.spectral.smoothing import Smoothing, smoothed_power
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.chain.frequency_rows import interpolate_rows
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, require_usable_recordings
from epidote.core.procedures.common.gates import LOWEST_FREQUENCY, Gate, gate_of
from epidote.core.procedures.common.stepped_tones import OVERHEAD, distorts, monitored
from epidote.core.procedures.microphone.distortion import RisingTone, distortion_result
from epidote.core.procedures.microphone.self_noise import self_noise_readings
from epidote.core.procedures.microphone.settings import MicrophoneSettings, Task
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.frequency_series import fractional_octave_series
from epidote.core.quantities.units import PASCAL_DB, to_db
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.curve_features import curve_at
from epidote.core.results.kinds import CurveRole, Microphone, ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.silence import KIND as SILENCE
from epidote.core.stimuli.silence import silence
from epidote.core.stimuli.stepped_tones import KIND as STAIRCASE
from epidote.core.stimuli.stepped_tones import stepped_tones
from epidote.core.stimuli.sweep import LEAD, TAIL

_LEAST_FRAMES = 2048
_PER_OCTAVE, _SMOOTHING = 24, Smoothing.TWENTYFOURTH
_MOVED_DB = 0.5  # by which a source may differ from the kept one (common practice, no source)


@dataclass(frozen=True)
class Heard:
    """One channel of the sweep: frequencies in Hz (points,), power of its response re the generator's, and whether
    its impulse response is negative.
    """

    channel: int
    x: Samples
    power: Samples
    inverted: bool
    deconvolved: dc.Deconvolved


class MicrophoneComparison(ProcedureBase):
    """Response, sensitivity, self-noise, highest level and polarity of a microphone."""

    key = "microphone"
    title = "Microphone"
    about = About(
        QuestionGroup.LEVEL,
        question="How does a microphone compare with a reference?",
        played="Sweep, silence, and a tone with rising level",
        gives="Sensitivity over frequency, self-noise in dB(A), level at 1 % THD and polarity of a microphone.",
        needs="A calibrated reference microphone, next to it, or measured first at the same point",
        sketch=((0, 0.35), (0.15, 0.5), (0.5, 0.5), (0.7, 0.56), (0.82, 0.75), (0.92, 0.55), (1, 0.2)),
    )
    presets = (
        Preset(
            "Source, before the microphone",
            {"task": "source"},
            "With the reference microphone at the measuring point; save the source with the chain afterwards.",
        ),
        Preset(
            "With distortion, up to 114 dB", {"highest": 114.0}, "Level is raised up to 1 % THD; needs a saved source."
        ),
    )
    Settings = MicrophoneSettings
    of_the_chain = False
    of_levels = False
    views = (
        CurveView("sensitivity", "Microphone", "sensitivity", "Output at 1 Pa"),
        CurveView("response", "Microphone", "re 1 kHz", "Response re 1 kHz"),
        CurveView(
            "source",
            "Source",
            "level",
            "Level at the point at 0 dBFS",
            microphone=Microphone.LEVEL,
            role=CurveRole.SOURCE,
        ),
        CurveView("point_level", "Source", "as played", "Level at the point as played", microphone=Microphone.LEVEL),
        CurveView("thd_by_level", "Distortion", "THD", "THD vs. sound level", log_x=False, ratio=True),
    )
    readings = (
        ReadingKind("sensitivity", "Sensitivity", meaning="Output at 1 kHz and a sound pressure of 1 Pa (94 dB SPL)."),
        ReadingKind(
            "self_noise",
            "Self-noise, A-weighted",
            meaning="Sound level equivalent to the A-weighted output in silence (equivalent noise level).",
        ),
        ReadingKind(
            "level_at_thd", "Level at THD limit", meaning="Sound level at which the distortion limit is reached."
        ),
        ReadingKind(
            "polarity",
            "Polarity",
            shown=Shown.POLARITY,
            compared=False,
            meaning="Whether a positive sound pressure gives a positive output.",
        ),
        ReadingKind(
            "point_deviation",
            "Deviation at the point",
            shown=Shown.PLUS_MINUS,
            meaning="Half the range of the level at the measuring point over the band.",
        ),
        LOWEST_FREQUENCY,
        HEADROOM,
    )

    def conduct(self, settings: MicrophoneSettings, chain: Chain) -> Conduct:
        _require_channels(settings, len(chain.inputs))
        _require_reference(settings, chain)
        swept = settings.sweep_for(chain)
        rising = None
        if settings.task is Task.MICROPHONE and settings.highest:
            rising = stepped_tones(
                rate=chain.rate, steps=settings.rising_steps(chain), channels=chain.stimulus_channels
            )
        if settings.task is Task.MICROPHONE and settings.noise_time:
            yield silence(chain.rate, settings.noise_time)
        yield swept
        if rising is not None:
            yield monitored(rising, settings, lambda steps: distorts(steps[-1], settings.distortion_limit))

    def duration(self, settings: MicrophoneSettings, chain: Chain) -> float:
        swept = LEAD + settings.duration + TAIL
        if settings.task is Task.SOURCE:
            return swept
        rising = 0.0
        if settings.highest and chain.source is not None:
            rising = OVERHEAD + settings.dwell * len(settings.rising_steps(chain))
        return settings.noise_time + swept + rising

    def headline(self, result: Result) -> Reading | None:
        return next((r for r in result.readings if r.key in ("sensitivity", "point_deviation")), None)

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key in ("response", "source")), None)

    def summary(self, settings: MicrophoneSettings) -> str:
        band = f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz"
        if settings.task is Task.SOURCE:
            return f"source, {band}"
        if settings.reference_channel:
            return f"beside the reference, {band}"
        return f"substitution, {band}"

    def analyse(self, recordings: Sequence[Recording], settings: MicrophoneSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, _LEAST_FRAMES)
        _require_channels(settings, channels)
        _require_reference(settings, chain)
        swept = [r for r in recordings if r.stimulus is None or r.stimulus.kind not in (SILENCE, STAIRCASE)]
        if len(swept) != 1:
            raise UnusableInputError(
                f"A microphone needs one recorded sweep; there are {len(swept)}. Select the recordings of one run."
            )
        results = _Analysis(settings, chain, swept[0], recordings).results()
        return merge_channels(results, recordings, chain)


def _require_channels(settings: MicrophoneSettings, available: int) -> None:
    for name in ("unit_channel", "reference_channel"):
        number = getattr(settings, name)
        if number > available and (name == "reference_channel" or settings.task is Task.MICROPHONE):
            raise SettingError(
                f"{{{name}}} {number}: the chain has {available} inputs. Use one of them, or change the chain.", name
            )


def _require_reference(settings: MicrophoneSettings, chain: Chain) -> None:
    """Raise SettingError where no sound pressure is known to compare with."""
    if settings.reference:
        if settings.task is Task.SOURCE and not _knows_pressure(chain, settings.reference):
            raise SettingError(
                f"Channel {settings.reference} has no calibrated microphone to compare with. Calibrate the reference"
                " microphone on the Chain page.",
                "reference_channel",
            )
    elif chain.source is None:
        raise SettingError(
            "No reference: no source is saved with the chain. Measure the source with the reference"
            " microphone and save it, or set {reference_channel}.",
            "reference_channel",
        )


def _knows_pressure(chain: Chain, channel: int) -> bool:
    """Return whether a calibrated microphone listens at a channel (from 1)."""
    return chain.acoustic and chain.scale(channel)[0] is not None


@dataclass(frozen=True)
class _Analysis:
    """One run: its settings, chain, recorded sweep and all recordings."""

    settings: MicrophoneSettings
    chain: Chain
    swept: Recording
    recordings: Sequence[Recording]

    def results(self) -> list[Result]:
        """Return the results of the reference and of the microphone."""
        settings = self.settings
        # Step 1 (docs/methods.md, A microphone as the unit): responses within one gate
        stimulus = self.swept.stimulus or settings.sweep_for(self.chain)
        kernel = dc.kernel(stimulus, self.swept.signal.frames)
        gate = gate_of(self.swept, kernel, settings.gate, self.swept.signal.channels)
        numbers = [settings.reference] if settings.reference else []
        if settings.task is Task.MICROPHONE:
            numbers.append(settings.unit_channel)
        heard = {n: _hear(self.swept, kernel, gate, n, settings.start_frequency) for n in numbers}
        lost = [n for n, h in heard.items() if h is None]
        if lost:
            return [_not_found(n, settings) for n in lost]
        found = {n: h for n, h in heard.items() if h is not None}
        results = []
        if settings.task is Task.MICROPHONE:
            results.append(self._microphone_result(found[settings.unit_channel], found.get(settings.reference)))
        if settings.reference:
            results.append(self._reference_result(found[settings.reference]))
        if gate.lowest is not None:
            lowest = Reading("lowest_frequency", numbers[-1], gate.lowest, "Hz", {"gate_s": gate.seconds or 0.0})
            results.append(Result((), (lowest,)))
        return results

    def _reference_result(self, heard: Heard) -> Result:
        """Return the level of the source at the point, at 0 dBFS and as it was played."""
        chain, settings = self.chain, self.settings
        head = headroom(self.swept.signal, heard.channel)
        if not _knows_pressure(chain, heard.channel):
            # what a microphone that is not calibrated hears is no sound level
            return Result((), (head,), capture_cautions(self.swept.signal, heard.channel))
        pascals, _ = chain.scale(heard.channel)
        level = 10 * np.log10(heard.power) + to_db(pascals or 1.0) + PASCAL_DB
        serial = chain.serial_of(heard.channel)
        meta: dict[str, float | str] = {"inverted": float(heard.inverted), "microphone_serial": serial}
        source = Curve("source", heard.channel, heard.x, level, "Hz", "dB SPL", None, meta)
        drive = _drive_of(heard)
        played = Curve("point_level", heard.channel, heard.x, level + drive, "Hz", "dB SPL")
        own = self._own_response(heard)
        deviation = float(np.ptp(played.y - own)) / 2
        where: dict[str, float | str] = {"low_hz": float(heard.x[0]), "high_hz": float(heard.x[-1])}
        cautions = list(capture_cautions(self.swept.signal, heard.channel))
        if settings.task is Task.MICROPHONE and chain.source is not None:
            kept = interpolate_rows(chain.source.points, heard.x)
            moved = float(np.median(np.abs(level - own - kept))) > _MOVED_DB
            cautions += caution_when(moved, Caution.SOURCE_MOVED)
        readings = (Reading("point_deviation", heard.channel, deviation, "dB", where), head)
        return Result((source, played), readings, unique(cautions))

    def _own_response(self, heard: Heard) -> Samples:
        """Return the reference microphone's own response in dB (points,), 0 where no correction is known."""
        rows = self.chain.correction_of(heard.channel)
        if not rows:
            return np.zeros(heard.x.size)
        return interpolate_rows(rows, heard.x)

    def _pressure(self, heard: Heard, reference: Heard | None) -> Samples:
        """Return the sound level at the point in dB re 1 Pa at 0 dBFS (points,)."""
        if reference is None:
            assert self.chain.source is not None
            return interpolate_rows(self.chain.source.points, heard.x) - PASCAL_DB
        pascals, _ = self.chain.scale(reference.channel)
        return 10 * np.log10(reference.power) + to_db(pascals or 1.0) - self._own_response(reference)

    def _microphone_result(self, heard: Heard, reference: Heard | None) -> Result:
        """Return what the microphone gives at the pressures that are known."""
        chain, number = self.chain, heard.channel
        # Step 2: output over pressure
        scale = ChannelScale(number, chain.unit_full_scale, "V")
        output = 10 * np.log10(heard.power) + scale.level_offset
        level = output - self._pressure(heard, reference)
        method = "substitution" if reference is None else "simultaneous comparison"
        meta: dict[str, float | str] = {"method": method, "smoothing": str(_SMOOTHING)}
        sensitivity = Curve("sensitivity", number, heard.x, level, "Hz", scale.level_unit, None, meta)
        middle = curve_at(sensitivity, 1000.0)
        at = 1000.0
        if middle is None:
            at = math.sqrt(float(heard.x[0] * heard.x[-1]))
            middle = float(curve_at(sensitivity, at) or 0.0)
        response = replace(sensitivity, key="response", y=level - middle, y_unit="dB")
        # Step 3: single figures; without a calibrated reference only the shape of the response is known
        inverted = heard.inverted != self._source_inverted(reference)
        polarity = Reading("polarity", number, -1.0 if inverted else 1.0, "ratio", {"method": method})
        if reference is not None and not _knows_pressure(chain, reference.channel):
            return self._shape_alone(response, polarity)
        where: dict[str, float | str] = {"frequency_hz": at, "method": method}
        in_full_scale = middle - scale.level_offset
        readings = [scale.level("sensitivity", 10 ** (in_full_scale / 10) / 2, where), polarity]
        quiet = next((r for r in self.recordings if r.stimulus is not None and r.stimulus.kind == SILENCE), None)
        cautions = list(capture_cautions(self.swept.signal, number))
        if quiet is not None:
            noise = self_noise_readings(quiet, number, in_full_scale, reference.channel if reference else 0)
            readings += noise
            cautions += [c for r in noise for c in r.cautions]
        distortion = self._distortion(sensitivity, scale, reference)
        cautions += distortion.cautions
        readings += [*distortion.readings, headroom(self.swept.signal, number)]
        return Result((response, sensitivity, *distortion.curves), tuple(readings), unique(cautions))

    def _shape_alone(self, response: Curve, polarity: Reading) -> Result:
        """Return what holds whatever the pressure was: the response re 1 kHz, and the polarity."""
        number, missing = response.channel, (Caution.UNCALIBRATED,)
        sensitivity = Reading("sensitivity", number, None, "V", cautions=missing)
        readings = (sensitivity, polarity, headroom(self.swept.signal, number))
        cautions = (*capture_cautions(self.swept.signal, number), *missing)
        return Result((response,), readings, unique(cautions))

    def _distortion(self, sensitivity: Curve, scale: ChannelScale, reference: Heard | None) -> Result:
        """Return what the rising tone says; nothing where none was played."""
        settings = self.settings
        tone = RisingTone.of(self.recordings, settings)
        at_tone = curve_at(sensitivity, settings.frequency)
        if tone is None or at_tone is None:
            return Result((), ())
        reference_db = None
        if reference is not None:
            pascals, _ = self.chain.scale(reference.channel)
            own = float(np.interp(settings.frequency, reference.x, self._own_response(reference)))
            reference_db = own - to_db(pascals or 1.0)
        return distortion_result(tone, scale.channel, at_tone - scale.level_offset, settings, reference_db)

    def _source_inverted(self, reference: Heard | None) -> bool:
        if reference is not None:
            return reference.inverted
        assert self.chain.source is not None
        return self.chain.source.inverted


def _hear(recording: Recording, kernel: dc.Kernel, gate: Gate, number: int, lowest: float) -> Heard | None:
    """Return what a channel (from 1) heard of the sweep, from ``lowest`` Hz on; None where it is not found."""
    d = dc.deconvolve(recording.signal.channel(number), kernel)
    if not d.found:
        return None
    low = max(lowest, gate.lowest or 0.0)
    high = kernel.stimulus["stop"]
    x = fractional_octave_series(_PER_OCTAVE, low, high)
    response = gate.response(d, by_frequency=True).response
    width = kernel.rate / dc.response_grid(kernel)
    power = smoothed_power(np.square(np.abs(response)), width, x, _SMOOTHING, low=low, high=high)
    return Heard(number, x, np.maximum(power, 1e-30), bool(d.impulse[d.peak] < 0), d)


def _drive_of(heard: Heard) -> Samples:
    """Return the generator level of the sweep in dBFS at each frequency (points,)."""
    stimulus = heard.deconvolved.kernel.stimulus
    count = round(stimulus.parameters.get("rows", 0.0))
    if not count:
        return np.full(heard.x.size, stimulus["level"])
    return interpolate_rows([(stimulus[f"f{n}"], stimulus[f"l{n}"]) for n in range(count)], heard.x)


def _not_found(number: int, settings: MicrophoneSettings) -> Result:
    missing = (Caution.STIMULUS_NOT_FOUND,)
    if settings.task is Task.MICROPHONE and number == settings.unit_channel:
        key, unit = "sensitivity", "V"
    else:
        key, unit = "point_deviation", "dB"
    return Result((), (Reading(key, number, None, unit, cautions=missing),), missing)
