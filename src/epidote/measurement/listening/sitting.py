"""One listener's pass through a test: the trial at hand, what was heard in it, and its answer."""

from __future__ import annotations

from epidote.core.errors import SettingError
from epidote.measurement.listening.answers import Sheet
from epidote.measurement.listening.kinds import Target
from epidote.measurement.listening.sealed_test import SealedTest


class Sitting:
    """trial: the one at hand, from 1. Nothing of the key or of right and wrong can be read off it."""

    def __init__(self, test: SealedTest, sheet: Sheet) -> None:
        self.test = test
        self.sheet = sheet
        self.heard: set[str] = set()

    @property
    def trial(self) -> int:
        return min(len(self.sheet.answers) + 1, self.test.trials)

    @property
    def finished(self) -> bool:
        return self.sheet.finished

    @property
    def targets(self) -> tuple[Target, ...]:
        """What can be played in this trial."""
        return self.test.targets(self.trial)

    @property
    def unheard(self) -> tuple[str, ...]:
        """Labels that were not heard yet in this trial; an answer needs all of them."""
        return tuple(t.label for t in self.targets if t.label not in self.heard)

    def hear(self, label: str) -> None:
        """Note that a label was heard."""
        self.heard.add(label)

    def take_again(self) -> None:
        """Begin the trial anew, as after the output device was lost; nothing is counted."""
        self.heard.clear()

    def note(self, label: str, words: str) -> None:
        """Keep a note on a label of this trial; empty words take it away."""
        notes = dict(self.sheet.notes)
        key = f"{self.trial} {label}"
        if words.strip():
            notes[key] = words
        else:
            notes.pop(key, None)
        self.sheet = self.sheet.model_copy(update={"notes": notes})

    def note_on(self, label: str) -> str:
        """Return the note on a label of this trial; "" without one."""
        return self.sheet.notes.get(f"{self.trial} {label}", "")

    def answer(self, cells: list[str]) -> None:
        """Answer the trial and go on to the next one. Raises SettingError for what is no answer, or too early."""
        if self.finished:
            raise SettingError("All trials are answered. Start another test.")
        if self.unheard:
            raise SettingError(
                f"Not played in this trial: {', '.join(self.unheard)}. Nothing was counted; play it first."
            )
        count = len(self.test.letters)
        try:
            answer = self.test.test_kind.read_answer(cells, count, self.test.scale)
        except ValueError as error:
            raise SettingError(f"Trial {self.trial} has {error}. Select another answer.") from error
        answers = [*self.sheet.answers, answer]
        finished = len(answers) == self.test.trials
        self.sheet = self.sheet.model_copy(update={"answers": answers, "finished": finished})
        self.heard.clear()

    def stop(self) -> None:
        """End before the last trial; the result says so."""
        if not self.finished:
            self.sheet = self.sheet.model_copy(update={"finished": True, "stopped_early": True})
