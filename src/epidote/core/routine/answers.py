"""What an operator types for a value, in whatever unit the routine names."""

from __future__ import annotations

import re

from epidote.core.errors import SettingError

_PREFIXES = {"": 1.0, "n": 1e-9, "µ": 1e-6, "u": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9}
_NUMBER = re.compile(r"([-+]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][-+]?\d+)?)\s*(.*)")


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
