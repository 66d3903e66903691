"""The open study as the window sees it: its overview, edits that can be undone, and the queue of runs."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from epidote.desktop.live import LiveLink, Watcher
from epidote.desktop.worker import Worker
from epidote.study.models import Overview, RunSummary, StudyError
from epidote.study.store import Study, create_study

if TYPE_CHECKING:
    from epidote.audio.device import Device
    from epidote.core.chain import Chain

USUAL_COLUMNS = ("response", "tone")
Step = Callable[[Study, dict[str, Any]], None]
Cell = tuple[int, int]


@dataclass(frozen=True)
class Wanted:
    """A run in the queue: the cell, settings by name, the device (empty: the row's own), and how often it is repeated."""

    cell: Cell
    settings: Mapping[str, Any]
    device: str = ""
    times: int = 1


@dataclass(frozen=True)
class Under:
    """A cell that is waiting or running: share done, and seconds left when known."""

    share: float
    left: float | None
    waiting: bool


def _states_of_claims(overview: Overview) -> dict[int, Hashable]:
    """What the verdict on each claim rests on: its text, and the runs of its unit."""
    units = {s.id: s.unit.id for s in overview.subjects if s.unit is not None}
    runs: dict[int, list[int]] = {}
    for (subject, _), run in overview.runs.items():
        if subject in units:
            runs.setdefault(units[subject], []).append(run.id)
    return {e.id: (str(e.data), tuple(sorted(runs.get(e.owner.unit or 0, [])))) for e in overview.of_kind("claim")}


class Session(QObject):
    overview_changed = Signal()
    progress_changed = Signal(tuple)
    run_finished = Signal(tuple)
    said = Signal(str)
    failed = Signal(str)
    devices_found = Signal(object)  # [(name, title)]
    latency_told = Signal(object)  # round trip in s as the device states it, or None
    asked = Signal(str)  # a question before a run goes on; ``answer`` is waited for

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.study: Study | None = None
        self.overview: Overview | None = None
        self.undo = QUndoStack(self)
        self.under_way: dict[Cell, Under] = {}
        self.devices: list[tuple[str, str]] | None = None
        self.verdicts: dict[int, Any] = {}  # on the study's claims, by entry, as last judged
        self._judged: dict[int, Hashable] = {}  # what each was judged on
        self.live = LiveLink(self)
        self.live.failed.connect(self.failed)
        self._store = Worker("store", self)
        self._runs = Worker("runs", self)
        self._finder = Worker("devices", self)
        self._cancel = threading.Event()
        self._begun = 0.0
        self.checks = True  # a short shot before each run
        self._answer: bool | None = None
        self._answered = threading.Event()
        self._progressed.connect(self._on_progress)

    _progressed = Signal(tuple, float)

    # -- opening and closing ------------------------------------------------------------------------------------------------

    def open(self, opener: Callable[[], Study], then: Callable[[], None] | None = None) -> None:
        """Open or make a study on the store's thread; a failure leaves the present one open."""

        def work() -> tuple[Study, Overview]:
            study = opener()
            return study, study.overview()

        def done(result: tuple[Study, Overview]) -> None:
            self._leave()
            self.verdicts, self._judged = {}, {}
            self.study, self.overview = result
            self.undo.clear()
            if self.study.read_only:
                self.said.emit(f"Open for reading only: {self.study.why_read_only}. You can look, compare and export, not change.")
            self.overview_changed.emit()
            if then is not None:
                then()

        self._store.submit(work, done, self.failed.emit)

    def open_path(self, path: Path) -> None:
        if self.study is not None and path.absolute() == self.study.path:
            return
        self.open(lambda: Study(path))

    def create(self, path: Path, title: str) -> None:
        def make() -> Study:
            study = create_study(path, title)
            from epidote.conductor import add_column
            from epidote.core.procedures.base import procedures

            found = procedures()
            for key in USUAL_COLUMNS:
                add_column(study, key, found[key].Settings())
            return study

        self.open(make)

    def _leave(self) -> None:
        self.cancel()
        if self.study is not None:
            old = self.study
            self.study = self.overview = None
            self._runs.submit(lambda: None)
            self._store.submit(old.close)

    def close(self) -> None:
        """Stop what runs, wait for it, and close the study."""
        self.live.stop()
        self.live.wait()
        self.cancel()
        self._runs.close()
        self._finder.close()
        self._store.close()
        if self.study is not None:
            self.study.close()
            self.study = None

    # -- reading ------------------------------------------------------------------------------------------------------------

    def ask(self, question: Callable[[Study], Any], done: Callable[[Any], None]) -> None:
        """Ask the study something on its thread."""
        if self.study is not None:
            study = self.study
            self._store.submit(lambda: question(study), done, self.failed.emit)

    def judge_claims(self, done: Callable[[], None]) -> None:
        """Hold those claims against the runs whose unit was measured, or which were changed, since; ``verdicts`` has all then."""
        overview = self.overview
        states = _states_of_claims(overview) if overview is not None else {}
        wanted = [e for e in overview.of_kind("claim") if self._judged.get(e.id) != states[e.id]] if overview is not None else []
        self.verdicts = {i: v for i, v in self.verdicts.items() if i in states and i not in {e.id for e in wanted}}
        self._judged.update(states)
        if overview is None or not wanted:
            done()
            return

        def ask(study: Study) -> dict[int, Any]:
            from epidote.study.judging import judged_claims

            return judged_claims(study, overview, wanted)

        def judged(found: dict[int, Any]) -> None:
            self.verdicts.update({i: v for i, v in found.items() if self._judged.get(i) == states[i]})
            done()

        self.ask(ask, judged)

    def refresh(self) -> None:
        def done(overview: Overview) -> None:
            self.overview = overview
            self.overview_changed.emit()

        self.ask(lambda study: study.overview(), done)

    def setting(self, name: str) -> str:
        """What is kept about the study under a name, as the overview has it; "" where nothing is."""
        return self.overview.settings.get(name, "") if self.overview is not None else ""

    # -- changing -----------------------------------------------------------------------------------------------------------

    @property
    def writable(self) -> bool:
        return self.study is not None and not self.study.read_only

    def edit(self, text: str, forward: Step, back: Step) -> None:
        """Change the study so that it can be undone. The two steps share a dict for what they need to remember."""
        if self.study is None:
            return
        if self.study.read_only:
            self.failed.emit(f"The study is open for reading only ({self.study.why_read_only}): nothing was changed.")
            return
        self.undo.push(_Edit(self, text, forward, back))

    def carry_out(self, step: Step, memory: dict[str, Any], undone: Callable[[], None]) -> None:
        """One step of an edit on the store's thread; a step that fails takes its command off the stack."""
        study = self.study
        if study is None:
            return

        def failed(words: str) -> None:
            undone()
            self.failed.emit(words)

        def work() -> Overview:
            step(study, memory)
            return study.overview()

        def done(overview: Overview) -> None:
            self.overview = overview
            self.overview_changed.emit()

        self._store.submit(work, done, failed)

    # -- devices ------------------------------------------------------------------------------------------------------------

    def find_devices(self, then: Callable[[list[tuple[str, str]]], None] | None = None, *, anew: bool = False) -> None:
        """Which devices there are, off the interface's thread; asked once, and ``anew`` when something was plugged in since."""

        def load() -> None:
            import epidote.audio.devices  # noqa: F401  heavy libraries are loaded on the store's thread only

        def look() -> list[tuple[str, str]]:
            from epidote.audio.devices import devices

            return [(d.name, d.title) for d in devices()]

        def done(found: list[tuple[str, str]]) -> None:
            self.devices = found
            self.devices_found.emit(found)
            if then is not None:
                then(found)

        if self.devices is not None and not anew:
            done(self.devices)
            return
        self._store.submit(load, lambda _: self._finder.submit(look, done, self.failed.emit), self.failed.emit)

    def listen(self, opener: Callable[[], Device], ceiling_dbfs: float, watcher: Callable[[float], Watcher]) -> bool:
        """Listen to a device, unless a run has it."""
        if self.under_way:
            self.failed.emit("A run is under way and has the device. Wait for it, or stop it with Escape.")
            return False
        self.live.start(opener, ceiling_dbfs, watcher)
        return True

    def on_the_bench(self, work: Callable[[Study], Any], done: Callable[[Any], None]) -> None:
        """Do something with a device that is no run, on the runs' thread, live sound being stopped first."""
        study = self.study
        if study is None:
            return
        self.live.stop()

        def alone() -> Any:
            self.live.wait()
            return work(study)

        self._runs.submit(alone, done, self.failed.emit)

    def mute(self) -> None:
        """Silence at once: what plays live, and the run under way."""
        self.live.mute()
        self.cancel()

    # -- runs ---------------------------------------------------------------------------------------------------------------

    def measure(self, wanted: list[Wanted]) -> None:
        """Queue runs; each shows its progress in its cell."""
        if not self.writable:
            self.failed.emit("The study cannot be changed, so nothing was measured.")
            return
        self._cancel.clear()
        self.live.stop()
        for w in wanted:
            if w.cell in self.under_way:
                continue
            self.under_way[w.cell] = Under(0.0, None, True)
            self.progress_changed.emit(w.cell)
            self._queue(w, self.study, self._cancel)

    def _queue(self, wanted: Wanted, study: Study | None, cancel: threading.Event) -> None:
        self._runs.submit(
            lambda: self._run(study, wanted, cancel),
            lambda run: self._ran(wanted.cell, run),
            lambda words: self._did_not(wanted.cell, words),
        )

    def recompute(self, run: RunSummary, changes: Mapping[str, Any]) -> None:
        """Compute a run again from its recordings with other settings."""
        study, cell = self.study, (run.subject_id, run.column_id)
        if study is None or not self.writable:
            self.failed.emit("The study cannot be changed, so nothing was computed.")
            return

        def work(of: Study) -> RunSummary:
            from epidote.conductor import recompute

            return recompute(of, run.id, changes)

        self.in_cell(cell, work)

    def in_cell(self, cell: Cell, work: Callable[[Study], RunSummary], then: Callable[[RunSummary], None] | None = None) -> None:
        """Make a run that plays nothing on the runs' thread, its cell showing that it is under way."""
        study = self.study
        if study is None or not self.writable:
            self.failed.emit("The study cannot be changed, so nothing was done.")
            return

        def done(run: RunSummary) -> None:
            self._ran(cell, run)
            if then is not None:
                then(run)

        self.under_way[cell] = Under(0.0, None, True)
        self.progress_changed.emit(cell)
        self._runs.submit(lambda: work(study), done, lambda t: self._did_not(cell, t))

    def cancel(self) -> None:
        """Stop the run under way and forget those waiting."""
        self._cancel.set()
        self._cancel = threading.Event() if not self.under_way else self._cancel

    def _run(self, study: Study | None, wanted: Wanted, cancel: threading.Event) -> RunSummary | None:
        """On the runs' thread."""
        if study is None or cancel.is_set():
            return None
        from epidote.bench import needs_careful_start, open_for, started
        from epidote.conductor import Order, measure, study_chain
        from epidote.core.errors import CancelledError
        from epidote.core.procedures.base import drive_level, make_settings, procedure

        overview = study.overview()
        subject, column = overview.subject(wanted.cell[0]), overview.column(wanted.cell[1])
        if subject is None or column is None:
            raise StudyError("The row or column was deleted while its run was waiting. Nothing was measured.")
        chain = study_chain(study, subject)
        name = wanted.device or subject.device or chain.device
        if not name:
            raise StudyError(f"{subject.full_name} is wired to no device yet. Choose one beside the settings, and measure again.")
        settings = make_settings(procedure(column.procedure).Settings, wanted.settings)
        chain = chain.model_copy(update={"device": name})
        self.live.wait()
        device = open_for(chain, name, subject.conditions, seed=random.randrange(2**31), real_time=True)
        self._begun = time.monotonic()
        run: RunSummary | None = None
        try:
            careful = needs_careful_start(study, chain)
            if careful and not self._careful_start(device, chain, drive_level(settings, chain), cancel):
                return None
            order = Order(subject.id, column.id, column.procedure, settings, chain)
            for n in range(wanted.times):
                if n and cancel.is_set():
                    break  # what was repeated until then is kept
                run = measure(
                    study, order, device, lambda share, n=n: self._progressed.emit(wanted.cell, (n + share) / wanted.times), cancel.is_set,  # type: ignore[misc]
                    check=self.checks and n == 0,
                )  # fmt: skip
                if careful and n == 0:
                    started(study, chain)
            return run
        except CancelledError:
            return run  # of several repeats, those that were finished are kept
        finally:
            device.close()

    def _careful_start(self, device: Device, chain: Chain, level: float, cancel: threading.Event) -> bool:
        """The first run of a changed chain begins 40 dB down; what that says is shown, and the user says whether to go on."""
        from epidote.bench import careful_shot
        from epidote.core.errors import MeasurementError

        shot = careful_shot(device, chain, level, cancel.is_set)
        if shot.stops:
            raise MeasurementError(f"The first shot, 40 dB down, says: {shot.words} Nothing was measured.")
        self._answer = None
        self._answered.clear()
        self.asked.emit(
            f"This is the first run through “{chain.name}” as it is now, so it began 40 dB down. At {level:g} dBFS out, {shot.came_back} would come back. "
            f"{shot.words} Go on at the full level?"
        )
        while not self._answered.wait(0.1):
            if cancel.is_set():
                return False
        return bool(self._answer)

    def answer(self, go_on: bool) -> None:
        """What the user says to ``asked``."""
        self._answer = go_on
        self._answered.set()

    def _on_progress(self, cell: Cell, share: float) -> None:
        gone = time.monotonic() - self._begun
        self.under_way[cell] = Under(share, gone * (1 - share) / share if share > 0.02 else None, False)
        self.progress_changed.emit(cell)

    def _over(self, cell: Cell) -> None:
        self.under_way.pop(cell, None)
        self.progress_changed.emit(cell)

    def _ran(self, cell: Cell, run: RunSummary | None) -> None:
        self._over(cell)
        if run is None:
            self.said.emit("Stopped. Nothing of that run was kept; everything before it is.")
            return
        self.refresh()
        self.run_finished.emit(cell)

    def _did_not(self, cell: Cell, words: str) -> None:
        self._over(cell)
        self.failed.emit(words)


class _Edit(QUndoCommand):
    def __init__(self, session: Session, text: str, forward: Step, back: Step) -> None:
        super().__init__(text)
        self._session, self._forward, self._back = session, forward, back
        self._memory: dict[str, Any] = {}

    def redo(self) -> None:
        self._session.carry_out(self._forward, self._memory, lambda: self.setObsolete(True))

    def undo(self) -> None:
        self._session.carry_out(self._back, self._memory, lambda: None)
