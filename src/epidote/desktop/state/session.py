"""The open study as the window sees it: its overview, edits that can be undone, claims judged, and its device."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack
from shiboken6 import isValid

from epidote.desktop.state.live_audio import LiveAudio, Watcher
from epidote.desktop.state.run_queue import RunQueue
from epidote.desktop.state.worker import Worker
from epidote.study.models import Overview
from epidote.study.run_table import marked, run_id_of
from epidote.study.store import Study

if TYPE_CHECKING:
    from epidote.audio.device import Device
    from epidote.core.comparison.claims.verdict import Verdict
    from epidote.core.signals.signal import Samples

EditStep = Callable[[Study, dict[str, Any]], None]


_REFUSED = "refused"  # in an edit's memory: its last step forward was not carried out
_MOST_NAMED = 6


def _states_of_claims(overview: Overview) -> dict[int, Hashable]:
    """Return what the verdict on each claim rests on: its text, and the runs of its unit."""
    claims = overview.of_kind("claim")
    owners = {e.owner.unit for e in claims}
    units = {s.id: s.unit.id for s in overview.subjects if s.unit is not None and s.unit.id in owners}
    runs: dict[int, list[int]] = {}
    for cell in overview.runs:
        if cell[0] in units:
            runs.setdefault(units[cell[0]], []).append(run_id_of(overview.runs, cell))
    return {e.id: (str(e.data), tuple(sorted(runs.get(e.owner.unit or 0, [])))) for e in claims}


def _damaged_words(names: tuple[str, ...]) -> str:
    listed = ", ".join(names[:_MOST_NAMED]) + (
        f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
    )
    return (
        f"Some items of this study are damaged and not shown: {listed}. They and everything else are unchanged; restore"
        " study.sqlite from a backup to get them back."
    )


class Session(QObject):
    """The open study for the desktop: read and changed on a thread of its own, undone and redone."""

    overview_changed = Signal()
    leaving = Signal()  # the open study is about to be closed: what is being edited is finished now
    opened = Signal()  # another study is open: whatever was remembered of the former one is forgotten
    deleted = Signal(str)  # something was deleted that undo brings back
    said = Signal(str)
    failed = Signal(str)
    devices_found = Signal(object)  # [(name, title)]
    latency_told = Signal(object)  # round trip in s as the device states it, or None

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.study: Study | None = None
        self.overview: Overview | None = None
        self.undo = QUndoStack(self)
        self.devices: list[tuple[str, str]] | None = None
        self.verdicts: dict[int, Verdict] = {}  # on the study's claims, by entry, as last judged
        self._judged: dict[int, Hashable] = {}  # what each was judged on
        self._damaged: set[int] = set()  # runs of which some curves cannot be read
        self.live = LiveAudio(self)
        self.live.failed.connect(self.failed)
        self.runs = RunQueue(self, self)
        self._changed = QTimer(self)
        self._changed.setSingleShot(True)
        self._changed.setInterval(0)
        self._changed.timeout.connect(self.overview_changed)
        self._store = Worker("store", self)
        self._finder = Worker("devices", self)
        self._computer = Worker("computing", self)

    # -- opening and closing -----------------------------------------------------------------------

    def open(self, opener: Callable[[], Study], then: Callable[[], None] | None = None) -> None:
        """Open or make a study on the store's thread; a failure leaves the present one open."""

        def work() -> tuple[Study, Overview]:
            study = opener()
            return study, study.overview()

        def done(result: tuple[Study, Overview]) -> None:
            self.leaving.emit()
            self._leave()
            self.verdicts, self._judged = {}, {}
            self._damaged = set()
            self.study, self.overview = result
            self.undo.clear()
            if self.study.read_only:
                self.said.emit(
                    f"Opened read-only: {self.study.why_read_only}. You can view, compare and export, but not change"
                    " anything."
                )
            elif self.study.moved_aside:
                self.said.emit(
                    f"{len(self.study.moved_aside)} files that the study does not know were moved to its bin folder."
                    " Nothing of them was changed."
                )
            if self.overview is not None and self.overview.damaged:
                self.said.emit(_damaged_words(self.overview.damaged))
            self.opened.emit()
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
            from epidote.measurement.request import new_study

            return new_study(path, title)

        self.open(make)

    def _leave(self) -> None:
        self.live.stop()  # what is heard or played belongs to a unit of the study that is left
        self.runs.leave()
        if self.study is not None:
            old = self.study
            self.study = self.overview = None
            self.runs.after(lambda: self._store.submit(old.close))

    def close(self) -> None:
        """Stop what runs, wait for it, and close the study."""
        self.live.stop()
        self.live.wait()
        self.runs.cancel()
        self.runs.close()
        self._finder.close()
        self._computer.close()
        self._store.close()
        if self.study is not None:
            self.study.close()
            self.study = None

    # -- reading -----------------------------------------------------------------------------------

    def ask(self, question: Callable[[Study], Any], done: Callable[[Any], None]) -> None:
        """Ask the study something on its thread; an answer that comes after another study was opened is dropped."""
        if self.study is not None:
            study = self.study
            self._store.submit(lambda: question(study), self._of_open_study(done), self.failed.emit)

    def _of_open_study(self, done: Callable[[Any], None]) -> Callable[[Any], None]:
        """Wrap a receiver so that it hears only answers about the study that is open now."""
        study = self.study
        owner = getattr(done, "__self__", None)

        def deliver(answer: Any) -> None:
            if study is not self.study or (isinstance(owner, QObject) and not isValid(owner)):
                return
            done(answer)

        return deliver

    def aside(self, work: Callable[[], Any], done: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        """Do something that is not the study's, such as reading a file, off the interface's thread."""
        self._store.submit(work, done, failed)

    def compute(self, work: Callable[[], Any], done: Callable[[Any], None], failed: Callable[[str], None]) -> None:
        """Do something that takes seconds and must hold up neither the study's thread nor the runs'.

        It may read the study; an answer that comes after another study was opened is dropped.
        """
        self._computer.submit(work, self._of_open_study(done), failed)

    def judge_claims(self, done: Callable[[], None]) -> None:
        """Hold those claims against the runs whose unit was measured, or which were changed, since.

        ``verdicts`` has all then.
        """
        overview = self.overview
        if overview is not None:
            states = _states_of_claims(overview)
        else:
            states = {}
        if overview is not None:
            changed = [e for e in overview.of_kind("claim") if self._judged.get(e.id) != states[e.id]]
        else:
            changed = []
        self.verdicts = {i: v for i, v in self.verdicts.items() if i in states and i not in {e.id for e in changed}}
        self._judged.update(states)
        if overview is None or not changed:
            done()
            return

        def ask(study: Study) -> dict[int, Verdict]:
            from epidote.measurement.assessment import judged_claims

            return judged_claims(study, overview, changed)

        def judged(verdicts: dict[int, Verdict]) -> None:
            self.verdicts.update({i: v for i, v in verdicts.items() if self._judged.get(i) == states[i]})
            done()

        self.ask(ask, judged)

    def refresh(self) -> None:
        self.ask(lambda study: study.overview(), self._take)

    def _take(self, overview: Overview) -> None:
        self.overview = marked(overview, self._damaged)
        self._changed.start()  # answers that come close together are shown once

    def show_changes(self) -> None:
        """Tell of a changed overview now, where that is still to come."""
        if self._changed.isActive():
            self._changed.stop()
            self.overview_changed.emit()

    def mark_damaged(self, curves_by_run: Mapping[int, Sequence[str]]) -> None:
        """Curves (their keys, by run) cannot be read: the runs are marked in the matrix from now on, and it is said
        once.
        """
        new = {run: keys for run, keys in curves_by_run.items() if keys and run not in self._damaged}
        if not new or self.overview is None:
            return
        self._damaged.update(new)
        self._take(self.overview)
        words = "; ".join(f"run {run}: {', '.join(keys)}" for run, keys in new.items())
        self.said.emit(
            f"Damaged curves are not shown ({words}). The recordings are not affected; recompute the run, or restore"
            " study.sqlite from a backup."
        )

    def setting(self, name: str) -> str:
        """Return what is kept about the study under a name, as the overview has it; "" where nothing is."""
        if self.overview is not None:
            return self.overview.settings.get(name, "")
        return ""

    # -- changing ----------------------------------------------------------------------------------

    @property
    def writable(self) -> bool:
        return self.study is not None and not self.study.read_only

    def edit(self, text: str, forward: EditStep, back: EditStep, *, deletes: str = "") -> None:
        """Change the study so that it can be undone. The two steps share a dict for what they need to remember.

        deletes: what it takes away, which is said together with an offer to undo it.
        """
        if self.study is None:
            return
        if self.study.read_only:
            self.failed.emit(f"The study is read-only ({self.study.why_read_only}). Nothing was changed.")
            return
        self.undo.push(_Edit(self, text, forward, back))
        if deletes:
            self.deleted.emit(f"{deletes} deleted.")

    def carry_out(self, step: EditStep, memory: dict[str, Any], undone: Callable[[], None]) -> None:
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
            if study is self.study:
                self._take(overview)

        self._store.submit(work, done, failed)

    # -- devices -----------------------------------------------------------------------------------

    def find_devices(self, then: Callable[[list[tuple[str, str]]], None] | None = None, *, anew: bool = False) -> None:
        """Which devices there are, off the interface's thread; asked once, and ``anew`` when something was plugged in
        since.
        """

        def load() -> None:
            import epidote.audio.registry  # noqa: F401  heavy libraries are loaded on the store's thread only

        def look() -> list[tuple[str, str]]:
            from epidote.audio.registry import devices

            return [(d.name, d.title) for d in devices()]

        def done(devices: list[tuple[str, str]]) -> None:
            self.devices = devices
            self.devices_found.emit(devices)
            if then is not None:
                then(devices)

        if self.devices is not None and not anew:
            done(self.devices)
            return
        self._store.submit(load, lambda _: self._finder.submit(look, done, self.failed.emit), self.failed.emit)

    def listen(
        self,
        opener: Callable[[], Device],
        ceiling_dbfs: float,
        watcher: Callable[[float], Watcher],
        clips: Callable[[float], list[Samples]] | None = None,
    ) -> bool:
        """Listen to a device, unless a run has it; clips: what it is to play, as `LiveAudio.start` takes them."""
        if self.runs.under_way or self.runs.bench_is_used:
            self.failed.emit("The device is in use by a measurement. Wait until it finishes, or press Esc to stop it.")
            return False
        self.live.start(opener, ceiling_dbfs, watcher, clips)
        return True

    def mute(self) -> None:
        """Silence at once: what plays live, and the run under way."""
        self.live.mute()
        self.runs.cancel()


class _Edit(QUndoCommand):
    def __init__(self, session: Session, text: str, forward: EditStep, back: EditStep) -> None:
        super().__init__(text)
        self._session, self._forward, self._back = session, forward, back
        self._memory: dict[str, Any] = {}

    def redo(self) -> None:
        self._session.carry_out(self._step_forward, self._memory, lambda: self.setObsolete(True))

    def undo(self) -> None:
        self._session.carry_out(self._step_back, self._memory, lambda: None)

    def _step_forward(self, study: Study, memory: dict[str, Any]) -> None:
        memory[_REFUSED] = True
        self._forward(study, memory)
        memory[_REFUSED] = False

    def _step_back(self, study: Study, memory: dict[str, Any]) -> None:
        """Take back what was done; what was refused meanwhile was not."""
        if not memory.get(_REFUSED):
            self._back(study, memory)
