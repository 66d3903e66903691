"""Numbers and units as published figures write them."""

from __future__ import annotations

import re

from epidote.core.quantities.units import with_unit


def number_of(text: str, unit: str = "") -> float:
    """Return a typed number: 20,000 Hz is twenty thousand, 0,005 % a decimal comma, 1.234,5 and 1,234.5 are the
    same.
    """
    cleaned = text.replace(" ", "").strip(".,")
    if "," in cleaned and "." in cleaned:
        decimal = max(cleaned.rfind(","), cleaned.rfind("."))
        cleaned = re.sub(r"[.,]", "", cleaned[:decimal]) + "." + cleaned[decimal + 1 :]
    elif re.fullmatch(r"[+-]?[1-9]\d{0,2}(,\d{3})+", cleaned) and unit.lower().endswith(
        ("hz", "w", "watts", "samples", "ω")
    ):
        cleaned = cleaned.replace(",", "")
    try:
        return float(cleaned.replace(",", "."))
    except ValueError as error:
        raise NotANumberError(text.strip()) from error


class NotANumberError(ValueError):
    """A figure such as 1.2.3, of which nobody can say what it means."""


def hertz(number: str, unit: str | None) -> float:
    """Return a typed frequency in Hz; the unit may be kHz, or missing."""
    return number_of(number, "Hz") * (1000 if (unit or "").lower().startswith("k") else 1)


_RELATIVE = {"dbr": "dB", "x": "x"}  # units that only published figures have


def in_base_unit(number: float, unit: str) -> tuple[float, str]:
    """Return a figure in the unit it is kept in: V, W, s, samples, dB…, %."""
    relative = _RELATIVE.get(unit.lower())
    if relative is not None:
        return number, relative
    quantity = with_unit(number, unit, f"{number:g} {unit}", "")
    return quantity.value, quantity.unit
