"""A pass under way for the page: carried out on the runs' thread, its questions answered from the window."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal

from epidote.desktop.state.session import Session

if TYPE_CHECKING:
    from epidote.core.routine.model import PromptStep, Routine
    from epidote.measurement.routine.dialogue import PromptAnswer
    from epidote.measurement.routine.outcome import StepOutcome
    from epidote.measurement.routine.runner import PassReport, RoutineRunner, UnitRequest
    from epidote.measurement.service import SafeStart
    from epidote.study.store import Study

_LOOK_EVERY = 0.1  # s


@dataclass(frozen=True)
class AskedToGoOn:
    """A step that did not pass, of a routine that asks then."""

    outcome: StepOutcome


class Passing(QObject):
    """One pass at a time. ``answer`` answers what ``asked`` put: a PromptStep, an AskedToGoOn or a SafeStart."""

    step_began = Signal(int)
    step_progressed = Signal(int, float)
    step_ended = Signal(object)
    asked = Signal(int, object)
    ended = Signal(object)  # the PassReport, or None where nothing was kept
    refused = Signal(str)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._runner: RoutineRunner | None = None
        self._key: object = None
        self.under_way = False
        self._answer: Any = None
        self._answered = threading.Event()
        self._stopped = session.runs.is_cancelled()
        self.real_time = True  # of simulated devices
        session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another study is open: a test of a unit that was under way was stopped, and nothing waits for an answer."""
        self.under_way = False
        self._answered.set()
        self.release()

    # -- from the page -------------------------------------------------------------------------------

    def start(self, routine: Routine, request: UnitRequest, *, commands_allowed: bool) -> None:
        """Begin a pass. The interface goes on; everything else comes by signal."""
        if self.under_way:
            return
        self.under_way = True
        self._stopped = self._session.runs.is_cancelled()

        def work(study: Study) -> PassReport:
            runner = self._runner_for(study, routine, commands_allowed=commands_allowed)
            return runner.run_unit(request, _WindowDialogue(self), self._stopped)

        self._session.runs.on_the_bench(work, self._done, self._failed)

    def stop(self) -> None:
        """End the pass after the present block of sound."""
        self._session.runs.cancel()
        self._answered.set()

    def answer(self, value: Any) -> None:
        """Answer the question that was put; None stops the pass."""
        self._answer = value
        self._answered.set()

    def release(self) -> None:
        """Give the device back, once the pass under way is over."""
        runner, self._runner, self._key = self._runner, None, None
        if runner is not None:
            self._session.runs.in_turn(runner.close)

    def _done(self, report: PassReport) -> None:
        self.under_way = False
        self._session.refresh()
        self.ended.emit(report)

    def _failed(self, words: str) -> None:
        self.under_way = False
        self.refused.emit(words)
        self.ended.emit(None)

    # -- on the runs' thread -------------------------------------------------------------------------

    def _runner_for(self, study: Study, routine: Routine, *, commands_allowed: bool) -> RoutineRunner:
        """Return the runner that has the bench open for a routine; another routine or study gets a new one."""
        from epidote.measurement.routine.runner import RoutineRunner

        key = (study, routine, study.chain_toml, commands_allowed)
        if self._runner is None or key != self._key:
            if self._runner is not None:
                self._runner.close()
            self._runner = None
            self._runner = RoutineRunner(study, routine, real_time=self.real_time, commands_allowed=commands_allowed)
            self._runner.check()
            self._key = key
        return self._runner

    def say(self, words: str) -> None:
        """Show a sentence in the window."""
        self._session.said.emit(words)

    def put(self, number: int, question: object) -> Any:
        """Ask in the window, and wait for the answer here."""
        self._answer = None
        self._answered.clear()
        self.asked.emit(number, question)
        while not self._answered.wait(_LOOK_EVERY):
            if self._stopped():
                return None
        return self._answer


class _WindowDialogue:
    """A pass' questions and news, told to the window by signals."""

    def __init__(self, passing: Passing) -> None:
        self._passing = passing

    def step_began(self, number: int) -> None:
        self._passing.step_began.emit(number)

    def step_progressed(self, number: int, share: float) -> None:
        self._passing.step_progressed.emit(number, share)

    def step_ended(self, outcome: StepOutcome) -> None:
        self._passing.step_ended.emit(outcome)

    def said(self, words: str) -> None:
        self._passing.say(words)

    def ask(self, number: int, step: PromptStep) -> PromptAnswer | None:
        answer: PromptAnswer | None = self._passing.put(number, step)
        return answer

    def ask_whether_to_go_on(self, outcome: StepOutcome) -> bool:
        return bool(self._passing.put(outcome.number, AskedToGoOn(outcome)))

    def confirm_start(self, start: SafeStart) -> bool:
        return bool(self._passing.put(0, start))
