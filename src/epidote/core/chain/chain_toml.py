"""A chain as readable TOML, to be kept by name and carried to another machine."""

from __future__ import annotations

from datetime import date
from typing import Any

from pydantic import BaseModel, ValidationError

from epidote.core.chain.chain import Chain
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.outside import load_toml
from epidote.core.settings import setting_error, unit_of


def chain_from_toml(text: str) -> Chain:
    """Return a chain from its TOML form (docs/formats.md); of an empty text the usual one.

    Raises UnusableInputError naming the faulty entry.
    """
    try:
        values = load_toml(text, "The chain file")
        if "calibration" in values:
            values["calibrations"] = values.pop("calibration")
        return Chain.model_validate(values)
    except ValidationError as error:
        raise UnusableInputError(
            f"Chain file: {setting_error(Chain, error)} Nothing was changed; correct the file."
        ) from error


def chain_to_toml(chain: Chain) -> str:
    """Return the chain as readable TOML; entries that are as they were from the start are left out, but for the name
    and the rate.
    """
    usual = Chain()
    lines = []
    for name, field in Chain.model_fields.items():
        value = getattr(chain, name)
        if name in ("calibrations", "source") or (value == getattr(usual, name) and name not in ("name", "rate")):
            continue
        unit = ""
        if unit_of(field):
            unit = f", {unit_of(field)}"
        lines.append(f"{name} = {_written(value)}  # {field.description}{unit}")
    if chain.source is not None:
        lines += ["", "[source]", *_entries(chain.source)]
    for entry in chain.calibrations:
        lines += ["", "[[calibration]]", *_entries(entry)]
    return "\n".join(lines) + "\n"


def _entries(model: BaseModel) -> list[str]:
    return [f"{name} = {_written(value)}" for name, value in model if value not in (None, "")]


def _written(value: Any) -> str:
    if isinstance(value, bool):
        if value:
            return "true"
        return "false"
    if isinstance(value, str):
        escaped = value.replace("\\", "\\\\").replace('"', '\\"')
        return '"' + "".join(c if c.isprintable() else f"\\u{ord(c):04x}" for c in escaped) + '"'
    if isinstance(value, tuple):
        return "[" + ", ".join(_written(v) for v in value) + "]"
    if isinstance(value, date):
        return value.isoformat()
    return str(value)
