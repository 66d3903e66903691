"""A routine as TOML (docs/formats.md)."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import Any

import tomli_w
from pydantic import ValidationError

from epidote.core.errors import UnusableInputError
from epidote.core.quantities.outside import load_toml
from epidote.core.routine.model import FORMAT, Routine
from epidote.core.settings import validation_words

_NO_CHANGE = "Nothing was measured; correct the routine."


def routine_from_toml(text: str, name: str = "The routine") -> Routine:
    """Return a routine. Raises UnusableInputError that names the entry and what may stand there."""
    values = load_toml(text, name)
    found = values.pop("format", None)
    if found is None:
        raise UnusableInputError(
            f"{name} does not state its format. The first line must be “format = {FORMAT}”. {_NO_CHANGE}"
        )
    if not isinstance(found, int) or found != FORMAT:
        raise UnusableInputError(
            f"{name} has format {found}; this version of Epidote reads format {FORMAT}. {_NO_CHANGE}"
        )
    try:
        return Routine.model_validate(values)
    except ValidationError as error:
        raise UnusableInputError(f"{name}: {validation_words(error)}. {_NO_CHANGE}") from error


def routine_to_toml(routine: Routine) -> str:
    """Return a routine as text; what is as it is from the start is left out."""
    values = routine.model_dump(mode="json", exclude_defaults=True)
    steps = [_step_values(step.model_dump(mode="json", exclude_defaults=True)) for step in routine.step]
    values["step"] = steps
    return tomli_w.dumps({"format": FORMAT, **_without_none(values)})


def _step_values(values: dict[str, Any]) -> dict[str, Any]:
    for limit in values.get("limit", ()):
        for side in ("upper", "lower"):
            corners = limit.get(side)
            # a reading's limit is one number
            if corners and len(corners) == 1:
                limit[side] = corners[0][1]
    return values


def _without_none(value: Any) -> Any:
    """Return the same without entries that TOML has no word for."""
    if isinstance(value, Mapping):
        return {k: _without_none(v) for k, v in value.items() if v is not None}
    if isinstance(value, (list, tuple)):
        return [_without_none(v) for v in value]
    return value


def digest_of(routine: Routine) -> str:
    """Return the SHA-256 of a routine, by which passes over it are counted together."""
    return hashlib.sha256(routine_to_toml(routine).encode()).hexdigest()
