"""What several commands need: typed settings, chains, and printing."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_reading
from epidote.core.quantities.units import QuantityError, parse_as
from epidote.core.results.channels import channel_name
from epidote.core.settings import unit_of
from epidote.core.text import visible

if TYPE_CHECKING:
    from epidote.core.chain.chain import Chain
    from epidote.core.results.result import Result


def parsed_settings(model: Any, pairs: Sequence[str]) -> dict[str, Any]:
    """``name=value`` pairs; numbers may carry units ("duration=500ms", "frequency=1k")."""
    values: dict[str, Any] = {}
    for pair in pairs:
        name, equals, text = pair.partition("=")
        if not equals:
            raise SettingError(f"“{pair}” is not a setting with a value. Use name=value.")
        values[name] = typed_value(model, name.strip(), text.strip())
    return values


def typed_value(model: Any, name: str, text: str) -> Any:
    """Return what a person typed for a setting, in the setting's unit where it has one."""
    field = model.model_fields.get(name)
    if field is None or field.annotation not in (float, int):
        return text
    unit = unit_of(field)
    if not unit:
        return text
    try:
        return parse_as(text, unit)
    except QuantityError as error:
        raise SettingError(f"{name}: {error}") from error


def read_chain(path: Path | None, **usual: Any) -> Chain:
    """Return a chain file, or an uncalibrated chain with the given values."""
    from epidote.core.chain.chain import Chain  # not loaded for --help
    from epidote.study.chain_library import read_chain_file

    if path is None:
        return Chain(**usual)
    return read_chain_file(path)


def print_json(data: Any) -> None:
    """Print a value as one JSON document."""
    json.dump(data, sys.stdout, allow_nan=False)
    sys.stdout.write("\n")


def say(text: str) -> None:
    """Print a line for the user on standard output."""
    sys.stdout.write(visible(text, lines=True) + "\n")


def warn(text: str) -> None:
    """Print a line on standard error."""
    sys.stderr.write(f"epidote: {visible(text, lines=True)}\n")


def print_result(result: Result, titles: dict[str, str]) -> None:
    """Print readings as a table, one column per channel, those with a caution marked; then the cautions in words."""
    channels = sorted({r.channel for r in result.readings})
    cautions = dict.fromkeys(result.cautions)
    keys = dict.fromkeys(r.key for r in result.readings)
    if channels:
        say("".ljust(22) + "".join(channel_name(c).rjust(18) for c in channels))
    for key in keys:
        row = titles.get(key, key).ljust(22)
        is_marked = False
        for channel in channels:
            reading = result.reading(key, channel)
            row += (format_reading(reading) if reading else "").rjust(18)
            if reading is not None and reading.cautions:
                is_marked = True
                cautions.update(dict.fromkeys(reading.cautions))
        say(row + ("  !" if is_marked else ""))
    for caution in cautions:
        say(f"! {caution.words}")
