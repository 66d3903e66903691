"""One pass over a unit: the analysis of a step goes on beside the sound of the next one.

A step that must not be gone on from (stop, ask, repeat) ends the sound that was begun meanwhile; nothing of that sound
is kept.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace

from epidote.audio.device import Cancelled
from epidote.core.chain.chain import Chain
from epidote.core.errors import CancelledError, EpidoteError, MeasurementError
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.caution import Caution
from epidote.core.results.result import Result
from epidote.core.routine.judgement import judge_step
from epidote.core.routine.model import (
    AnswerKind,
    CommandStep,
    FailureAction,
    MeasureStep,
    OnFailure,
    PromptStep,
    Routine,
    WaitStep,
)
from epidote.core.routine.verdict import RoutineVerdict
from epidote.core.settings import Settings
from epidote.core.signals.recording import Recording
from epidote.measurement.playback import PreparedPlay, play_and_record, prepare_play
from epidote.measurement.request import RunPlan
from epidote.measurement.routine.bench import RoutineBench
from epidote.measurement.routine.dialogue import PassDialogue
from epidote.measurement.routine.outcome import StepOutcome, measured_outcome, step_title, worst_of
from epidote.measurement.routine.switching import run_command_step
from epidote.measurement.routine.waiting_steps import carry_out_wait
from epidote.measurement.runner import at_sound_level, result_of, store_run
from epidote.study.models import Subject
from epidote.study.store import Study

STOPPED = "Stopped. Steps that had ended are saved."
_GO_ON = OnFailure(FailureAction.GO_ON)


@dataclass(frozen=True)
class PlannedStep:
    """A step on the row, column and chain it is carried out with; settings: of one that measures."""

    step: MeasureStep | PromptStep | WaitStep | CommandStep
    subject: Subject
    chain: Chain
    settings: Settings | None = None
    column_id: int = 0
    golden: Mapping[str, Result | None] | None = None


@dataclass(frozen=True)
class _Job:
    """number: of the step, from 1; repeat: which of its runs; attempt: how often that one was begun."""

    number: int
    repeat: int = 0
    attempt: int = 1


@dataclass(frozen=True)
class _Recorded:
    """What was recorded for a job; title: of the device; seconds: it took."""

    order: RunPlan
    title: str
    recordings: list[Recording]
    seconds: float = 0.0


@dataclass(frozen=True)
class PassContext:
    """What a pass works with. cautions: of the look before it, which hold for every run."""

    study: Study
    routine: Routine
    bench: RoutineBench
    serial: str
    dialogue: PassDialogue
    cancelled: Cancelled
    cautions: tuple[Caution, ...] = ()


class OnePass:
    """Carries out planned steps; ``outcomes`` holds what has ended, in the order of the steps."""

    def __init__(self, context: PassContext, planned: list[PlannedStep]) -> None:
        self._at, self._planned = context, planned
        self._jobs: deque[_Job] = deque()
        for number, one in enumerate(planned, start=1):
            times = one.step.repeats if isinstance(one.step, MeasureStep) else 1
            self._jobs.extend(_Job(number, repeat) for repeat in range(times))
        self._pending: deque[tuple[_Job, Future[StepOutcome]]] = deque()
        self._ended: dict[int, dict[int, StepOutcome]] = {}
        self._prepared: tuple[_Job, Future[PreparedPlay]] | None = None
        self._analysis = ThreadPoolExecutor(1, thread_name_prefix="pass analysis")
        self._preparation = ThreadPoolExecutor(1, thread_name_prefix="pass preparation")
        self._sound_ended = 0.0
        self.gaps: list[float] = []  # s between the sound of one step and that of the next
        self.words = ""

    @property
    def outcomes(self) -> list[StepOutcome]:
        """One for each step that ended."""
        return [worst_of(list(runs.values())) for _, runs in sorted(self._ended.items())]

    def run(self) -> None:
        """Carry out every step.

        Raises CancelledError when it was stopped, MeasurementError when the device is gone; what had ended is in
        ``outcomes`` all the same.
        """
        try:
            while self._jobs or self._pending:
                if not self._jobs:
                    self._collect(wait=True)
                    continue
                self._carry_out(self._jobs[0])
        finally:
            self._preparation.shutdown(wait=True, cancel_futures=True)
            self._analysis.shutdown(wait=True)
            while self._pending:  # of a pass that broke off: what was recorded whole counts
                job, future = self._pending.popleft()
                self._keep(job, future.result())

    # -- one step after the other --------------------------------------------------------------------

    def _carry_out(self, job: _Job) -> None:
        planned = self._planned[job.number - 1]
        if isinstance(planned.step, MeasureStep):
            self._measure(job, planned)
            return
        self._collect(wait=True)  # nothing is asked or switched while a step before may still fail
        if not self._jobs or self._jobs[0] is not job:
            return
        self._jobs.popleft()
        self._sound_ended = 0.0
        if self._at.cancelled():
            raise CancelledError(STOPPED)
        self._at.dialogue.step_began(job.number)
        begun = time.monotonic()
        outcome = replace(self._other(job.number, planned), seconds=time.monotonic() - begun)
        self._handle(job, outcome)

    def _other(self, number: int, planned: PlannedStep) -> StepOutcome:
        step = planned.step
        if isinstance(step, PromptStep):
            return self._prompt(number, step)
        outcome = StepOutcome(number, step_title(step), "", RoutineVerdict.PASSED)
        if isinstance(step, CommandStep):
            try:
                run_command_step(step)
            except MeasurementError as error:
                return replace(outcome, verdict=RoutineVerdict.NOT_MEASURED, words=str(error))
            return outcome
        assert isinstance(step, WaitStep)
        found = carry_out_wait(
            step,
            lambda: self._at.bench.device(planned.chain, planned.subject.conditions, self._at.serial),
            planned.chain,
            lambda share: self._at.dialogue.step_progressed(number, share),
            self._at.cancelled,
        )
        return replace(outcome, words=found)

    def _prompt(self, number: int, step: PromptStep) -> StepOutcome:
        outcome = StepOutcome(number, step_title(step), "", RoutineVerdict.PASSED, unit=step.unit)
        answer = self._at.dialogue.ask(number, step)
        if answer is None:
            raise CancelledError(STOPPED)
        if step.answer is AnswerKind.VALUE:
            return _judged_value(step, outcome, answer.value)
        if step.answer is AnswerKind.YES_NO and not answer.yes:
            return replace(outcome, verdict=RoutineVerdict.FAILED, answer="no", words="Answered no.")
        return replace(outcome, answer="yes" if step.answer is AnswerKind.YES_NO else "done")

    def _measure(self, job: _Job, planned: PlannedStep) -> None:
        self._at.dialogue.step_began(job.number)
        begun = time.monotonic()
        try:
            recorded = self._record(job, planned)
        except CancelledError:
            if self._at.cancelled():
                raise
            # a step before it did not pass: its sound was ended, and nothing of it counts
            self._collect(wait=False)
            return
        self._jobs.popleft()
        recorded = replace(recorded, seconds=time.monotonic() - begun)
        work = self._analysis.submit(self._judged, job, planned, recorded)
        self._pending.append((job, work))
        self._collect(wait=False)

    def _record(self, job: _Job, planned: PlannedStep) -> _Recorded:
        """Play and record a step, the first stimulus of the next one being made meanwhile."""
        assert planned.settings is not None
        chain, conditions = planned.chain, planned.subject.conditions
        device = self._at.bench.device(chain, conditions, self._at.serial)
        order = RunPlan(
            planned.subject.id,
            planned.column_id,
            planned.step.procedure,  # type: ignore[union-attr]
            planned.settings,
            chain.changed(device=device.info.name),
            conditions.get("level", "") if "level" in type(planned.settings).model_fields else "",
        )
        order, words = at_sound_level(order, device, self._at.cancelled)
        prepared = self._take_prepared(job) if not words else None
        self._prepare_next()
        if self._sound_ended:
            self.gaps.append(time.monotonic() - self._sound_ended)
        try:
            recordings = play_and_record(
                order.procedure,
                order.settings,
                order.chain,
                device,
                lambda share: self._at.dialogue.step_progressed(job.number, share),
                cancelled=self._is_interrupted,
                prepared=prepared,
            )
        finally:
            self._sound_ended = time.monotonic()
        return _Recorded(order, f"{device.info.title}{words}", recordings)

    def _take_prepared(self, job: _Job) -> PreparedPlay | None:
        """Return what was prepared for a job; None where nothing was, or for another one."""
        prepared, self._prepared = self._prepared, None
        if prepared is None or prepared[0] != job:
            return None
        return prepared[1].result()

    def _prepare_next(self) -> None:
        """Begin to make what the next step plays first."""
        if len(self._jobs) < 2:
            return
        job = self._jobs[1]
        planned = self._planned[job.number - 1]
        if not isinstance(planned.step, MeasureStep) or planned.settings is None:
            return
        work = self._preparation.submit(prepare_play, planned.step.procedure, planned.settings, planned.chain)
        self._prepared = job, work

    # -- on the analysis' thread ---------------------------------------------------------------------

    def _judged(self, job: _Job, planned: PlannedStep, recorded: _Recorded) -> StepOutcome:
        """Analyse, keep and judge; what cannot be analysed or kept is not measured, whatever the unit is worth."""
        step = planned.step
        assert isinstance(step, MeasureStep)
        try:
            order, recordings = recorded.order, recorded.recordings
            result = result_of(self._at.study, order, recordings, self._at.cautions)
            run = store_run(self._at.study, order, recorded.title, result, recordings, source=None)
            judged = judge_step(step, result, planned.golden or {}, guard=self._at.routine.guard_bands)
        except EpidoteError as error:
            return StepOutcome(
                job.number,
                step_title(step),
                step.procedure,
                RoutineVerdict.NOT_MEASURED,
                words=str(error),
                attempts=job.attempt,
                seconds=recorded.seconds,
            )
        return replace(measured_outcome(job.number, step, judged, run.id, recorded.seconds), attempts=job.attempt)

    # -- what comes of a step ------------------------------------------------------------------------

    def _is_interrupted(self) -> bool:
        """Whether the sound under way must end: stopped, or begun too early."""
        if self._at.cancelled():
            return True
        return any(self._holds_up(job, future) for job, future in self._pending)

    def _holds_up(self, job: _Job, future: Future[StepOutcome]) -> bool:
        if not future.done() or future.result().good:
            return False
        return self._action_of(job).action is not FailureAction.GO_ON

    def _action_of(self, job: _Job) -> OnFailure:
        """Return what follows where a job does not pass."""
        step = self._planned[job.number - 1].step
        if isinstance(step, PromptStep):
            return OnFailure(FailureAction(step.on_failure))
        if isinstance(step, CommandStep):
            return OnFailure(FailureAction.STOP)  # what should have been switched was not
        if not isinstance(step, MeasureStep):
            return _GO_ON
        action = step.after_failure
        if action.action is FailureAction.REPEAT and job.attempt > action.times:
            return _GO_ON
        return action

    def _collect(self, *, wait: bool) -> None:
        """Take the outcomes there are, or all of them, in their order."""
        while self._pending and (wait or self._pending[0][1].done()):
            job, future = self._pending.popleft()
            self._handle(job, future.result())

    def _handle(self, job: _Job, outcome: StepOutcome) -> None:
        self._keep(job, outcome)
        if outcome.good:
            return
        action = self._action_of(job).action
        if action is FailureAction.REPEAT:
            self._jobs.appendleft(_Job(job.number, job.repeat, job.attempt + 1))
            return
        goes_on = action is FailureAction.GO_ON
        if action is FailureAction.ASK:
            self._sound_ended = 0.0
            goes_on = self._at.dialogue.ask_whether_to_go_on(outcome)
        if not goes_on:
            self._jobs.clear()
            self.words = f"Ended after step {job.number} ({outcome.title})."

    def _keep(self, job: _Job, outcome: StepOutcome) -> None:
        runs = self._ended.setdefault(job.number, {})
        runs[job.repeat] = outcome
        whole = worst_of(list(runs.values()))
        every = tuple(run for one in runs.values() for run in one.runs)
        self._at.dialogue.step_ended(replace(whole, runs=every))


def _judged_value(step: PromptStep, outcome: StepOutcome, value: float | None) -> StepOutcome:
    """Return the outcome of a prompt that was answered with a value."""
    if value is None:
        words = "No value was entered. Measure again and enter a value."
        return replace(outcome, verdict=RoutineVerdict.NOT_MEASURED, words=words)
    rooms = [room for room in (_room(step.upper, value, 1.0), _room(step.lower, value, -1.0)) if room is not None]
    margin = min(rooms, default=None)
    verdict = RoutineVerdict.PASSED
    if margin is not None and margin < 0:
        verdict = RoutineVerdict.FAILED
    answer = format_quantity(value, step.unit, digits=4)
    return replace(outcome, verdict=verdict, margin=margin, value=value, answer=answer)


def _room(limit: float | None, value: float, sign: float) -> float | None:
    if limit is None:
        return None
    return sign * (limit - value)
