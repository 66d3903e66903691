"""Numbers as people read them: engineering notation and no more digits than the uncertainty supports."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from epidote.core.results.kinds import Shown, reading_kind

if TYPE_CHECKING:
    from epidote.core.results.reading import Reading

_ENGINEERING = {-12: "p", -9: "n", -6: "µ", -3: "m", 0: "", 3: "k", 6: "M", 9: "G"}
_PREFIXED = {"V", "W", "Pa", "Hz", "s", "Ω"}
_DB_LIKE = {"dB", "dBFS", "dBV", "dBu", "dB SPL", "dB/oct"}
MISSING_VALUE = "–"


def _decimals(value: float, significant: int, uncertainty: float | None) -> int:
    """Decimals that show ``significant`` digits, but none beyond the first digit of the uncertainty."""
    rounded = abs(float(f"{value:.{significant - 1}e}"))
    if rounded:
        decimals = significant - 1 - math.floor(math.log10(rounded))
    else:
        decimals = significant - 1
    if uncertainty and uncertainty > 0 and math.isfinite(uncertainty):
        decimals = min(decimals, -math.floor(math.log10(uncertainty)))
    return max(0, min(decimals, 9))


def _number(value: float, decimals: int) -> str:
    rounded = f"{value:.{decimals}f}"
    if rounded.startswith("-") and not rounded.strip("-0."):
        return rounded[1:]
    return rounded


def format_quantity(
    value: float | None, unit: str, *, digits: int = 4, uncertainty: float | None = None, signed: bool = False
) -> str:
    """Return a value with its unit: 12.49 mV, 997.0 Hz, -82.64 dB, 0.0123 %.

        ``uncertainty`` is one standard deviation in the same unit and limits the digits; ``signed`` shows a plus sign.
    Decibels get two decimals at most, or more when ``uncertainty`` supports them, and so do samples; ``None`` and
    values that are not finite give a dash.
    """
    if value is None or not math.isfinite(value):
        return MISSING_VALUE
    prefix = ""
    if unit in _PREFIXED and value:
        # a value lost in its uncertainty is shown on the uncertainty's scale: 0 mHz, not 37 nHz
        scale = max(abs(float(f"{value:.{digits - 1}e}")), uncertainty or 0.0)
        exponent = 3 * math.floor(math.log10(scale) / 3)
        largest = 0 if unit == "s" else 9  # nobody reads kiloseconds
        exponent = max(-12, min(exponent, largest))
        value, prefix = value / 10**exponent, _ENGINEERING[exponent]
        uncertainty = uncertainty / 10**exponent if uncertainty else None
    decimals = _decimals_of(value, unit, digits, uncertainty)
    text = _number(value, decimals)
    if signed and not text.startswith("-"):
        text = "+" + text
    if unit == "°":
        return f"{text}°"
    joint = prefix if unit in ("ratio", "") else f"{prefix}{unit}"
    return f"{text} {joint}".rstrip()


def _decimals_of(value: float, unit: str, digits: int, uncertainty: float | None) -> int:
    """Decimals that a value in a unit gets: no more than the uncertainty supports."""
    certain = uncertainty is not None and 0 < uncertainty < math.inf
    if unit in _DB_LIKE:
        return _supported(uncertainty, 3) if certain else 2
    if unit == "ppm":
        return _supported(uncertainty, 4) if certain else 4
    if unit == "samples":
        return _supported(uncertainty, 3) if certain else min(_decimals(value, digits, uncertainty), 3)
    if unit in ("bit", "°"):
        return min(_decimals(value, digits, uncertainty), 2)
    return _decimals(value, digits, uncertainty)


def _supported(uncertainty: float | None, most: int) -> int:
    """Decimals down to the first digit of an uncertainty."""
    assert uncertainty is not None
    return max(0, min(-math.floor(math.log10(uncertainty)), most))


def format_plain(value: float | None, unit: str) -> str:
    """Return a figure as it was typed: no zeros behind it that nobody wrote; "" for None."""
    if value is None:
        return ""
    number, _, rest = format_quantity(value, unit, digits=6).partition(" ")
    if unit in _DB_LIKE:
        number = f"{value:.6g}"
    if "." in number:
        number = number.rstrip("0").rstrip(".")
    return f"{number} {rest}".strip()


def format_axis(value: float, unit: str) -> str:
    """Return a tick label without its unit: 20, 1k, 10k, 0.01, -80."""
    if unit in _DB_LIKE or unit == "°":
        return f"{value:.10g}"
    magnitude = abs(value)
    if magnitude >= 1e6:
        return f"{value / 1e6:.6g}M"
    if magnitude >= 1e3:
        return f"{value / 1e3:.6g}k"
    return f"{value:.6g}"


def format_reading(reading: Reading) -> str:
    """Return a reading's value as its kind is shown: with its unit and the digits its spread supports, a polarity in
    words, a count as such, half of a range with ±.
    """
    if reading.value is None:
        return MISSING_VALUE
    shown = reading_kind(reading.key).shown
    if shown is Shown.POLARITY:
        return "normal" if reading.value > 0 else "inverted"
    if shown is Shown.COUNT:
        return f"{reading.value:.0f}"
    text = format_quantity(reading.value, reading.unit, uncertainty=reading.spread)
    return f"±{text}" if shown is Shown.PLUS_MINUS else text


def format_ratio(ratio: float) -> str:
    """Return a plain ratio with three digits, never in powers of ten: 0.0045, 22.1, 1150."""
    if ratio >= 100:
        return f"{float(f'{ratio:.3g}'):.0f}"
    return f"{ratio:.3g}"
