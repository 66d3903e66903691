"""Levels as people type them in settings: dBFS unless a unit stands behind the number."""

from __future__ import annotations

from typing import Annotated

from pydantic import BeforeValidator

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.quantities.units import QuantityError, parse, parse_as

_UNITS = ("dBFS", "FS", "V", "dBV", "dBu", "W", "Pa", "dB SPL")


def _level(value: object) -> str:
    if isinstance(value, (int, float)):
        text = f"{value:g}"
    else:
        text = f"{value}"
    try:
        quantity = parse(text, "dBFS")
    except QuantityError as error:
        raise SettingError(str(error)) from error
    if quantity.unit not in _UNITS:
        raise SettingError("use dBFS, V, dBV, dBu, W or dB SPL")
    if quantity.unit not in ("dBFS", "dBV", "dBu", "dB SPL") and quantity.value <= 0:
        raise SettingError("a level must be greater than 0")
    return text


LevelString = Annotated[str, BeforeValidator(_level)]


def is_power(text: str) -> bool:
    """Return whether a typed level is a power."""
    return parse(text, "dBFS").unit == "W"


def drive_dbfs(text: str, chain: Chain, name: str = "level") -> float:
    """Return what is typed as the level at the chain's output, in dBFS.

        Raises SettingError for a power or a sound level, which the unit decides, and for volts at an output that is not
    calibrated.
    """
    quantity = parse(text, "dBFS")
    if quantity.unit in ("W", "Pa", "dB SPL"):
        raise SettingError(
            f"{{{name}}} is the generator level, before the unit: use dBFS, V, dBV or dBu, not {quantity.unit}.", name
        )
    try:
        return parse_as(text, "dBFS", chain.drive())
    except QuantityError as error:
        raise SettingError(
            f"{{{name}}} cannot be “{text}”: the chain's output is not calibrated. Use dBFS, or calibrate the output on"
            " the Chain page.",
            name,
        ) from error
