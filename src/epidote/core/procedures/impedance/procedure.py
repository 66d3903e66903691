"""Impedance against frequency: of a loudspeaker, or of a unit's input, by a known resistor in series.

The first input listens before the resistor, the second behind it, at the unit. By Ohm's law Z = R V2 / (V1 - V2);
whatever the output does cancels. What the two inputs differ by does not, which tells where little voltage drops across
the resistor.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.capture_checks import capture_cautions, headroom, require_valid
from epidote.core.analysis.spectral.smoothing import log_bins
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import require_consistent_channels
from epidote.core.procedures.impedance.driver import DRIVER_READINGS, driver_readings
from epidote.core.procedures.impedance.settings import ImpedanceSettings
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.curve_features import interpolate
from epidote.core.results.kinds import ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples

LEAST_FRAMES = 2048
_MISMATCH_LIMITS = 0.05  # relative error of an impedance from which on the inputs' own differences are said
_ALIKE = 4.0  # spreads


class Impedance(ProcedureBase):
    """Impedance behind a known series resistor."""

    key = "impedance"
    title = "Impedance"
    about = About(
        QuestionGroup.IMPEDANCE,
        question="What impedance does it have?",
        played="A sweep through a known resistor",
        gives="Magnitude and phase of the impedance over frequency, resonance, minimum.",
        needs="A series resistor and two inputs",
        sketch=((0, 0.2), (0.15, 0.25), (0.25, 0.85), (0.35, 0.25), (0.5, 0.18), (0.75, 0.35), (1, 0.65)),
    )
    presets = (
        Preset("Loudspeaker, 4 averages", {"averages": 4, "duration": 6.0}, "Quiet enough for a resonance at 20 Hz."),
    )
    Settings = ImpedanceSettings
    of_the_chain = False  # a wire has none to speak of
    views = (
        CurveView("impedance", "Impedance", "magnitude", "Impedance"),
        CurveView("impedance_phase", "Phase", "phase", "Impedance phase"),
    )
    readings = (
        ReadingKind("impedance_1k", "Impedance at 1 kHz", meaning="Magnitude of the impedance at 1 kHz."),
        ReadingKind("minimum", "Minimum impedance", meaning="Smallest magnitude of the impedance."),
        ReadingKind("minimum_frequency", "Minimum at", meaning="Frequency of the smallest impedance."),
        ReadingKind("maximum", "Maximum impedance", meaning="Largest magnitude of the impedance."),
        ReadingKind("maximum_frequency", "Maximum at", meaning="Frequency of the largest impedance."),
        ReadingKind(
            "resonance",
            "Resonance frequency",
            meaning="Frequency of the highest peak of the impedance inside the band.",
        ),
        ReadingKind(
            "loading_error",
            "Loading loss (max.)",
            meaning="Largest loss of level that the given source resistance has at this impedance.",
        ),
        *DRIVER_READINGS,
        HEADROOM,
    )

    def conduct(self, settings: ImpedanceSettings, chain: Chain) -> Conduct:
        if max(settings.before_channel, settings.after_channel) > len(chain.inputs):
            raise SettingError(
                f"Impedance needs two inputs; the chain has {len(chain.inputs)}. Add an input on the Chain page, or set"
                " other channels."
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
        return (
            f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz, {settings.series_ohms:g} Ω in"
            " series"
        )

    def analyse(self, recordings: Sequence[Recording], settings: ImpedanceSettings, chain: Chain) -> Result:
        channels = require_consistent_channels(recordings)
        if max(settings.before_channel, settings.after_channel) > channels:
            raise UnusableInputError(
                f"Impedance needs channels {settings.before_channel} and {settings.after_channel}; the recording has"
                f" {channels}. Nothing was computed; record both sides of the resistor."
            )
        for recording in recordings:
            require_valid(recording.signal, LEAST_FRAMES)
        rate = recordings[0].signal.rate
        kernel = dc.kernel(recordings[0].stimulus or settings.played(rate), max(r.signal.frames for r in recordings))
        numbers = (settings.before_channel, settings.after_channel)
        cautions = [c for r in recordings for n in numbers for c in capture_cautions(r.signal, n)]
        cautions += [Caution.DROPOUT for r in recordings if r.faults]
        ratios, variances = [], []
        for recording in recordings:
            before, after = (dc.deconvolve(recording.signal.channel(n), kernel) for n in numbers)
            if not before.found:
                missing = (Caution.STIMULUS_NOT_FOUND,)
                return Result((), (Reading("minimum", 1, None, "Ω", cautions=missing),), unique((*cautions, *missing)))
            ratio, variance = _ratio(before, after)
            ratios.append(ratio)
            variances.append(variance)
        mean_variance = np.mean(variances, axis=0) / len(recordings)
        return _result(np.mean(ratios, axis=0), mean_variance, kernel, settings, recordings[0], cautions=cautions)


def _responses(before: dc.Deconvolved, after: dc.Deconvolved) -> list[NDArray[np.complex128]]:
    """V1 and V2 on the grid, both windowed round the first one's peak so that their phases belong together."""
    size, rate = dc.response_grid(before.kernel), before.kernel.rate
    around = before.peak, round(dc.BEFORE * rate), round(dc.AFTER * rate)
    return [dc.windowed_response(d.impulse, *around, size) for d in (before, after)]


def _ratio(before: dc.Deconvolved, after: dc.Deconvolved) -> tuple[NDArray[np.complex128], Samples]:
    """V2 / V1 on the grid, and its variance, both parts together, by the noise of either side (bins,)."""
    first, second = _responses(before, after)
    ratio: NDArray[np.complex128] = second / np.where(np.abs(first) > 0, first, np.inf)
    rate = before.kernel.rate
    f: Samples = np.arange(ratio.size, dtype=float) * (rate / dc.response_grid(before.kernel))
    window = (0.75 * dc.AFTER + dc.BEFORE / 2) * rate
    noise = [dc.noise_density(d, f) * window for d in (before, after)]
    power = np.maximum(np.square(np.abs(first)), np.finfo(float).tiny)
    return ratio, np.asarray((noise[1] + np.square(np.abs(ratio)) * noise[0]) / power)


def _resonance(x: Samples, size: Samples, spreads: Samples) -> Reading:
    """Where the impedance peaks inside the band: the greatest of its local maxima."""
    peaks = 1 + np.flatnonzero((size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:]))
    # a ripple is no resonance: it must stand a tenth above the least of both sides
    if peaks.size:
        peaks = peaks[[bool(size[k] > 1.1 * max(size[:k].min(), size[k:].min())) for k in peaks]]
    if not peaks.size:
        return Reading("resonance", 1, None, "Hz", cautions=(Caution.OUTSIDE_BAND,))
    top = int(peaks[np.argmax(size[peaks])])
    at: dict[str, float | str] = {"impedance_ohms": float(size[top])}
    return Reading("resonance", 1, float(x[top]), "Hz", at, None, _place_spread(x, -size, spreads, top))


def _place_spread(x: Samples, size: Samples, spreads: Samples, least: int) -> float:
    """Return the standard deviation of the frequency of a least value: noise may move it as far as the curve stays
    within two spreads of it.
    """
    within = size <= size[least] + 2 * spreads[least]
    low, high = least, least
    while low > 0 and within[low - 1]:
        low -= 1
    while high + 1 < x.size and within[high + 1]:
        high += 1
    grid = float(x[min(least + 1, x.size - 1)] - x[max(least - 1, 0)]) / 2  # no finer than its points
    return math.hypot(float(x[high] - x[low]), grid) / math.sqrt(12)


def _result(
    ratio: NDArray[np.complex128],
    variance: Samples,
    kernel: dc.Kernel,
    settings: ImpedanceSettings,
    recording: Recording,
    *,
    cautions: list[Caution],
) -> Result:
    width = kernel.rate / dc.response_grid(kernel)
    bins = log_bins(ratio.size, width, settings.start_frequency, settings.stop_frequency)
    x, index = bins * width, bins.astype(int)
    ratios = ratio[index]
    drop = 1 - ratios
    z = settings.series_ohms * ratios / np.where(np.abs(drop) > 1e-9, drop, 1e-9)
    size = np.abs(z)
    # dZ/Z = dr / (r (1 - r)); half of the noise lies along Z
    leverage = 1 / np.maximum(np.abs(ratios * drop), 1e-12)
    spreads = size * leverage * np.sqrt(variance[index] / 2)
    # what both inputs differ by acts as an error of the ratio itself
    mismatch = (10 ** (settings.mismatch / 20) - 1) / np.maximum(np.abs(drop), 1e-9)
    if bool(np.any(mismatch > _MISMATCH_LIMITS)):
        cautions.append(Caution.CHANNEL_MISMATCH)
    meta: dict[str, float | str] = {"series_ohms": settings.series_ohms, "mismatch_db": settings.mismatch}
    curves = (
        Curve("impedance", 1, x, size, "Hz", "Ω", None, meta),
        Curve("impedance_phase", 1, x, np.degrees(np.angle(z)), "Hz", "°", None, meta),
    )
    low, high = int(np.argmin(size)), int(np.argmax(size))
    driver = driver_readings(ratio, variance, width, settings)

    def at(place: int) -> tuple[dict[str, float | str], float, tuple[Caution, ...]]:
        """Where a reading is taken with what the mismatch makes of it there, its spread, its cautions."""
        limited = caution_when(mismatch[place] > _MISMATCH_LIMITS, Caution.CHANNEL_MISMATCH)
        return (
            {"frequency_hz": float(x[place]), "mismatch_error": float(mismatch[place])},
            float(spreads[place]),
            limited,
        )

    def ohms(key: str, value: float | None, place: int, *, chosen: bool = False) -> Reading:
        """``chosen``: as the least or greatest of its neighbourhood, whose noise then decides the more the more
        points are alike.
        """
        where, spread, limited = at(place)
        if chosen:
            equal = int(np.count_nonzero(np.abs(size - size[place]) < _ALIKE * spread))
            spread *= math.sqrt(1 + 2 * math.log(max(1, equal)))
        return Reading(key, 1, value, "Ω", where, None, spread if value is not None else None, limited)

    readings = [
        ohms("impedance_1k", interpolate(x, size, 1000.0), int(np.argmin(np.abs(x - 1000.0)))),
        ohms("minimum", float(size[low]), low, chosen=True),
        Reading("minimum_frequency", 1, float(x[low]), "Hz", {}, None, _place_spread(x, size, spreads, low)),
        ohms("maximum", float(size[high]), high, chosen=True),
        Reading("maximum_frequency", 1, float(x[high]), "Hz", {}, None, _place_spread(x, -size, spreads, high)),
        *([] if driver else [_resonance(x, size, spreads)]),
        *driver,
        headroom(recording.signal, settings.before_channel),
    ]
    if settings.source_ohms > 0:
        loss = 20 * np.log10(np.abs(z / (z + settings.source_ohms)))
        worst = int(np.argmin(loss))
        where, spread, limited = at(worst)
        where["source_ohms"] = settings.source_ohms
        share = settings.source_ohms / abs(z[worst] + settings.source_ohms)
        in_db = DB_PER_NEPER * share * spread / float(size[worst])
        readings.insert(5, Reading("loading_error", 1, float(loss[worst]), "dB", where, None, in_db, limited))
    return Result(curves, tuple(readings), unique(cautions))
