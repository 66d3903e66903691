"""Settings models: what every field declares, the labels a person reads, and errors that name a setting in either
language.

A field's name is an interface (command line, JSON, studies) and never changes; its label is what the window shows.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError
from pydantic.fields import FieldInfo

from epidote.core.effects import Effect, Severity
from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_plain

# pydantic's types of error and what to do about each; {…} are filled from the error's context
_REMEDIES = {
    "float_parsing": "enter a number",
    "float_type": "enter a number",
    "int_parsing": "enter a whole number",
    "int_type": "enter a whole number",
    "int_from_float": "enter a whole number",
    "finite_number": "enter a finite number",
    "bool_parsing": "use yes or no",
    "bool_type": "use yes or no",
    "greater_than": "enter more than {gt}",
    "greater_than_equal": "enter {ge} or more",
    "less_than": "enter less than {lt}",
    "less_than_equal": "enter {le} or less",
    "enum": "use one of: {expected}",
    "string_too_long": "use at most {max_length} characters",
    "string_type": "enter text",
    "too_long": "use at most {max_length} entries",
    "too_short": "use at least {min_length} entries",
    "tuple_type": "enter a list",
    "date_from_datetime_parsing": "enter a date (YYYY-MM-DD)",
    "date_parsing": "enter a date (YYYY-MM-DD)",
    "date_type": "enter a date (YYYY-MM-DD)",
    "missing": "enter a value",
}
_LIMITS = ("gt", "ge", "lt", "le")
_LIMIT_WORDS = {"gt": "more than {}", "ge": "{} or more", "lt": "less than {}", "le": "up to {}"}


class Settings(BaseModel):
    """Base of every settings model: frozen, nothing unknown, no NaN.

    Each field has label, unit, range, default and meaning.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


S = TypeVar("S", bound=BaseModel)


class LabelledEnum(StrEnum):
    """A setting's value out of a few: the value that is stored and typed, and the label that a list shows for it.

    A member is ``NAME = "value"`` or ``NAME = "value", "Label"``; without a label it is the value with a capital
    letter.
    """

    label: str

    def __new__(cls, value: str, label: str = "") -> LabelledEnum:
        member = str.__new__(cls, value)
        member._value_ = value
        member.label = label or value[:1].upper() + value[1:]
        return member


_NOTHING = {"", "0", "0.0", "False", "None"}  # as a form or a file may write it


@dataclass(frozen=True)
class OnlyWith:
    """When a setting means something: with these values of another one, or with any value of it but 0."""

    setting: str
    values: tuple[object, ...] = ()

    def holds(self, value: Any) -> bool:
        """Whether it does with this value of the other setting, which may be text that is still being typed."""
        if not self.values:
            return str(value) not in _NOTHING
        return str(value) in {str(one) for one in self.values}


def setting(
    default: Any,
    label: str,
    meaning: str,
    unit: str = "",
    *,
    played: bool = False,
    affects: Effect | None = None,
    only_with: OnlyWith | None = None,
    secondary: bool = False,
    **limits: Any,
) -> Any:
    """Return a settings field: default, label on screen, meaning in one line, unit, and pydantic's limits (ge, le, gt,
    lt).

    ``played``: it decides what is played, so that a finished run cannot be recomputed with another value. ``affects``:
    what a different value means for a comparison of two runs. ``only_with``: with which values of another
    setting it means anything; ``secondary``: seldom changed, so a form shows it on request.
    """
    extra: dict[str, Any] = {"unit": unit, "played": played, "only_with": only_with, "secondary": secondary}
    if affects is not None:
        extra |= {"why": affects.why, "severity": int(affects.severity)}
    return Field(default, title=label, description=meaning, json_schema_extra=extra, **limits)


def effect_of(model: type[BaseModel], name: str) -> Effect | None:
    """Return what a different value of a setting means for a comparison; None where it means little."""
    field = model.model_fields.get(name)
    if field is None or "why" not in _extra(field):
        return None
    extra = _extra(field)
    return Effect(extra["why"], Severity(extra["severity"]))


def applies(model: type[BaseModel], name: str, values: Mapping[str, Any]) -> bool:
    """Whether a setting means anything with these values of the others."""
    only_with: OnlyWith | None = _extra(model.model_fields[name]).get("only_with")
    if only_with is None:
        return True
    other = only_with.setting
    return only_with.holds(values.get(other, model.model_fields[other].default))


def is_secondary(model: type[BaseModel], name: str) -> bool:
    """Whether a setting is seldom changed."""
    return bool(_extra(model.model_fields[name]).get("secondary"))


def label_of(model: type[BaseModel], name: str) -> str:
    """Return what the window calls a setting.

    A name that the model does not have is shown as it is, without underscores.
    """
    field = model.model_fields.get(name)
    if field is None or not field.title:
        return name.replace("_", " ").capitalize()
    return field.title


def labels_of(model: type[BaseModel]) -> dict[str, str]:
    """Return the labels of all settings of a model by name."""
    return {name: label_of(model, name) for name in model.model_fields}


def unit_of(field: FieldInfo) -> str:
    """Return the unit of a setting, "" for none."""
    return str(_extra(field).get("unit", ""))


def range_in_words(model: type[BaseModel], name: str) -> str:
    """Return what may be entered: "5 Hz to 100 kHz", "more than 0 Ω, up to 10 MΩ"; "" where the values are no numbers
    or have no limits.
    """
    field = model.model_fields[name]
    limits = {key: getattr(one, key) for one in field.metadata for key in _LIMITS if hasattr(one, key)}
    words = {key: format_plain(limit, unit_of(field)) for key, limit in limits.items()}
    if "ge" in words and "le" in words:
        return f"{words['ge']} to {words['le']}"
    parts = [_LIMIT_WORDS[key].format(words[key]) for key in _LIMITS if key in words]
    return ", ".join(parts)


def value_in_words(model: type[BaseModel], name: str, value: Any) -> str:
    """Return a value as a person reads it: with its unit, a choice by its label; "" for what was left empty."""
    field = model.model_fields.get(name)
    if value is None or value == "":
        return ""
    if isinstance(value, bool):
        if value:
            return "yes"
        return "no"
    if isinstance(value, (int, float)):
        return format_plain(value, unit_of(field) if field is not None else "")
    if isinstance(value, (tuple, list)):
        return ", ".join(value_in_words(model, name, v) for v in value)
    if field is not None:
        choices = field.annotation
    else:
        choices = None
    if isinstance(choices, type) and issubclass(choices, LabelledEnum) and value in list(choices):
        return choices(value).label
    return str(value)


def describe_settings(model: type[BaseModel], values: Mapping[str, Any]) -> str:
    """Return settings with their labels and units, for a picture or a report: "Start frequency 20 Hz, …"; without what
    was left empty.
    """
    words = {
        name: value_in_words(model, name, value)
        for name, value in values.items()
        if name not in model.model_fields or applies(model, name, values)
    }
    return ", ".join(f"{label_of(model, name)} {said}" for name, said in words.items() if said)


def require_rising(settings: BaseModel, low: str, high: str) -> None:
    """For a validator: raises SettingError unless the setting ``low``, in Hz, is lower than the setting ``high``."""
    below, above = getattr(settings, low), getattr(settings, high)
    if below >= above:
        raise SettingError(f"{{{low}}} {below:g} Hz must be lower than {{{high}}} {above:g} Hz.", low, high)


def analysis_settings(model: type[BaseModel]) -> tuple[str, ...]:
    """Names of the settings that a finished run can be recomputed with."""
    return tuple(name for name, field in model.model_fields.items() if not _extra(field).get("played"))


def make_settings(model: type[S], values: Mapping[str, Any]) -> S:
    """Return settings from names and values.

    Raises SettingError that names the setting, the value and what it may be.
    """
    try:
        return model.model_validate(dict(values))
    except ValidationError as error:
        raise setting_error(model, error) from error


def unusual_settings(model: type[BaseModel], values: Mapping[str, Any]) -> dict[str, Any]:
    """Return the settings, as JSON has them, that differ from the usual ones. Raises SettingError."""
    usual = model().model_dump(mode="json")
    made = make_settings(model, values).model_dump(mode="json")
    return {name: value for name, value in made.items() if value != usual[name]}


def setting_error(model: type[BaseModel], error: ValidationError) -> SettingError:
    """Return the first thing that is wrong, in our words: names of settings, not those of the validation library."""
    first = error.errors()[0]
    place = [str(part) for part in first["loc"]]
    name = ""
    if place:
        name = place[0]
    cause = first.get("ctx", {}).get("error")
    if first["type"] == "extra_forbidden":
        fault = SettingError(f"Unknown setting “{'.'.join(place)}”. Available: {', '.join(model.model_fields)}.")
    elif not name:
        # a rule of the whole model is a sentence of ours
        if isinstance(cause, SettingError):
            fault = cause
        else:
            fault = SettingError(_sentence(own_words(first)))
    else:
        fault = SettingError(f"{{{name}}}: {_shown(first.get('input'))} is not valid; {_remedy(first)}.", name)
    fault.labels = labels_of(model)
    return fault


@contextmanager
def labelled(model: type[BaseModel]) -> Iterator[None]:
    """Give every SettingError from within the labels of this model, so that the window can show them."""
    try:
        yield
    except SettingError as error:
        error.labels = error.labels or labels_of(model)
        raise


def own_words(details: Any) -> str:
    """Return what a validator of ours said, without the library's words before it; else the library's words."""
    cause = details.get("ctx", {}).get("error")
    return str(cause if cause is not None else details["msg"]).rstrip(".")


def validation_words(error: ValidationError) -> str:
    """Return what is wrong with a model that is no settings form, such as a limit or a claim: one sentence without its
    full stop.
    """
    first = error.errors()[0]
    if "error" in first.get("ctx", {}):
        words = own_words(first)
    else:
        words = _remedy(first)
    place = ".".join(str(part) for part in first["loc"])
    if place:
        return f"{place}: {words}"
    return words


def _remedy(details: Any) -> str:
    """Return what to enter instead."""
    context: Mapping[str, Any] = details.get("ctx", {})
    if "error" in context:
        return own_words(details)
    limits = {key: f"{context[key]:g}" for key in _LIMITS if isinstance(context.get(key), (int, float))}
    values = {**context, **limits}
    if details["type"] == "enum":
        values["expected"] = str(context["expected"]).replace("'", "").replace(" or ", ", ")
    pattern = _REMEDIES.get(details["type"])
    if pattern is None:
        words = str(details["msg"])
        return words[0].lower() + words[1:]
    return pattern.format(**values)


def _shown(value: Any) -> str:
    """Return what was entered; a long text is cut."""
    if isinstance(value, str):
        return f"“{value if len(value) <= _LONGEST_SHOWN else value[:_LONGEST_SHOWN] + '…'}”"
    if isinstance(value, (int, float)):
        if isinstance(value, float):
            return f"{value:g}"
        return str(value)
    if isinstance(value, (Mapping, Sequence)) or value is None:
        return "what was entered"
    return str(value)


_LONGEST_SHOWN = 60


def _sentence(words: str) -> str:
    return f"{words[:1].upper()}{words[1:]}."


def _extra(field: FieldInfo) -> dict[str, Any]:
    if isinstance(field.json_schema_extra, dict):
        return field.json_schema_extra
    return {}
