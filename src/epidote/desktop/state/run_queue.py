"""What is measured: one run after another on a thread of its own, each shown in its cell."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal

from epidote.audio.soundcard.patience import patience
from epidote.desktop.state.worker import Worker
from epidote.study.models import RunSummary, StudyError

if TYPE_CHECKING:
    from epidote.desktop.state.study_access import StudyAccess
    from epidote.study.store import Study

Cell = tuple[int, int]


@dataclass(frozen=True)
class RunRequest:
    """A run in the queue: the cell, settings by name, the device (empty: the row's own), and how often it is
    repeated.

    at_once: a simulated device plays as fast as it can and nothing is asked before; seed: of its noise; sound_level:
    such as "80 dB(A)", for which the generator level is found; command: the clip after which the unit plays the
    stimulus file by itself, and the time in s within which it must begin.
    """

    cell: Cell
    settings: Mapping[str, Any]
    device: str = ""
    times: int = 1
    at_once: bool = False
    seed: int | None = None
    sound_level: str = ""
    command: tuple[Path, float] | None = None


@dataclass(frozen=True)
class CellProgress:
    """A cell that is waiting or running: share done, and seconds left when known."""

    share: float
    left: float | None
    waiting: bool


class RunQueue(QObject):
    """The runs of a session's study. While any is under way, it alone has the device."""

    progress_changed = Signal(tuple)
    run_finished = Signal(tuple)
    asked = Signal(str)  # a question before a run goes on; ``answer`` is waited for
    _progressed = Signal(object, tuple, float)

    def __init__(self, session: StudyAccess, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.under_way: dict[Cell, CellProgress] = {}
        self.checks = True  # a short shot before each run
        self.bench_is_used = False  # by something that is no run
        self._worker = Worker("runs", self)
        self._cancel = threading.Event()
        self._begun = 0.0
        self.last_answer: bool | None = None
        self._answered = threading.Event()
        self._progressed.connect(self._on_progress)

    def after(self, done: Callable[[], None]) -> None:
        """Call ``done`` once what is queued by now is over."""
        self._worker.submit(lambda: None, lambda _: done())

    def close(self) -> None:
        """Wait for the run under way, which ``cancel`` ends soon."""
        self._worker.close()

    def measure(self, requests: list[RunRequest]) -> None:
        """Queue runs; each shows its progress in its cell."""
        if not self._session.writable:
            self._session.failed.emit("The study is read-only. Nothing was measured.")
            return
        self._session.live.stop()
        waiting = set(self.under_way)
        for w in requests:
            if w.cell in waiting:
                continue
            self.under_way[w.cell] = CellProgress(0.0, None, True)
            self.progress_changed.emit(w.cell)
            self._queue(w, self._session.study, self._cancel)

    def _queue(self, request: RunRequest, study: Study | None, cancel: threading.Event) -> None:
        self._worker.submit(
            lambda: self._run(study, request, cancel),
            lambda run: self._ran(study, request.cell, run),
            lambda words: self._did_not(study, request.cell, words),
        )

    def recompute(self, run: RunSummary, changes: Mapping[str, Any]) -> None:
        """Compute a run again from its recordings with other settings."""
        study, cell = self._session.study, (run.subject_id, run.column_id)
        if study is None or not self._session.writable:
            self._session.failed.emit("The study is read-only. Nothing was recomputed.")
            return

        def work(of: Study) -> RunSummary:
            from epidote.measurement.recompute import recompute

            return recompute(of, run.id, changes)

        self.in_cell(cell, work)

    def in_cell(
        self, cell: Cell, work: Callable[[Study], RunSummary], then: Callable[[RunSummary], None] | None = None
    ) -> None:
        """Make a run that plays nothing on the runs' thread, its cell showing that it is under way."""
        study = self._session.study
        if study is None or not self._session.writable:
            self._session.failed.emit("The study is read-only. Nothing was imported.")
            return

        def done(run: RunSummary) -> None:
            self._ran(study, cell, run)
            if then is not None and study is self._session.study:
                then(run)

        self.under_way[cell] = CellProgress(0.0, None, True)
        self.progress_changed.emit(cell)
        self._worker.submit(lambda: work(study), done, lambda t: self._did_not(study, cell, t))

    def cancel(self) -> None:
        """Stop the run under way and forget those waiting."""
        self._cancel.set()
        self._cancel = threading.Event()  # of the runs to come; those there are keep the one that is set

    def leave(self) -> None:
        """Stop what is under way, because its study is closed: another study's cells have the same numbers."""
        self.cancel()
        left, self.under_way = self.under_way, {}
        for cell in left:
            self.progress_changed.emit(cell)

    def is_cancelled(self) -> Callable[[], bool]:
        """Return what tells whether what is begun now was stopped meanwhile."""
        return self._cancel.is_set

    def _run(self, study: Study | None, request: RunRequest, cancel: threading.Event) -> RunSummary | None:
        """On the runs' thread."""
        if study is None or cancel.is_set():
            return None
        from epidote.core.errors import CancelledError
        from epidote.core.procedures.registry import procedure
        from epidote.core.settings import make_settings
        from epidote.measurement.chain_for_row import chain_for_subject
        from epidote.measurement.request import RunPlan
        from epidote.measurement.service import SafeStart, carry_out

        overview = study.overview()
        subject, column = overview.subject(request.cell[0]), overview.column(request.cell[1])
        if subject is None or column is None:
            raise StudyError(
                "The row or column was deleted while its measurement was queued. Nothing was measured; undo the"
                " deletion to measure it."
            )
        chain = chain_for_subject(study, subject)
        name = request.device or subject.device or chain.device
        if not name:
            raise StudyError(
                f"No device is set for {subject.full_name}. Nothing was measured; select a device below the settings"
                " and measure again."
            )
        settings = make_settings(procedure(column.procedure).Settings, request.settings)
        chain = chain.changed(device=name)
        plan = RunPlan(subject.id, column.id, column.procedure, settings, chain, request.sound_level)
        self._session.live.wait()

        def confirm(start: SafeStart) -> bool:
            return request.at_once or self._ask(f"{start.words} Measure at full level?", cancel)

        self._begun = time.monotonic()
        self._progressed.emit(study, request.cell, 0.0)
        try:
            runs = carry_out(
                study,
                plan,
                subject.conditions,
                confirm=confirm,
                progress=lambda share: self._progressed.emit(study, request.cell, share),
                cancelled=cancel.is_set,
                opening=patience(name, self._session.said.emit),
                check=self.checks and not request.at_once,
                times=request.times,
                seed=request.seed,
                real_time=not request.at_once,
                command=request.command,
            )
        except CancelledError:
            return None
        return runs[-1] if runs else None

    def _ask(self, words: str, cancel: threading.Event) -> bool:
        """Ask the user, and wait for the answer on the runs' thread."""
        self.last_answer = None
        self._answered.clear()
        self.asked.emit(words)
        while not self._answered.wait(0.1):
            if cancel.is_set():
                return False
        return bool(self.last_answer)

    def answer(self, go_on: bool) -> None:
        """Answer the question that ``asked`` put."""
        self.last_answer = go_on
        self._answered.set()

    def _on_progress(self, study: Study, cell: Cell, share: float) -> None:
        if study is not self._session.study:
            return
        gone = time.monotonic() - self._begun
        self.under_way[cell] = CellProgress(share, gone * (1 - share) / share if share > 0.02 else None, False)
        self.progress_changed.emit(cell)

    def _over(self, study: Study | None, cell: Cell) -> None:
        if study is self._session.study:
            self.under_way.pop(cell, None)
            self.progress_changed.emit(cell)

    def _ran(self, study: Study | None, cell: Cell, run: RunSummary | None) -> None:
        self._over(study, cell)
        if study is not self._session.study:
            return  # its matrix is no longer in view; the run itself is saved in its study, or was stopped
        if run is None:
            self._session.said.emit("Stopped. This run was not saved; earlier runs are unchanged.")
            return
        self._session.refresh()
        self.run_finished.emit(cell)

    def _did_not(self, study: Study | None, cell: Cell, words: str) -> None:
        self._over(study, cell)
        self._session.failed.emit(words)

    def in_turn(self, work: Callable[[], None]) -> None:
        """Do something on the runs' thread once what is queued by now is over, whichever study is open then."""
        self._worker.submit(work)

    def on_the_bench(
        self,
        work: Callable[[Study], Any],
        done: Callable[[Any], None],
        failed: Callable[[str], None] | None = None,
    ) -> None:
        """Do something with a device that is no run, on the runs' thread, live sound being stopped first."""
        study = self._session.study
        if study is None:
            return
        self._session.live.stop()
        self.bench_is_used = True

        def over(receiver: Callable[[Any], None], value: Any) -> None:
            self.bench_is_used = False
            if study is self._session.study:
                receiver(value)

        def alone() -> Any:
            self._session.live.wait()
            return work(study)

        refuse = failed or self._session.failed.emit
        self._worker.submit(alone, lambda value: over(done, value), lambda words: over(refuse, words))
