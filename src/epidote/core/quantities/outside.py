"""JSON and TOML from outside: the size and the depth are bounded before anything is built from them."""

from __future__ import annotations

import json
import re
import tomllib
from typing import Any

from epidote.core.errors import UnusableInputError

MOST_DEPTH = 64
_MOST_JSON, _MOST_TOML = 256 * 1024 * 1024, 4 * 1024 * 1024  # characters
_OUTSIDE_STRINGS = re.compile(r'"(?:[^"\\]|\\.)*"|[\[\]{}]', re.DOTALL)


def load_json(text: str, name: str) -> Any:
    """Return a JSON document.

    Raises UnusableInputError with the number and the bound, or naming the place of the fault.
    """
    _require_bounds(text, name, _MOST_JSON)
    try:
        return json.loads(text)
    except json.JSONDecodeError as error:
        raise UnusableInputError(
            f"{name} is not valid JSON (line {error.lineno}, column {error.colno}). Nothing was read; export it again."
        ) from error
    except (ValueError, RecursionError) as error:  # a number of too many digits
        raise UnusableInputError(f"{name} is not valid JSON. Nothing was read; export it again.") from error


def load_toml(text: str, name: str) -> dict[str, Any]:
    """Return a TOML document. Raises UnusableInputError likewise."""
    _require_bounds(text, name, _MOST_TOML)
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise UnusableInputError(f"{name} is not valid TOML: {error}. Nothing was changed.") from error
    except (ValueError, RecursionError) as error:
        raise UnusableInputError(f"{name} is not valid TOML. Nothing was changed.") from error


def _require_bounds(text: str, name: str, most: int) -> None:
    if len(text) > most:
        raise UnusableInputError(f"{name} has {len(text)} characters; at most {most} are read. Nothing was changed.")
    if text.count("[") + text.count("{") <= MOST_DEPTH:
        return  # it cannot be deeper than it has brackets: a study's rows are read by the thousand
    depth = 0
    for escape in _OUTSIDE_STRINGS.finditer(text):
        token = escape.group()
        if token in "[{":
            depth += 1
        elif token in "]}":
            depth -= 1
        if depth > MOST_DEPTH:
            raise UnusableInputError(f"{name} is nested more than {MOST_DEPTH} deep. Nothing was changed.")
