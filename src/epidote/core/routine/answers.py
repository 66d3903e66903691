"""What an operator types for a value, in whatever unit the step names; a number that was scanned is none."""

from __future__ import annotations

import re

from epidote.core.errors import SettingError
from epidote.core.routine.model import Routine

_PREFIXES = {"": 1.0, "n": 1e-9, "µ": 1e-6, "u": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9}
_NUMBER = re.compile(r"([-+]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][-+]?\d+)?)\s*(.*)")
_SHORTEST_SERIAL = 5  # digits; a shorter number may well be a value


def require_no_serial(text: str, routine: Routine) -> None:
    """Raise SettingError for a number that has the form of the routine's serial numbers: somebody scanned the next unit
    before the value was entered.
    """
    typed = text.strip()
    if not routine.serial_pattern or len(typed) < _SHORTEST_SERIAL or not typed.isdigit():
        return
    if routine.fits_serial(typed):
        raise SettingError(
            f"“{typed}” looks like a serial number and was ignored. Enter the value first; if it is {typed}, write"
            f" {typed}.0."
        )


def parse_answer(text: str, unit: str) -> float:
    """Return a typed value in a unit: "0.35", "0,35 A" or "350 mA" for A. Raises SettingError."""
    match = _NUMBER.fullmatch(text.strip())
    if match is None:
        raise SettingError(f"“{text}” is not a number. Enter a value{f' in {unit}' if unit else ''}.")
    number, rest = float(match.group(1).replace(",", ".")), match.group(2).strip()
    if rest in ("", unit):
        return number
    prefix = rest.removesuffix(unit) if unit and rest.endswith(unit) else rest
    if prefix not in _PREFIXES:
        raise SettingError(f"“{rest}” is not {unit or 'a unit of this value'}. Enter a value in {unit or 'its unit'}.")
    return number * _PREFIXES[prefix]
