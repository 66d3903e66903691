"""Quantities: units, level references, conversion between them, and parsing of what people type.

References (definitions; ../shared values 09_level_references in the tests): 0 dBV = 1 V, 0 dBu = sqrt(0.6) V,
0 dB SPL = 20 uPa, 0 dBFS = RMS of a full-scale sine (AES17). Levels of voltage and pressure are RMS values.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeVar

from epidote.core.errors import EpidoteError

if TYPE_CHECKING:
    from epidote.core.signals.signal import Samples

_Levels = TypeVar("_Levels", float, "Samples")

DBU_VOLTS = math.sqrt(0.6)
SPL_PASCALS = 20e-6

# A level unit is 20 lg of a value in its base unit over the reference.
LEVEL_UNITS: dict[str, tuple[str, float]] = {
    "dBFS": ("FS", 1.0),
    "dBV": ("V", 1.0),
    "dBu": ("V", DBU_VOLTS),
    "dB SPL": ("Pa", SPL_PASCALS),
    "dB": ("ratio", 1.0),
}
SCALED_UNITS: dict[str, tuple[str, float]] = {"%": ("ratio", 0.01), "ppm": ("ratio", 1e-6)}
BASE_UNITS = ("V", "W", "Pa", "FS", "Hz", "s", "samples", "Ω", "°", "bit", "dB/oct", "ratio")

_PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3, "k": 1e3, "K": 1e3, "M": 1e6, "G": 1e9}
_ALIASES = {
    "v": "V",
    "vrms": "V",
    "volt": "V",
    "volts": "V",
    "w": "W",
    "watt": "W",
    "watts": "W",
    "wrms": "W",
    "wattrms": "W",
    "wattsrms": "W",
    "pa": "Pa",
    "hz": "Hz",
    "s": "s",
    "sec": "s",
    "sample": "samples",
    "samples": "samples",
    "smp": "samples",
    "frame": "samples",
    "frames": "samples",
    "ohm": "Ω",
    "ohms": "Ω",
    "ω": "Ω",
    "°": "°",
    "deg": "°",
    "bit": "bit",
    "bits": "bit",
    "fs": "FS",
    "%": "%",
    "ppm": "ppm",
    "db": "dB",
    "dbfs": "dBFS",
    "dbv": "dBV",
    "dbu": "dBu",
    "dbspl": "dB SPL",
    "dboct": "dB/oct",
}
# Peak and peak-to-peak volts are understood as those of a sine, since every level here is RMS.
_PEAK_VOLTS = {
    "vp": 1 / math.sqrt(2),
    "vpk": 1 / math.sqrt(2),
    "vpp": 1 / (2 * math.sqrt(2)),
    "vpkpk": 1 / (2 * math.sqrt(2)),
}
_TYPED = re.compile(r"^([+-]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?)\s*(.*)$")


_UNITS_TO_USE = "Use a unit such as V, dBu, W, dBFS, Hz, s or %."


class QuantityError(EpidoteError):
    """A typed quantity that cannot be understood, or a conversion that lacks what it needs."""

    exit_code = 2


@dataclass(frozen=True)
class Quantity:
    """A value with its unit."""

    value: float
    unit: str


@dataclass(frozen=True)
class Conversion:
    """What a conversion between kinds of unit needs to know. ``None`` means unknown.

    full_scale_volts: RMS voltage of a full-scale sine (AES17); pascals_per_volt: of the microphone path; load_ohms: for
    power.
    """

    full_scale_volts: float | None = None
    load_ohms: float | None = None
    pascals_per_volt: float | None = None
    rate: float | None = None


NO_CONVERSION = Conversion()


def to_db(ratio: float) -> float:
    """20 lg of an amplitude ratio; -inf for 0."""
    if ratio > 0:
        return 20 * math.log10(ratio)
    return -math.inf


PASCAL_DB = to_db(1 / SPL_PASCALS)  # level of 1 Pa in dB SPL


DB_PER_NEPER = 20 / math.log(10)  # of an amplitude: a small relative change of it, in dB


def from_db(level: float) -> float:
    """Amplitude ratio of a level difference in dB."""
    return float(10 ** (level / 20))


def in_percent(levels: _Levels) -> _Levels:
    """Amplitude ratios in %, of one level in dB or of an array of them."""
    return 100 * 10 ** (levels / 20)


def to_base(quantity: Quantity) -> Quantity:
    """Return the same quantity in its base unit: dBu to V, % to ratio, dBFS to FS."""
    if quantity.unit in LEVEL_UNITS:
        base, reference = LEVEL_UNITS[quantity.unit]
        return Quantity(from_db(quantity.value) * reference, base)
    if quantity.unit in SCALED_UNITS:
        base, scale = SCALED_UNITS[quantity.unit]
        return Quantity(quantity.value * scale, base)
    if quantity.unit in BASE_UNITS:
        return quantity
    raise QuantityError(f"Unknown unit “{quantity.unit}”. {_UNITS_TO_USE}")


def _from_base(value: float, unit: str) -> float:
    if unit in LEVEL_UNITS:
        return to_db(value / LEVEL_UNITS[unit][1])
    if unit in SCALED_UNITS:
        return value / SCALED_UNITS[unit][1]
    return value


def _base_of(unit: str) -> str:
    return to_base(Quantity(1.0, unit)).unit


def _volts(base: Quantity, known: Conversion) -> float:
    """Carry a voltage-like base quantity (V, FS, Pa, W) to volts."""
    if base.unit == "V":
        return base.value
    if base.unit == "FS":
        return base.value * _need(known.full_scale_volts, "the full-scale voltage")
    if base.unit == "Pa":
        return base.value / _need(known.pascals_per_volt, "the microphone's sensitivity")
    if base.unit == "W":
        if base.value < 0:
            raise QuantityError("A power cannot be negative. Enter a positive one.")
        return math.sqrt(base.value * _need(known.load_ohms, "the load resistance"))
    raise QuantityError(f"{base.unit} cannot be converted to a voltage. Enter a level in V, dBV, dBu, W or dBFS.")


def _need(value: float | None, what: str) -> float:
    if value is None or not value > 0:
        raise QuantityError(f"This needs {what}, which is not set in the chain.")
    return value


def convert(quantity: Quantity, unit: str, known: Conversion = NO_CONVERSION) -> Quantity:
    """Return the quantity in another unit, through the chain where kinds differ (dBFS to V, V to W, samples to s).

    Raises QuantityError when the kinds do not go together or ``known`` lacks what is needed.
    """
    if unit == quantity.unit:
        return quantity
    base, target = to_base(quantity), _base_of(unit)
    value = base.value
    if base.unit != target:
        times = {base.unit, target}
        if times == {"s", "samples"}:
            rate = _need(known.rate, "the sample rate")
            if target == "samples":
                value = value * rate
            else:
                value = value / rate
        elif target in ("V", "FS", "Pa", "W"):
            volts = _volts(base, known)
            if target == "V":
                value = volts
            elif target == "FS":
                value = volts / _need(known.full_scale_volts, "the full-scale voltage")
            elif target == "Pa":
                value = volts * _need(known.pascals_per_volt, "the microphone's sensitivity")
            else:
                value = volts**2 / _need(known.load_ohms, "the load resistance")
        else:
            raise QuantityError(f"{quantity.unit} cannot be converted to {unit}. Enter a value in {unit}.")
    return Quantity(_from_base(value, unit), unit)


def parse(text: str, default_unit: str) -> Quantity:
    """Return what a person typed: "0.5 %", "-80 dB", "4 Vrms", "1k", "20 mW", "0,5 V", "2 Vpp" (of a sine).

    A number without a unit has ``default_unit``; a bare prefix multiplies ("1k"). Raises QuantityError.
    """
    cleaned = text.strip().replace("−", "-").replace("Ω", "Ω").replace(" ", " ")
    match = _TYPED.match(cleaned)
    if not match:
        raise QuantityError(f"“{text}” is not a number with an optional unit. Enter a number, such as 1 kHz.")
    quantity = with_unit(float(match[1].replace(",", ".")), match[2].strip(), text, default_unit)
    if not math.isfinite(quantity.value):
        raise QuantityError(f"“{text}” is too large. Enter a smaller number.")
    return quantity


def with_unit(number: float, rest: str, text: str, default_unit: str) -> Quantity:
    """Return a number with the unit that stands behind it, as people write units: "mVrms", "Watts", "dBFS", "smp".

    text: all that was typed, for the message. Raises QuantityError.
    """
    if not rest:
        return Quantity(number, default_unit)
    if rest in _PREFIXES and rest.lower() not in _ALIASES:
        return Quantity(number * _PREFIXES[rest], default_unit)
    for prefix, scale in (("", 1.0), (rest[0], _PREFIXES.get(rest[0], 0.0))):
        name = re.sub(r"[\s./_-]", "", rest[len(prefix) :]).lower()
        if scale == 0.0:
            continue
        if name in _PEAK_VOLTS:
            return Quantity(number * scale * _PEAK_VOLTS[name], "V")
        if name in _ALIASES:
            unit = _ALIASES[name]
            if prefix and unit not in BASE_UNITS:
                continue
            return Quantity(number * scale, unit)
    if rest in _PREFIXES:
        return Quantity(number * _PREFIXES[rest], default_unit)
    raise QuantityError(f"Unknown unit “{rest}” in “{text}”. {_UNITS_TO_USE}")


def parse_as(text: str, unit: str, known: Conversion = NO_CONVERSION) -> float:
    """Return what a person typed, as a value in ``unit``.

    Raises QuantityError, also where it has none there (0 V in dBV).
    """
    typed = parse(text, unit)
    try:
        value = convert(typed, unit, known).value
    except OverflowError:
        value = math.inf
    if not math.isfinite(value):
        raise QuantityError(f"“{text}” cannot be expressed in {unit}. Enter another value.")
    return value
