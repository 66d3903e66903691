"""Impedance against frequency: of a loudspeaker, or of a unit's input, by a known resistor in series.

The first input listens before the resistor, the second behind it, at the unit. By Ohm's law Z = R V2 / (V1 - V2); whatever the output does
cancels. What the two inputs differ by does not, which tells where little voltage drops across the resistor.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator

from epidote.core.analysis import deconvolution as dc
from epidote.core.analysis.capture import capture_cautions, headroom, require_usable
from epidote.core.analysis.features import value_at
from epidote.core.analysis.smoothing import log_bins
from epidote.core.caution import Caution, unique
from epidote.core.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.base import Conduct, CurveView, UsualProcedure, single_recording_channels
from epidote.core.procedures.swept import SweepSettings
from epidote.core.result import Curve, Reading, Result
from epidote.core.settings import setting
from epidote.core.signal import Recording, Samples

LEAST_FRAMES = 2048
_TELLING = 0.02  # share of the voltage that must drop across the resistor, or the inputs' own differences decide


class ImpedanceSettings(SweepSettings):
    level: float = setting(-20.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0)
    series_ohms: float = setting(10.0, "Series resistor", "Value of the series resistor", "Ω", gt=0, le=1e7)
    before_channel: int = setting(1, "Channel before resistor", "Input channel before the resistor", ge=1, le=64)
    after_channel: int = setting(2, "Channel after resistor", "Input channel after the resistor, at the unit", ge=1, le=64)
    source_ohms: float = setting(0.0, "Source resistance", "Output resistance of the source that will drive the unit, for the loading loss", "Ω", ge=0, le=1e6)

    @model_validator(mode="after")
    def _channels_are_two(self) -> ImpedanceSettings:
        if self.before_channel == self.after_channel:
            raise SettingError("{before_channel} and {after_channel} must be different.", "before_channel", "after_channel")
        return self


class Impedance(UsualProcedure):
    key = "impedance"
    title = "Impedance"
    Settings = ImpedanceSettings
    of_the_chain = False  # a wire has none to speak of
    views = (
        CurveView("impedance", "Impedance", "magnitude", "Impedance"),
        CurveView("impedance_phase", "Phase", "phase", "Impedance phase"),
    )
    reading_titles = {  # noqa: RUF012
        "impedance_1k": "Impedance at 1 kHz", "minimum": "Minimum impedance", "minimum_frequency": "Minimum at", "maximum": "Maximum impedance", "maximum_frequency": "Maximum at", "resonance": "Resonance frequency",
        "loading_error": "Loading loss (max.)", "headroom": "Headroom",
    }  # fmt: skip

    def conduct(self, settings: ImpedanceSettings, chain: Chain) -> Conduct:
        if max(settings.before_channel, settings.after_channel) > len(chain.inputs):
            raise SettingError(
                f"Impedance needs two inputs; the chain has {len(chain.inputs)}. Add an input on the Chain page, or set other channels."
            )
        stimulus = settings.played(chain.rate)
        for _ in range(settings.averages):
            yield stimulus

    def duration(self, settings: ImpedanceSettings, chain: Chain) -> float:
        return settings.sounding()

    def headline(self, result: Result) -> Reading | None:
        return result.reading("minimum")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("impedance")

    def summary(self, settings: ImpedanceSettings) -> str:
        return f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz, {settings.series_ohms:g} Ω in series"

    def analyse(self, recordings: Sequence[Recording], settings: ImpedanceSettings, chain: Chain) -> Result:
        channels = single_recording_channels(recordings)
        if max(settings.before_channel, settings.after_channel) > channels:
            raise UnusableInputError(
                f"Impedance needs channels {settings.before_channel} and {settings.after_channel}; the recording has {channels}. Nothing was computed; record both sides of the resistor."
            )
        for recording in recordings:
            require_usable(recording.signal, LEAST_FRAMES)
        rate = recordings[0].signal.rate
        kernel = dc.kernel(recordings[0].stimulus or settings.played(rate), max(r.signal.frames for r in recordings))
        numbers = (settings.before_channel, settings.after_channel)
        cautions = [c for r in recordings for n in numbers for c in capture_cautions(r.signal, n)]
        cautions += [Caution.DROPOUT for r in recordings if r.faults]
        ratios = []
        for recording in recordings:
            before, after = (dc.deconvolve(recording.signal.channel(n), kernel) for n in numbers)
            if not before.found:
                missing = (Caution.STIMULUS_NOT_FOUND,)
                return Result((), (Reading("minimum", 1, None, "Ω", cautions=missing),), unique((*cautions, *missing)))
            ratios.append(_ratio(before, after))
        ratio = np.mean(ratios, axis=0)
        return _result(ratio, kernel, settings, recordings[0], cautions)


def _ratio(before: dc.Deconvolved, after: dc.Deconvolved) -> NDArray[np.complex128]:
    """V2 / V1 on the grid, both windowed round the first one's peak so that their phases belong together."""
    size = dc.response_grid(before.kernel)
    rate = before.kernel.rate
    parts = [dc.windowed_response(d.impulse, before.peak, round(dc.BEFORE * rate), round(dc.AFTER * rate), size) for d in (before, after)]
    return np.asarray(parts[1] / np.where(np.abs(parts[0]) > 0, parts[0], np.inf))


def _resonance(x: Samples, size: Samples) -> Reading:
    """Where the impedance peaks inside the band: the greatest of its local maxima."""
    peaks = 1 + np.flatnonzero((size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:]))
    # a ripple is no resonance: it must stand a tenth above the least of both sides
    peaks = peaks[[bool(size[k] > 1.1 * max(size[:k].min(), size[k:].min())) for k in peaks]] if peaks.size else peaks
    if not peaks.size:
        return Reading("resonance", 1, None, "Hz", cautions=(Caution.OUTSIDE_BAND,))
    top = int(peaks[np.argmax(size[peaks])])
    return Reading("resonance", 1, float(x[top]), "Hz", {"impedance_ohms": float(size[top])})


def _result(
    ratio: NDArray[np.complex128], kernel: dc.Kernel, settings: ImpedanceSettings, recording: Recording, cautions: list[Caution]
) -> Result:
    width = kernel.rate / dc.response_grid(kernel)
    bins = log_bins(ratio.size, width, settings.start_frequency, settings.stop_frequency)
    x = bins * width
    found = ratio[bins.astype(int)]
    drop = 1 - found
    z = settings.series_ohms * found / np.where(np.abs(drop) > 1e-9, drop, 1e-9)
    if bool(np.any(np.abs(drop) < _TELLING)):
        cautions.append(Caution.NEAR_FLOOR)
    size = np.abs(z)
    meta: dict[str, float | str] = {"series_ohms": settings.series_ohms}
    curves = (
        Curve("impedance", 1, x, size, "Hz", "Ω", None, meta),
        Curve("impedance_phase", 1, x, np.degrees(np.angle(z)), "Hz", "°", None, meta),
    )
    low, high = int(np.argmin(size)), int(np.argmax(size))
    readings = [
        Reading("impedance_1k", 1, value_at(x, size, 1000.0), "Ω", {"frequency_hz": 1000.0}),
        Reading("minimum", 1, float(size[low]), "Ω", {"frequency_hz": float(x[low])}),
        Reading("minimum_frequency", 1, float(x[low]), "Hz"),
        Reading("maximum", 1, float(size[high]), "Ω", {"frequency_hz": float(x[high])}),
        Reading("maximum_frequency", 1, float(x[high]), "Hz"),
        _resonance(x, size),
        headroom(recording.signal, settings.before_channel),
    ]
    if settings.source_ohms > 0:
        loss = 20 * np.log10(np.abs(z / (z + settings.source_ohms)))
        worst = int(np.argmin(loss))
        at: dict[str, float | str] = {"frequency_hz": float(x[worst]), "source_ohms": settings.source_ohms}
        readings.insert(5, Reading("loading_error", 1, float(loss[worst]), "dB", at))
    return Result(curves, tuple(readings), unique(cautions))
