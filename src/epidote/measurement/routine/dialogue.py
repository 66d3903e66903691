"""What a pass asks and tells whoever carries it out: a page, a terminal, or nobody."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from epidote.core.routine.model import PromptStep
from epidote.measurement.routine.outcome import StepOutcome
from epidote.measurement.service import SafeStart


@dataclass(frozen=True)
class PromptAnswer:
    """yes: done, or yes; value: what was typed for a value."""

    yes: bool
    value: float | None = None


class PassDialogue(Protocol):
    """Every method is called on the thread of the pass, and may wait there for an answer."""

    def step_began(self, number: int) -> None:
        """Show that a step, from 1, begins."""

    def step_progressed(self, number: int, share: float) -> None:
        """Show which share, from 0 to 1, of a step's sound was played."""

    def step_ended(self, outcome: StepOutcome) -> None:
        """Show what a step ended with."""

    def said(self, words: str) -> None:
        """Show a sentence, such as that the study is waited for."""

    def ask(self, number: int, step: PromptStep) -> PromptAnswer | None:
        """Ask what a prompt asks; None: stop the pass."""

    def ask_whether_to_go_on(self, outcome: StepOutcome) -> bool:
        """Whether the pass goes on after a step that did not pass."""

    def confirm_start(self, start: SafeStart) -> bool:
        """Whether to go on at full level after a look at a low one."""


class UnattendedDialogue:
    """Nobody is there: prompts cannot be answered, and a question whether to go on is answered with no."""

    def step_began(self, number: int) -> None: ...

    def step_progressed(self, number: int, share: float) -> None: ...

    def step_ended(self, outcome: StepOutcome) -> None: ...

    def said(self, words: str) -> None: ...

    def ask(self, number: int, step: PromptStep) -> PromptAnswer | None:
        return None

    def ask_whether_to_go_on(self, outcome: StepOutcome) -> bool:
        return False

    def confirm_start(self, start: SafeStart) -> bool:
        return True
