"""What the Listen page works on, without widgets: clips being prepared, the test under way, its answers being kept."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal

from epidote.core.errors import EpidoteError, in_window
from epidote.desktop.state.session import Session

if TYPE_CHECKING:
    from epidote.measurement.listening.clips import AlignedRun
    from epidote.measurement.listening.kinds import ListeningDesign
    from epidote.measurement.listening.preparation import ClipChoice, PreparedClips
    from epidote.measurement.listening.sealed_test import NewTest, SealedTest
    from epidote.measurement.listening.sitting import Sitting
    from epidote.study.store import Study

_MOST_KNOWN = 12  # runs whose clips are kept at hand


class Listening(QObject):
    """changed: other clips, another test or trial. working: words of what is being done; "" when it is over.
    finished: number of a test whose last trial was answered.
    """

    changed = Signal()
    working = Signal(str)
    finished = Signal(str)
    _told = Signal(str)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.prepared: PreparedClips | None = None
        self.drawn: NewTest | None = None
        self.sitting: Sitting | None = None
        self.in_test = False
        self.busy = False
        self._entry: int | None = None  # of the answers being given
        self._known: dict[int, AlignedRun] = {}
        self._turn = 0
        self._told.connect(self.working)
        session.opened.connect(self.forget)

    def forget(self) -> None:
        """Another study is open: nothing of the former one is at hand any more."""
        self.cancel()
        self.prepared = self.drawn = self.sitting = None
        self.in_test = False
        self._known = {}
        self.changed.emit()

    def cancel(self) -> None:
        """Stop preparing clips."""
        self._turn += 1
        self.busy = False
        self.working.emit("")

    # -- clips -------------------------------------------------------------------------------------

    def prepare(self, choice: ClipChoice, then: Callable[[], None] | None = None) -> None:
        """Align and match the clips of a choice off the interface's thread, then have them ready for free listening,
        or call ``then`` instead.
        """
        study = self.session.study
        if study is None:
            return
        self._turn += 1
        turn = self._turn
        self.busy = True
        if len(self._known) > _MOST_KNOWN:
            self._known = {}
        known = self._known

        def work() -> PreparedClips:
            from epidote.core.concurrency import yield_to_others
            from epidote.measurement.listening.preparation import prepare_clips

            yield_to_others()
            return prepare_clips(study, choice, known, self._told.emit, lambda: turn != self._turn)

        def ready(prepared: PreparedClips) -> None:
            if turn != self._turn:
                return
            self._done()
            self.prepared = prepared
            if then is None:
                self.listen_freely()
            else:
                then()

        def failed(words: str) -> None:
            if turn == self._turn:
                self._done()
                self.prepared = self.drawn = self.sitting = None
                self.changed.emit()
                self.session.failed.emit(words)

        self.session.compute(work, ready, failed)

    def _done(self) -> None:
        self.busy = False
        self.working.emit("")

    def listen_freely(self) -> None:
        """Put the clips under letters drawn by chance, without a test."""
        from epidote.measurement.listening.answers import Sheet
        from epidote.measurement.listening.kinds import FreeListeningKind, ListeningDesign
        from epidote.measurement.listening.sealed_test import draw_test
        from epidote.measurement.listening.sitting import Sitting

        if self.prepared is None:
            return
        try:
            design = ListeningDesign(FreeListeningKind.key, 1, overruled="free listening")
            self.drawn = draw_test(self.prepared.matched, design)
        except EpidoteError as error:
            self.drawn = self.sitting = None
            self.session.failed.emit(in_window(error))
            self.changed.emit()
            return
        self.sitting = Sitting(self.drawn.test, Sheet(test=self.drawn.test.number, listener="", finished=False))
        self.in_test = False
        self._entry = None
        self.changed.emit()

    # -- a test ------------------------------------------------------------------------------------

    def start(self, choice: ClipChoice, design: ListeningDesign, listener: str) -> None:
        """Seal a test of these clips in the study and begin with its first trial."""
        if not self.session.writable:
            self.session.failed.emit("The study is read-only, so no answers could be saved. Save a copy and use that.")
            return

        def begin() -> None:
            drawn = self._draw(design)
            if drawn is not None:
                self._keep_and_sit(drawn, listener)

        self._with(choice, begin)

    def hand_out(self, choice: ClipChoice, design: ListeningDesign, target: Path) -> None:
        """Write a sealed test for others: a folder, or a .zip file."""

        def write() -> None:
            prepared = self.prepared
            if prepared is None:
                return

            def work(study: Study) -> str:
                from epidote.measurement.listening.package import seal_test

                test = seal_test(study, prepared.matched, target, design)
                return f"Test {test.number} written to {target}. Its key is sealed in the study."

            self.session.ask(work, self._handed_out)
            self.listen_freely()

        self._with(choice, write)

    def _handed_out(self, words: str) -> None:
        self.session.said.emit(words)
        self.session.refresh()

    def resume(self, test: SealedTest, entry: int, sheet: Any) -> None:
        """Go on with a test that was begun and not finished."""
        from epidote.measurement.listening.preparation import choice_of_test
        from epidote.measurement.listening.sitting import Sitting

        def go_on() -> None:
            if self.prepared is None:
                return
            try:
                self.drawn = self.prepared.sounds_of(test)
            except EpidoteError as error:
                self.session.failed.emit(in_window(error))
                return
            self._entry = entry
            self.sitting = Sitting(test, sheet)
            self.in_test = True
            self.changed.emit()

        self._with(choice_of_test(test), go_on)

    def sit_another(self, test: SealedTest, listener: str) -> None:
        """Have another listener take a test that is sealed already."""
        from epidote.measurement.listening.answers import Sheet, keep_sheet

        sheet = Sheet(test=test.number, listener=listener, finished=False)
        self.session.ask(lambda study: keep_sheet(study, sheet), lambda entry: self.resume(test, entry, sheet))

    def _with(self, choice: ClipChoice, then: Callable[[], None]) -> None:
        """Call ``then`` with the clips of a choice at hand."""
        if self.prepared is not None and self.prepared.choice == choice:
            then()
        else:
            self.prepare(choice, then)

    def _draw(self, design: ListeningDesign) -> NewTest | None:
        from epidote.measurement.listening.sealed_test import draw_test

        if self.prepared is None:
            return None
        try:
            return draw_test(self.prepared.matched, design)
        except EpidoteError as error:
            self.session.failed.emit(in_window(error))
            return None

    def _keep_and_sit(self, drawn: NewTest, listener: str) -> None:
        from epidote.measurement.listening.answers import Sheet, keep_sheet
        from epidote.measurement.listening.sealed_test import keep_test
        from epidote.measurement.listening.sitting import Sitting

        sheet = Sheet(test=drawn.test.number, listener=listener, finished=False)

        def keep(study: Study) -> int:
            keep_test(study, drawn.test)
            return keep_sheet(study, sheet)

        def begin(entry: int) -> None:
            self._entry = entry
            self.drawn = drawn
            self.sitting = Sitting(drawn.test, sheet)
            self.in_test = True
            self.changed.emit()

        self.session.ask(keep, begin)

    def answer(self, cells: list[str]) -> None:
        """Answer the trial at hand, save it, and show the next one."""
        if self.sitting is None or not self.in_test:
            return
        try:
            self.sitting.answer(cells)
        except EpidoteError as error:
            self.session.failed.emit(in_window(error))
            return
        self._keep()
        if self.sitting.finished:
            self._end()
        else:
            self.changed.emit()

    def stop_early(self) -> None:
        """End the test before its last trial."""
        if self.sitting is None or not self.in_test:
            return
        self.sitting.stop()
        self._keep()
        self._end()

    def leave(self) -> None:
        """Leave the test for now; its answers so far are saved, and it can be gone on with."""
        self.in_test = False
        self.listen_freely()

    def note(self, label: str, words: str) -> None:
        """Keep a note on a label of the trial at hand."""
        if self.sitting is None or self.sitting.note_on(label) == words:
            return
        self.sitting.note(label, words)
        if self.in_test:
            self._keep()

    def keep_free_notes(self, listener: str) -> None:
        """Save the notes of free listening, with what each letter was, as a test without answers."""
        from epidote.measurement.listening.answers import keep_sheet
        from epidote.measurement.listening.sealed_test import keep_test

        if self.sitting is None or self.drawn is None or self.in_test:
            return
        test = self.drawn.test
        sheet = self.sitting.sheet.model_copy(update={"listener": listener, "finished": True})

        def keep(study: Study) -> None:
            keep_test(study, test)
            keep_sheet(study, sheet)

        self.session.ask(keep, lambda _: self.finished.emit(test.number))
        self.listen_freely()

    def _keep(self) -> None:
        from epidote.measurement.listening.answers import keep_sheet

        if self.sitting is None:
            return
        sheet, entry = self.sitting.sheet, self._entry
        self.session.ask(lambda study: keep_sheet(study, sheet, entry), lambda _: None)

    def _end(self) -> None:
        number = self.sitting.test.number if self.sitting is not None else ""
        self.in_test = False
        self.listen_freely()
        # answers are saved in order on the study's thread, so the last one is there before anybody asks
        self.session.ask(lambda _: number, self.finished.emit)
