"""The Listen page: clips under letters, blind tests of them, and what they show."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from epidote.core.chain.chain_toml import chain_from_toml
from epidote.core.errors import EpidoteError, in_window
from epidote.desktop.pages.listen.differences_view import DifferencesView
from epidote.desktop.pages.listen.letters import key_of
from epidote.desktop.pages.listen.listening import Listening
from epidote.desktop.pages.listen.playback import USUAL_LEVEL, ClipPlayback
from epidote.desktop.pages.listen.side_panel import ClipsBox, DesignBox, MatchedBox, NotesBox, OutputBox, RunningTestBox
from epidote.desktop.pages.listen.tests_view import ListeningTestsView
from epidote.desktop.pages.listen.trial_view import TrialView
from epidote.desktop.pages.page import Page
from epidote.desktop.preferences import preferences
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.question import ask_whether
from epidote.desktop.widgets.scrolled import ScrolledArea, WrappingWidget
from epidote.desktop.widgets.tabbed_views import tabs_over_views
from epidote.measurement.listening.kinds import KINDS, UNKNOWN, FreeListeningKind
from epidote.measurement.listening.preparation import HearableRun, runs_to_hear
from epidote.study.chain_settings import STUDY_CHAIN

if TYPE_CHECKING:
    from epidote.desktop.pages.listen.tests_view import ListedTest

_LISTENING, _DIFFERENCES, _TESTS = "listening", "differences", "tests"
_DEVICE = "listening device"
_STEP = 1.0  # s that an arrow key goes
_SIDE_WIDTH, _BAR_WIDTH = 300, 14  # pixels
_MOST_FIRST = 4  # rows that are taken where none was selected


class ListenPage(Page):
    """Rows that were selected in the matrix are clips at once; nothing on the page tells letters apart."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("help", "listen")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.session, self.theme = session, theme
        self.listening = Listening(session, self)
        self.playback = ClipPlayback(session)
        self._wanted: set[int] = set()  # runs that were selected
        self._loaded: object = None
        self._shown: object = None  # the trial that is laid out: what was begun in it stays when the study changes
        self._differences: DifferencesView | None = None
        self._tests: ListeningTestsView | None = None
        self._build()
        self._connect()
        self._shortcuts()
        session.find_devices()

    # -- building ----------------------------------------------------------------------------------

    def _build(self) -> None:
        options = [(_LISTENING, "Listening"), (_DIFFERENCES, "Differences"), (_TESTS, "Tests")]
        self.tabs, self.views, self.main_view = tabs_over_views(self, options)
        self._fill_main()

    @property
    def differences(self) -> DifferencesView:
        """The view of that tab, made when it is first needed: the page itself must open at once."""
        if self._differences is None:
            self._differences = DifferencesView(self.session, self.theme, self.playback)
            self.views.addWidget(self._differences)
        return self._differences

    @property
    def tests(self) -> ListeningTestsView:
        """The view of that tab, made when it is first needed."""
        if self._tests is None:
            self._tests = ListeningTestsView(self.session)
            self._tests.continue_wanted.connect(self._continue)
            self._tests.another_wanted.connect(self._another)
            self.views.addWidget(self._tests)
        return self._tests

    def _fill_main(self) -> None:
        line = QHBoxLayout(self.main_view)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        middle, side = ScrolledArea(), ScrolledArea()
        side.setObjectName("live")
        line.addWidget(middle, 1)
        line.addWidget(side)
        self.view = TrialView(self.theme)
        middle.hold(self.view)
        inside = WrappingWidget()
        side.hold(inside)
        self._fill_side(inside)
        side.setFixedWidth(max(_SIDE_WIDTH, inside.minimumSizeHint().width() + _BAR_WIDTH))

    def _fill_side(self, side: QWidget) -> None:
        layout = QVBoxLayout(side)
        layout.setContentsMargins(18, 12, 14, 12)
        layout.setSpacing(14)
        self.clips, self.design, self.test = ClipsBox(), DesignBox(), RunningTestBox()
        self.matched, self.output, self.notes = MatchedBox(), OutputBox(), NotesBox()
        for box in (self.clips, self.design, self.test, self.matched, self.output, self.notes):
            layout.addWidget(box)
        layout.addStretch(1)

    def _connect(self) -> None:
        listening, playback = self.listening, self.playback
        self.session.opened.connect(self._forget)
        self.session.overview_changed.connect(self.refresh)
        self.session.devices_found.connect(self._devices_found)
        self.tabs.chosen.connect(lambda keys: self.show_part(keys[0]))
        self.view.kinds.chosen.connect(lambda _: self._kind_chosen())
        self.clips.changed.connect(self._choice_changed)
        self.design.start_wanted.connect(self._start)
        self.design.hand_out_wanted.connect(self._ask_where)
        self.design.save_wanted.connect(lambda: listening.keep_free_notes(self.design.listener.text().strip()))
        self.design.strict.toggled.connect(lambda _: self._show_matched())
        self.test.leave_wanted.connect(listening.leave)
        self.test.stop_wanted.connect(self._ask_to_stop)
        self.view.letters.wanted.connect(self._label_wanted)
        self.view.answers.answered.connect(listening.answer)
        self.view.cancel.clicked.connect(lambda _: listening.cancel())
        self.view.play.clicked.connect(lambda _: playback.toggle())
        self.view.loop.looped.connect(self._looped)
        self.view.loop.jumped.connect(playback.jump)
        self.output.device_chosen.connect(self._device_chosen)
        self.output.level_set.connect(playback.set_level)
        self.notes.written.connect(listening.note)
        listening.changed.connect(self._show_trial)
        listening.working.connect(self.view.show_work)
        listening.finished.connect(self._finished)
        playback.changed.connect(self._show_playback)
        playback.moved.connect(self.view.loop.show_place)
        playback.heard.connect(self._heard)
        playback.lost.connect(self._lost)

    def _forget(self) -> None:
        """Another study is open: what was selected and heard is of the former one, whose runs have the same numbers."""
        self.playback.stop()
        self.playback.load({}, 1.0)
        self._wanted, self._loaded, self._shown = set(), None, None
        self.clips.show_rows([], ())
        if self._differences is not None:
            self._differences.show_rows([], ())
        if self._tests is not None:
            self._tests.forget()
        self.show_part(_LISTENING)

    def _shortcuts(self) -> None:
        def add(keys: str, do: object) -> None:
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(do)

        for letter in (*"ABCDEFGH", "R"):
            add(letter, lambda key=letter: self._key(key))
        add("P", self.playback.toggle)
        add("Left", lambda: self.playback.jump(self.playback.place - _STEP))
        add("Right", lambda: self.playback.jump(self.playback.place + _STEP))
        for place in range(2):
            add(str(place + 1), lambda place=place: self.view.answers.choose(place))

    # -- what the window asks ----------------------------------------------------------------------

    def take_runs(self, run_ids: Sequence[int]) -> None:
        """Take the runs that are selected in the matrix as clips, unless a test is under way."""
        if self.listening.in_test:
            return
        wanted = set(run_ids) & {one.run.id for one in self._runs()}
        if wanted and wanted != self._wanted:
            self._wanted = wanted
            self.refresh(anew=True)

    def show_part(self, key: str) -> None:
        """Show a tab; during a test only the letters."""
        if self.listening.in_test:
            key = _LISTENING
        if key not in (_LISTENING, _DIFFERENCES, _TESTS):
            return
        self.tabs.set_on([key])
        self.views.setCurrentWidget(self._view_of(key))
        self.playback.stop()
        if key == _LISTENING:
            self._loaded = None
            self._show_trial()
        elif key == _DIFFERENCES:
            self.differences.show_rows(self._runs(), [run for _, run in self.clips.chosen()])
        else:
            self.tests.refresh()

    def _view_of(self, key: str) -> QWidget:
        if key == _DIFFERENCES:
            return self.differences
        if key == _TESTS:
            return self.tests
        return self.main_view

    def refresh(self, *, anew: bool = False) -> None:
        """Follow the study: its rows with programme, its chain. Clips are prepared only for a page that is in view."""
        self.setEnabled(self.session.study is not None)
        overview = self.session.overview
        if overview is None or not self.isVisible():
            return
        self._show_chain(overview.settings.get(STUDY_CHAIN, ""))
        runs = self._runs()
        there = [one.run.id for one in runs]
        if anew or there != self.clips.listed():
            # without a selection, those of one column: they were measured with the same music
            first = [one.run.id for one in runs if one.run.column_id == runs[0].run.column_id][:_MOST_FIRST]
            self.clips.show_rows(runs, (self._wanted & set(there)) or first)
            if not self.listening.in_test:
                self._choice_changed()
        self._show_trial()

    def _runs(self) -> list[HearableRun]:
        overview = self.session.overview
        return runs_to_hear(overview) if overview is not None else []

    def _show_chain(self, text: str) -> None:
        try:
            chain = chain_from_toml(text)
        except EpidoteError as error:
            self.failed.emit(in_window(error))
            return
        playback = self.playback
        stored = str(preferences().value(_DEVICE, "")) or chain.device
        if not playback.device:
            playback.device = stored
        playback.outputs = chain.outputs if playback.device == chain.device else (1, 2)
        playback.ceiling = chain.ceiling_dbfs
        playback.set_level(min(playback.level, chain.ceiling_dbfs))
        if self.session.devices is not None and self.output.device.count() == 0:
            self._devices_found(self.session.devices)

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.view.set_theme(theme)
        if self._differences is not None:
            self._differences.set_theme(theme)

    def mute(self) -> None:
        """All output was stopped."""
        self.playback.pause()

    def showEvent(self, event: object) -> None:
        """Catch up with the study."""
        self.refresh()

    def hideEvent(self, event: object) -> None:
        """Nothing sounds from a page that is not in view."""
        self.playback.stop()

    # -- choosing clips and tests ------------------------------------------------------------------

    def _kind_chosen(self) -> None:
        self.design.show_kind(self.view.kind)
        self._show_trial()

    def _choice_changed(self) -> None:
        """Prepare the clips that are chosen now."""
        self._wanted = {run for _, run in self.clips.chosen()}
        choice = self.clips.choice(KINDS[FreeListeningKind.key])
        count = len(choice.parts) + choice.original
        if self.listening.in_test:
            return
        if count < 2:
            self.listening.cancel()
            self.listening.prepared = self.listening.drawn = self.listening.sitting = None
            self._show_trial()
            return
        self.listening.prepare(choice)

    def _start(self) -> None:
        self.listening.start(
            self.clips.choice(self.view.kind), self.design.design(), self.design.listener.text().strip()
        )

    def _ask_where(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Export blind test", str(Path.home() / "listening test.zip"), "ZIP file (*.zip);;Folder (*)"
        )
        if path:
            self.listening.hand_out(self.clips.choice(self.view.kind), self.design.design(), Path(path))

    def _ask_to_stop(self) -> None:
        sitting = self.listening.sitting
        if sitting is None:
            return
        words = (
            f"{len(sitting.sheet.answers)} of {sitting.test.trials} trials are answered. The result will note that the"
            " test was stopped before its end."
        )
        ask_whether(self, "Stop test", words, "Stop test", self._stop_answered)

    def _stop_answered(self, yes: bool) -> None:
        if yes:
            self.listening.stop_early()

    def _continue(self, listed: ListedTest) -> None:
        unfinished = listed.unfinished
        if unfinished is not None:
            self.show_part(_LISTENING)
            self.listening.resume(listed.test, *unfinished)

    def _another(self, listed: ListedTest, listener: str) -> None:
        self.show_part(_LISTENING)
        self.listening.sit_another(listed.test, listener)

    def _finished(self, number: str) -> None:
        self.tests.refresh(number)
        self.show_part(_TESTS)

    # -- playing -----------------------------------------------------------------------------------

    def _key(self, key: str) -> None:
        label = next((label for label in self.view.letters.targets if key_of(label) == key), "")
        if label:
            self._label_wanted(label)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Play the unknown clip with the space bar; without one it plays and pauses."""
        if event.key() != Qt.Key.Key_Space:
            super().keyPressEvent(event)
            return
        if UNKNOWN in self.view.letters.targets:
            self._label_wanted(UNKNOWN)
        else:
            self.playback.toggle()

    def _label_wanted(self, label: str) -> None:
        self.playback.select(label)

    def _heard(self, label: str) -> None:
        sitting = self.listening.sitting
        if sitting is not None:
            sitting.hear(label)
            self._show_playback()

    def _lost(self, why: str) -> None:
        """Take the trial again, as the device went away; nothing of it is counted."""
        sitting = self.listening.sitting
        if sitting is None:
            return
        sitting.take_again()
        if self.listening.in_test:
            self.failed.emit(
                f"{why} Answers so far are saved; this trial is repeated and not counted. Check the output"
                " device, or select another one, and play."
            )
        self._show_playback()

    def _looped(self, first: float, last: float) -> None:
        self.playback.set_loop(first, last)
        self._show_playback()

    def _devices_found(self, devices: list[tuple[str, str]]) -> None:
        """List the devices; without one that was chosen before, the first is taken."""
        if not self.playback.device and devices:
            self.playback.device = devices[0][0]
        self.output.show_devices(devices, self.playback.device)

    def _device_chosen(self, name: str) -> None:
        preferences().setValue(_DEVICE, name)
        self.playback.stop()
        self.playback.device = name
        self.playback.set_level(USUAL_LEVEL)  # nobody knows how loud another device is
        self.refresh()

    # -- showing -----------------------------------------------------------------------------------

    def _show_trial(self) -> None:
        """Show the clips, and the trial where a test is under way."""
        listening = self.listening
        sitting, in_test = listening.sitting, listening.in_test
        if self.views.currentWidget() is not self.main_view:
            return
        self._load(listening.drawn)
        trial = (listening.drawn, sitting.trial, in_test) if sitting is not None else None
        is_new = trial != self._shown
        self._shown = trial
        self.view.show_trial(sitting, in_test=in_test, busy=listening.busy, is_new=is_new)
        if sitting is not None and is_new:
            self.playback.show_labels([(t.label, t.code) for t in sitting.targets])
        self.clips.setVisible(not in_test)
        self.design.setVisible(not in_test)
        self.test.setVisible(in_test)
        if sitting is not None and in_test:
            self.test.show_test(sitting.test)
        for key in (_DIFFERENCES, _TESTS):
            self.tabs.button(key).setEnabled(not in_test)
        ready = not listening.busy and (sitting is not None or self.view.kind.needs_original)
        self.design.allow(ready=ready, clips=self.clips.count(self.view.kind))
        self._show_matched()
        self._show_playback()

    def _load(self, drawn: object) -> None:
        """Have the clips at hand ready to sound."""
        if drawn is self._loaded:
            return
        self._loaded = drawn
        self._shown = None
        if self.listening.drawn is None or self.listening.prepared is None:
            return
        self.playback.load(self.listening.drawn.sounds, self.listening.drawn.rate)
        original = self.listening.prepared.original
        frames = next(iter(self.listening.drawn.sounds.values())).shape[0]
        self.view.loop.show_original(original[:frames, 0], self.listening.prepared.rate)
        self.playback.set_loop(0.0, 0.0)

    def _show_matched(self) -> None:
        prepared = self.listening.prepared
        self.matched.show_clips(prepared)
        self.design.show_difference(prepared.matched.difference if prepared is not None else None)

    def _show_playback(self) -> None:
        self.view.show_playback(self.playback, self.listening.sitting, in_test=self.listening.in_test)
        self.output.show_level(self.playback.level, self.playback.ceiling)
        self._show_note()

    def _show_note(self) -> None:
        sitting, label = self.listening.sitting, self.playback.label
        if sitting is None or not self.view.letters.targets:
            self.notes.show_note("", "")
            return
        self.notes.show_note(label, sitting.note_on(label))
