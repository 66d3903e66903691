"""A routine as data: steps that measure, ask, wait or switch, in their order."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from epidote.core.quantities.units import QuantityError, parse_as
from epidote.core.routine.step_limit import StepLimit
from epidote.core.settings import validation_words

FORMAT = 1
_MOST_STEPS = 200
_LONGEST_WAIT = 24 * 3600.0
_REPEAT = re.compile(r"repeat (\d+) times?")


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class FailureAction(StrEnum):
    """What happens when a step fails."""

    GO_ON = "go on"
    STOP = "stop"
    ASK = "ask"
    REPEAT = "repeat"


@dataclass(frozen=True)
class OnFailure:
    """action, and how often a failed step is repeated before the pass goes on."""

    action: FailureAction
    times: int = 0


class MeasureStep(_Part):
    """Carry out a procedure.

    conditions: of the unit besides the routine's own. repeats: runs, each judged. on_failure: "go on", "stop", "ask",
    or "repeat 2 times".
    """

    procedure: str
    title: str = Field("", max_length=80)
    settings: Mapping[str, Any] = Field(default_factory=dict)
    conditions: Mapping[str, str] = Field(default_factory=dict)
    repeats: int = Field(1, ge=1, le=50)
    on_failure: str = "go on"
    limit: tuple[StepLimit, ...] = ()

    @field_validator("on_failure")
    @classmethod
    def _is_known(cls, value: str) -> str:
        words = " ".join(value.split())
        match = _REPEAT.fullmatch(words)
        if match is not None and 1 <= int(match.group(1)) <= 20:
            return words
        if words in (FailureAction.GO_ON, FailureAction.STOP, FailureAction.ASK):
            return words
        raise ValueError("use “go on”, “stop”, “ask”, or “repeat 2 times” (up to 20)")

    @property
    def after_failure(self) -> OnFailure:
        """Return what happens when the step fails."""
        match = _REPEAT.fullmatch(self.on_failure)
        if match is not None:
            return OnFailure(FailureAction.REPEAT, int(match.group(1)))
        return OnFailure(FailureAction(self.on_failure))


class AnswerKind(StrEnum):
    """What a prompt is answered with."""

    DONE = "done"
    YES_NO = "yes or no"
    VALUE = "value"


class PromptStep(_Part):
    """Ask the operator.

    picture: name of a picture beside the file, or in the study. key, unit, lower, upper: of a value; an answer of no,
    or a value beyond these, fails.
    """

    prompt: str = Field(min_length=1, max_length=1000)
    title: str = Field("", max_length=80)
    picture: str = Field("", max_length=200)
    answer: AnswerKind = AnswerKind.DONE
    unit: str = ""
    lower: float | None = None
    upper: float | None = None
    on_failure: str = "go on"

    @field_validator("on_failure")
    @classmethod
    def _is_known(cls, value: str) -> str:
        if value in (FailureAction.GO_ON, FailureAction.STOP):
            return value
        raise ValueError("use “go on” or “stop”")

    @model_validator(mode="after")
    def _limits_of_a_value(self) -> PromptStep:
        if self.answer is not AnswerKind.VALUE and (self.lower is not None or self.upper is not None or self.unit):
            raise ValueError("unit, lower and upper belong to a prompt with the answer “value”")
        return self


STEADY, WARM = "steady", "warm"


class WaitStep(_Part):
    """Wait: a time such as "5 s"; "steady", until the level changes by less than ``within`` dB from one look to the
    next; or "warm", until ``key`` of a procedure changes by less than ``within`` (in its unit) a minute.

    longest: s after which the pass goes on, with a note. level: of the tone, in dBFS.
    """

    wait: str
    title: str = Field("", max_length=80)
    within: float = Field(0.02, gt=0)
    longest: float = Field(300.0, gt=0, le=_LONGEST_WAIT)
    level: float = Field(-20.0, le=0)
    procedure: str = ""
    settings: Mapping[str, Any] = Field(default_factory=dict)
    key: str = ""

    @model_validator(mode="after")
    def _is_known(self) -> WaitStep:
        if self.wait not in (STEADY, WARM):
            self.seconds  # noqa: B018  raises where it is no time
        if self.wait == WARM and not (self.procedure and self.key):
            raise ValueError("waiting until the unit is warm needs procedure and key")
        return self

    @property
    def seconds(self) -> float:
        """The time of a plain wait, in s. Raises ValueError where it is none."""
        try:
            seconds = parse_as(self.wait, "s")
        except QuantityError as error:
            raise ValueError(f"{error} Use a time such as “5 s”, “steady” or “warm”.") from error
        if not 0 <= seconds <= _LONGEST_WAIT:
            raise ValueError("a wait must be between 0 s and 24 h")
        return float(seconds)


class CommandStep(_Part):
    """Run a command on the computer, such as one that switches a relay: program and arguments, without a shell."""

    command: tuple[str, ...] = Field(min_length=1, max_length=100)
    title: str = Field("", max_length=80)
    longest: float = Field(30.0, gt=0, le=3600)


Step = MeasureStep | PromptStep | WaitStep | CommandStep
STEP_KINDS: Mapping[str, type[Step]] = {
    "procedure": MeasureStep,
    "prompt": PromptStep,
    "wait": WaitStep,
    "command": CommandStep,
}


class Routine(_Part):
    """maker, model: of units that are new. serial_pattern: regular expression for a whole serial number, "" for any.
    guard_bands: whether a verdict counts only outside the uncertainty. conditions: of the row that each unit gets.
    """

    name: str = Field(min_length=1, max_length=80)
    maker: str = Field("", max_length=200)
    model: str = Field("", max_length=200)
    serial_pattern: str = Field("", max_length=200)
    conditions: Mapping[str, str] = Field(default_factory=dict)
    guard_bands: bool = False
    check_signal: bool = True
    step: tuple[Step, ...] = Field(min_length=1, max_length=_MOST_STEPS)

    @field_validator("serial_pattern")
    @classmethod
    def _compiles(cls, value: str) -> str:
        try:
            re.compile(value)
        except re.error as error:
            raise ValueError(f"the pattern is not a regular expression ({error})") from error
        return value

    @field_validator("step", mode="before")
    @classmethod
    def _by_their_keys(cls, value: object) -> object:
        """Make each step of the kind whose key it has."""
        if not isinstance(value, (list, tuple)):
            return value
        return tuple(_step_from(number, one) for number, one in enumerate(value, start=1))

    @property
    def measured(self) -> tuple[MeasureStep, ...]:
        """The steps that measure."""
        return tuple(step for step in self.step if isinstance(step, MeasureStep))

    @property
    def commands(self) -> tuple[CommandStep, ...]:
        return tuple(step for step in self.step if isinstance(step, CommandStep))

    def fits_serial(self, serial: str) -> bool:
        """Whether a serial number has the form that the routine asks for."""
        return not self.serial_pattern or re.fullmatch(self.serial_pattern, serial) is not None


def _step_from(number: int, value: object) -> object:
    """Return a step. Raises ValueError that names it by its number, as people count."""
    if not isinstance(value, Mapping):
        return value
    kinds = [kind for key, kind in STEP_KINDS.items() if key in value]
    # a wait until warm names a procedure, too
    if WaitStep in kinds:
        kinds = [WaitStep]
    if len(kinds) != 1:
        raise ValueError(f"step {number} needs one of: procedure, prompt, wait, command")
    try:
        return kinds[0].model_validate(dict(value))
    except ValidationError as error:
        raise ValueError(f"step {number}, {validation_words(error)}") from error
