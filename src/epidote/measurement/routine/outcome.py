"""What a step of a pass ended with, as it is shown, kept and written out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.channels import channel_name
from epidote.core.results.reading import finite
from epidote.core.routine.judgement import StepJudgement
from epidote.core.routine.model import CommandStep, MeasureStep, PromptStep, Step, WaitStep
from epidote.core.routine.step_limit import JudgedLimit
from epidote.core.routine.verdict import RoutineVerdict


@dataclass(frozen=True)
class StepOutcome:
    """number: of the step, from 1. margin: the least one, in ``unit``; share: of the room there is. where: which
    reading or curve, and where on it. attempts: how often it was carried out until this. seconds: it took.
    """

    number: int
    title: str
    procedure: str
    verdict: RoutineVerdict
    margin: float | None = None
    unit: str = ""
    where: str = ""
    share: float | None = None
    value: float | None = None
    words: str = ""
    answer: str = ""
    runs: tuple[int, ...] = ()
    attempts: int = 1
    seconds: float = 0.0

    @property
    def good(self) -> bool:
        return self.verdict is RoutineVerdict.PASSED

    @property
    def margin_words(self) -> str:
        """The margin with its unit, "" where there is none."""
        if self.margin is None:
            return ""
        return format_quantity(self.margin, self.unit, digits=3)

    def to_json(self) -> dict[str, Any]:
        return {
            "number": self.number,
            "title": self.title,
            "procedure": self.procedure,
            "verdict": str(self.verdict),
            "margin": finite(self.margin),
            "unit": self.unit,
            "where": self.where,
            "share": finite(self.share),
            "value": finite(self.value),
            "words": self.words,
            "answer": self.answer,
            "runs": list(self.runs),
            "attempts": self.attempts,
            "seconds": round(self.seconds, 3),
        }

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> StepOutcome:
        """Return an outcome as it was kept. Raises what damaged JSON raises."""
        values = {**data, "verdict": RoutineVerdict(data["verdict"]), "runs": tuple(data["runs"])}
        return StepOutcome(**values)


def step_title(step: Step) -> str:
    """Return what a step is called: by its own title, or by what it does."""
    if step.title:
        return step.title
    if isinstance(step, MeasureStep):
        return str(procedure(step.procedure).title)
    if isinstance(step, PromptStep):
        return step.prompt
    if isinstance(step, WaitStep):
        return _wait_title(step)
    assert isinstance(step, CommandStep)
    return f"Command {step.command[0]}"


def _wait_title(step: WaitStep) -> str:
    if step.wait == "steady":
        return "Wait until the level is steady"
    if step.wait == "warm":
        return "Wait until the unit is warm"
    seconds: str = format_quantity(step.seconds, "s", digits=3)
    return f"Wait {seconds}"


def measured_outcome(number: int, step: MeasureStep, judged: StepJudgement, run: int, seconds: float) -> StepOutcome:
    """Return the outcome of a step that measured."""
    near = judged.nearest
    if near is None:
        return StepOutcome(
            number, step_title(step), step.procedure, judged.verdict, words=judged.words, runs=(run,), seconds=seconds
        )
    return StepOutcome(
        number,
        step_title(step),
        step.procedure,
        judged.verdict,
        near.margin,
        near.unit,
        where_words(step.procedure, near),
        near.share,
        near.value,
        judged.words,
        runs=(run,),
        seconds=seconds,
    )


def where_words(key: str, judged: JudgedLimit) -> str:
    """ "THD+N, channel 1" or "Level at 18.4 kHz, channel 2"."""
    proc = procedure(key)
    titles = {kind.key: kind.title for kind in proc.readings} | {view.key: view.axis for view in proc.views}
    words: str = titles.get(judged.limit.key, judged.limit.key)
    if judged.at is not None:
        words += f" at {format_quantity(judged.at, judged.limit.x_unit, digits=3)}"
    if judged.channel:
        words += f", {channel_name(judged.channel)}"
    return words


def worst_of(outcomes: list[StepOutcome]) -> StepOutcome:
    """Return what stands for several runs of one step: the first that is not good, else the one with least room."""
    order = (RoutineVerdict.NOT_MEASURED, RoutineVerdict.FAILED, RoutineVerdict.NOT_DECIDED, RoutineVerdict.PASSED)

    def rank(one: StepOutcome) -> tuple[int, float]:
        room = one.share if one.share is not None else one.margin
        return order.index(one.verdict), room if room is not None else 0.0

    return min(outcomes, key=rank)
