"""A routine as a whole, before the first sound: whether every step can be carried out, and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, SettingError
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.routine.model import MeasureStep, PromptStep, Routine, Step, WaitStep
from epidote.core.settings import make_settings

_LOOK_SECONDS = 1.0  # of tone with which a wait looks at the level, or a pass at the connections


@dataclass(frozen=True)
class RoutineProblem:
    """number: of the step, from 1; 0 for the routine itself."""

    number: int
    words: str

    def __str__(self) -> str:
        if self.number:
            return f"Step {self.number}: {self.words}"
        return self.words


@dataclass(frozen=True)
class RoutineCheck:
    """seconds: of the sound of all steps and their waits; answers of people come on top, as many as ``prompts``."""

    problems: tuple[RoutineProblem, ...]
    seconds: float
    prompts: int


def check_routine(routine: Routine, chain: Chain) -> RoutineCheck:
    """Return what is wrong with a routine on a chain; nothing is played."""
    problems: list[RoutineProblem] = []
    seconds = _LOOK_SECONDS if routine.check_signal else 0.0
    for number, step in enumerate(routine.step, start=1):
        try:
            seconds += _seconds(step, chain.with_conditions({**routine.conditions, **_conditions(step)}))
        except EpidoteError as error:
            problems.append(RoutineProblem(number, str(error)))
            continue
        if isinstance(step, MeasureStep):
            problems += [RoutineProblem(number, words) for words in _limit_faults(step)]
    if not routine.measured:
        problems.append(RoutineProblem(0, "The routine contains no measurement. Add a step with a procedure."))
    prompts = sum(isinstance(step, PromptStep) for step in routine.step)
    return RoutineCheck(tuple(problems), seconds, prompts)


def require_usable(routine: Routine, chain: Chain) -> RoutineCheck:
    """Return the check of a routine. Raises SettingError with everything that is wrong."""
    check = check_routine(routine, chain)
    if check.problems:
        words = " ".join(str(problem) for problem in check.problems)
        raise SettingError(
            f"“{routine.name}” cannot be carried out. {words} Nothing was measured; correct the routine."
        )
    return check


def _conditions(step: Step) -> dict[str, str]:
    if isinstance(step, MeasureStep):
        return dict(step.conditions)
    return {}


def _seconds(step: Step, chain: Chain) -> float:
    """Return how long a step takes at least, without a person's answer. Raises EpidoteError where it cannot be."""
    if isinstance(step, MeasureStep):
        return step.repeats * play_seconds(step.procedure, step.settings, chain)
    if isinstance(step, WaitStep):
        if step.procedure:
            return play_seconds(step.procedure, step.settings, chain)
        if step.wait in ("steady", "warm"):
            return 2 * _LOOK_SECONDS
        return step.seconds
    return 0.0


def play_seconds(key: str, settings: object, chain: Chain) -> float:
    """Return how long a procedure sounds. Raises SettingError for one that is unknown or does not fit the chain."""
    if key not in procedures():
        raise SettingError(f"Unknown procedure “{key}”. Available: {', '.join(procedures())}.")
    proc = procedure(key)
    made = make_settings(proc.Settings, settings)  # type: ignore[arg-type]
    next(iter(proc.conduct(made, chain)))  # what does not fit the chain, such as a level above its ceiling, is said
    return float(proc.duration(made, chain))


def _limit_faults(step: MeasureStep) -> list[str]:
    """Return what is wrong with a step's limits, as far as it can be known before anything is measured."""
    proc = procedure(step.procedure)
    readings = {kind.key for kind in proc.readings}
    curves = {view.key for view in proc.views}
    faults = []
    for limit in step.limit:
        known = curves if limit.x_unit else readings
        if limit.key not in known:
            kind = "curve" if limit.x_unit else "reading"
            faults.append(f"“{proc.title}” has no {kind} “{limit.key}”. Available: {', '.join(sorted(known))}.")
        crossed = _crossed(limit.upper, limit.lower)
        if crossed:
            faults.append(f"The lower limit of “{limit.key}” lies above the upper one{crossed}. Correct one of them.")
    return faults


def _crossed(upper: tuple[tuple[float, float], ...], lower: tuple[tuple[float, float], ...]) -> str:
    """Return where a lower line lies above an upper one of the same x, in words; "" where it does not."""
    above = dict(upper)
    for x, y in lower:
        if x in above and y > above[x]:
            return f" at {x:g}" if len(lower) > 1 else " everywhere"
    return ""
