"""What one measured step of a pass says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from epidote.core.results.caution import Weight
from epidote.core.results.result import Result
from epidote.core.routine.model import MeasureStep
from epidote.core.routine.step_limit import JudgedLimit, judge_limit, nearest
from epidote.core.routine.verdict import RoutineVerdict, together


@dataclass(frozen=True)
class StepJudgement:
    """limits: every limit by channel; nearest: the one that decides; words: why nothing could be said, "" otherwise."""

    verdict: RoutineVerdict
    limits: tuple[JudgedLimit, ...] = ()
    nearest: JudgedLimit | None = None
    words: str = ""


def judge_step(
    step: MeasureStep, result: Result, golden: Mapping[str, Result | None], *, guard: bool = False
) -> StepJudgement:
    """Return what a result says at a step's limits; golden: results of the rows that limits name, where there are.

    A recording that is not valid, such as one with a dropout, is not measured whatever its values.
    """
    invalid = [c for c in result.cautions if c.weight is Weight.INVALID]
    if invalid:
        return StepJudgement(RoutineVerdict.NOT_MEASURED, words=" ".join(c.words for c in invalid))
    judged = tuple(
        one for limit in step.limit for one in judge_limit(limit, result, golden.get(limit.golden), guard=guard)
    )
    if not judged:
        return StepJudgement(RoutineVerdict.PASSED)
    decisive = nearest(judged)
    words = " ".join(dict.fromkeys(one.why for one in judged if one.why))
    return StepJudgement(together(one.verdict for one in judged), judged, decisive, words)
