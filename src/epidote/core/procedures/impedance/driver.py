"""What an impedance says of a loudspeaker driver: small-signal parameters, moving mass, equivalent volume."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.acoustics.driver_parameters import (
    DriverFit,
    equivalent_volume,
    equivalent_volume_by_box,
    fit_driver,
    moving_mass,
)
from epidote.core.procedures.impedance.settings import ImpedanceSettings
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.kinds import ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.signals.signal import Samples

_LEAST_SHARE = 0.8  # of the rated impedance that the minimum may fall to (IEC 60268-5, 16.1; from memory)

DRIVER_READINGS = (
    ReadingKind("re", "Re", meaning="Resistance of the voice coil to direct current, from the fitted driver."),
    ReadingKind("qms", "Qms", meaning="Mechanical quality factor of the resonance, from the fitted driver."),
    ReadingKind("qes", "Qes", meaning="Electrical quality factor of the resonance, from the fitted driver."),
    ReadingKind("qts", "Qts", meaning="Total quality factor of the resonance, from the fitted driver."),
    ReadingKind("mms", "Mms", meaning="Moving mass in grams, by the added-mass method."),
    ReadingKind("vas", "Vas", meaning="Equivalent volume of the suspension compliance, in litres."),
    ReadingKind(
        "minimum_share",
        "Minimum re rated",
        meaning="Minimum impedance relative to the rated impedance; IEC 60268-5 requires at least 80 %.",
    ),
)


def driver_readings(
    ratio: NDArray[np.complex128], variance: Samples, width: float, settings: ImpedanceSettings
) -> list[Reading]:
    """Return the readings of a driver; none for an impedance that is not a driver's.

    ratio: of the voltages behind and before the resistor (bins,); variance: of the ratio, both parts together; width:
    of a bin in Hz.
    """
    first = math.ceil(settings.start_frequency / width)
    last = min(ratio.size, math.floor(settings.stop_frequency / width) + 1)
    inside = slice(max(1, first), last)
    f: Samples = np.arange(ratio.size, dtype=np.float64)[inside] * width
    drop = 1 - ratio[inside]
    drop = np.where(np.abs(drop) > 1e-9, drop, 1e-9)
    z = settings.series_ohms * ratio[inside] / drop
    # dZ = R dr / (1 - r)²; each part has half of the variance
    spreads = settings.series_ohms / np.square(np.abs(drop)) * np.sqrt(variance[inside] / 2)
    fit = fit_driver(f, z, spreads)
    readings = []
    if fit is not None:
        at: dict[str, float | str] = {"misfit": fit.misfit, "coil": fit.inductance, **fit.coil}
        for key, unit in (("resonance", "Hz"), ("re", "Ω"), ("qms", ""), ("qes", ""), ("qts", "")):
            readings.append(Reading(key, 1, getattr(fit, key), unit, at, None, fit.spreads[key]))
        readings += _compliance(fit, settings)
    if settings.rated_ohms:
        share = float(np.abs(z).min()) / settings.rated_ohms
        low = caution_when(share < _LEAST_SHARE, Caution.LOW_IMPEDANCE)
        readings.append(
            Reading("minimum_share", 1, 100 * share, "%", {"rated_ohms": settings.rated_ohms}, cautions=low)
        )
    if fit is None:
        return [r for r in readings if r.key == "minimum_share"]
    return readings


def _compliance(fit: DriverFit, settings: ImpedanceSettings) -> list[Reading]:
    """Return moving mass and equivalent volume, as far as mass, box and the run in free air are known."""
    readings = []
    if settings.added_mass and settings.free_resonance:
        mass = moving_mass(settings.free_resonance, fit.resonance, settings.added_mass / 1000)
        at: dict[str, float | str] = {"added_g": settings.added_mass, "free_hz": settings.free_resonance}
        own = caution_when(mass is None, Caution.NO_SHIFT)
        readings.append(Reading("mms", 1, None if mass is None else 1000 * mass, "g", at, cautions=own))
        if mass is not None and settings.diaphragm_area:
            volume = equivalent_volume(settings.free_resonance, mass, settings.diaphragm_area / 1e4)
            readings.append(Reading("vas", 1, 1000 * volume, "l", at))
    elif settings.box_volume and settings.free_resonance and settings.free_qes:
        free, boxed = (settings.free_resonance, settings.free_qes), (fit.resonance, fit.qes)
        by_box = equivalent_volume_by_box(free, boxed, settings.box_volume / 1000)
        own = caution_when(by_box is None, Caution.NO_SHIFT)
        where: dict[str, float | str] = {"box_l": settings.box_volume, "free_hz": settings.free_resonance}
        readings.append(Reading("vas", 1, None if by_box is None else 1000 * by_box, "l", where, cautions=own))
    return readings
