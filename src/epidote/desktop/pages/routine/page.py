"""The Routine page: a serial number, one key, a verdict; the next unit."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QWidget,
)

from epidote.core.errors import EpidoteError, in_window
from epidote.desktop.pages.page import Page
from epidote.desktop.pages.routine.bench_side import BenchSide
from epidote.desktop.pages.routine.last_units import SHOWN
from epidote.desktop.pages.routine.pass_words import progress_words, report_words
from epidote.desktop.pages.routine.passing import Passing
from epidote.desktop.pages.routine.routine_side import RoutineSide
from epidote.desktop.pages.routine.unit_view import UnitView
from epidote.desktop.preferences import preferences
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.question import ask_whether
from epidote.desktop.widgets.scrolled import ScrolledArea
from epidote.desktop.widgets.tabbed_views import tabs_over_views
from epidote.desktop.widgets.wording import LOADING
from epidote.measurement.chain_for_row import chain_of_study
from epidote.measurement.routine.outcome import StepOutcome, step_title
from epidote.measurement.routine.runner import PassReport, require_serial
from epidote.measurement.routine.storage import routines_of
from epidote.measurement.routine.switching import commands_in_words

if TYPE_CHECKING:
    from epidote.core.routine.checking import RoutineCheck
    from epidote.core.routine.model import Routine
    from epidote.desktop.pages.routine.statistics_view import StatisticsView
    from epidote.study.passes import PassCounts, RoutinePass
    from epidote.study.store import Study

_UNITS, _STATISTICS = "units", "statistics"
_LEFT_WIDTH, _RIGHT_WIDTH = 360, 330  # pixels
READY, MEASURING, CHECKING = "ready", "measuring", "checking"
_ALLOWED = "allowed commands"


class RoutinePage(Page):
    """Everything by keyboard: Enter in the serial number begins, Enter after the verdict goes on to the next unit."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("help", "routine")
        self.session, self.theme = session, theme
        self.passing = Passing(session, self)
        self.report: PassReport | None = None
        self._check: RoutineCheck | None = None
        self._checked: object = None
        self._outcomes: dict[int, StepOutcome] = {}
        self._running = 0
        self._began = 0.0
        self._statistics: StatisticsView | None = None
        self._build()
        self._connect()

    # -- building ------------------------------------------------------------------------------------

    def _build(self) -> None:
        options = [(_UNITS, "Units"), (_STATISTICS, "Statistics")]
        self.tabs, self.views, self.main_view = tabs_over_views(self, options)
        line = QHBoxLayout(self.main_view)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        left, middle, right = ScrolledArea(), ScrolledArea(), ScrolledArea()
        left.setFixedWidth(_LEFT_WIDTH)
        right.setFixedWidth(_RIGHT_WIDTH)
        right.setObjectName("live")
        line.addWidget(left)
        line.addWidget(middle, 1)
        line.addWidget(right)
        self.side, self.unit, self.bench = RoutineSide(self.theme), UnitView(self.theme), BenchSide(self.theme)
        for area, inside in ((left, self.side), (middle, self.unit), (right, self.bench)):
            area.hold(inside)

    def _forget(self) -> None:
        """Another study is open: its routines and units may have the same names."""
        self.report = self._check = self._checked = None
        self._outcomes, self._running = {}, 0
        self.side.routines.clear()
        self.side.steps.clear()
        self.unit.clear()
        self.bench.last.clear()
        if self._statistics is not None:
            self._statistics.forget()

    def _connect(self) -> None:
        self.session.opened.connect(self._forget)
        self.session.overview_changed.connect(self.refresh)
        self.tabs.chosen.connect(lambda keys: self.show_part(keys[0]))
        self.side.routines.activated.connect(lambda _: self._routine_chosen())
        self.side.edit.clicked.connect(lambda _: self.action_wanted.emit("edit routine"))
        self.side.import_button.clicked.connect(lambda _: self.action_wanted.emit("import routine"))
        self.unit.serial.returnPressed.connect(self.press_enter)
        self.unit.serial.textEdited.connect(lambda _: self._serial_edited())
        self.unit.begin.clicked.connect(lambda _: self.press_enter())
        self.unit.again.clicked.connect(lambda _: self.measure_again())
        self.unit.stop.clicked.connect(lambda _: self.passing.stop())
        self.bench.last.unit_wanted.connect(self.row_wanted)
        self.unit.prompt.answered.connect(self._answered)
        passing = self.passing
        passing.step_began.connect(self._step_began)
        passing.step_progressed.connect(self._step_progressed)
        passing.step_ended.connect(self._step_ended)
        passing.asked.connect(self._asked)
        passing.ended.connect(self._ended)
        passing.refused.connect(self._refused)
        # no letter is a key here: a scanner types them
        for keys in ("Ctrl+Return", "Ctrl+Enter"):
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(self.measure_again)

    # -- what the window asks ------------------------------------------------------------------------

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        for part in (self.side.steps, self.unit.verdict, self.bench.last):
            part.set_theme(theme)
        if self._statistics is not None:
            self._statistics.set_theme(theme)

    def show_part(self, key: str) -> None:
        """Show a tab."""
        if key not in (_UNITS, _STATISTICS):
            return
        self.tabs.set_on([key])
        if key == _STATISTICS:
            self.views.setCurrentWidget(self.statistics)
            self.statistics.refresh()
            return
        self.views.setCurrentWidget(self.main_view)
        self._focus()

    @property
    def statistics(self) -> StatisticsView:
        """The view of that tab, made when it is first needed."""
        if self._statistics is None:
            from epidote.desktop.pages.routine.statistics_view import StatisticsView

            self._statistics = StatisticsView(self.session, self.theme)
            self._statistics.failed.connect(self.failed)
            self.views.addWidget(self._statistics)
        return self._statistics

    @property
    def routine(self) -> Routine | None:
        """The routine that is selected."""
        overview = self.session.overview
        if overview is None:
            return None
        there = {stored.routine.name: stored.routine for stored in routines_of(overview.entries)}
        return there.get(self.side.routines.currentText())

    def routine_in_view(self) -> Routine | None:
        return self.routine

    def mute(self) -> None:
        """All output was stopped, and with it a question that waits."""
        self.passing.stop()

    def showEvent(self, event: object) -> None:
        self.refresh()
        self._focus()

    def hideEvent(self, event: object) -> None:
        """Give the device back to the other pages."""
        if not self.passing.under_way:
            self.passing.release()

    def _focus(self) -> None:
        """Put the keyboard where it is needed next: a scanner writes wherever that is."""
        if self.unit.prompt.asking:
            return
        self.unit.serial.setFocus()
        if self.report is not None:
            self.unit.serial.selectAll()  # what is scanned next takes its place

    def refresh(self) -> None:
        """Follow the study: its routines, the chain, the last units."""
        self.setEnabled(self.session.study is not None)
        overview = self.session.overview
        if overview is None or not self.isVisible():
            return
        names = [stored.routine.name for stored in routines_of(overview.entries)]
        self.side.show_names(names)
        self._show_routine()
        self._ask_for_passes()
        if self._statistics is not None and self._statistics.isVisible():
            self._statistics.refresh()

    # -- the routine ---------------------------------------------------------------------------------

    def _routine_chosen(self) -> None:
        self.report = None
        self._show_routine()
        self.bench.last.clear()
        self._ask_for_passes()
        self._focus()

    def _show_routine(self) -> None:
        """Show the steps of the selected routine, checked as a whole on the study's chain."""
        routine, overview = self.routine, self.session.overview
        self.side.show_whether_there_is_one(routine is not None)
        if routine is None or overview is None:
            self._checked = None
            self._show_state()
            return
        key = (routine, overview.settings.get("chain", ""))
        if key != self._checked:
            self._checked, self._check = key, None
            settings = dict(overview.settings)
            self.side.steps.show_steps([step_title(step) for step in routine.step])
            self.side.about.setText(LOADING)
            self._outcomes = {}
            self.report = None
            self.session.ask(lambda _: _checked_routine(routine, settings), self._show_check)
        self._show_state()

    def _show_check(self, check: RoutineCheck) -> None:
        routine = self.routine
        if routine is None:
            return
        self._check = check
        self.side.show_check(routine, check)
        self._show_state()

    def _ask_for_passes(self) -> None:
        routine = self.routine
        if routine is None:
            return
        name = routine.name

        def ask(study: Study) -> tuple[tuple[RoutinePass, ...], PassCounts]:
            return study.passes.last(name, SHOWN), study.passes.counts(name)

        def show(found: tuple[tuple[RoutinePass, ...], PassCounts]) -> None:
            from epidote.core.statistics.proportion import yield_of

            passes, counts = found
            self.bench.last.show_passes(passes, counts, yield_of(counts.first_passed, counts.units))

        self.session.ask(ask, show)

    # -- one unit ------------------------------------------------------------------------------------

    def press_enter(self) -> None:
        """Begin with a unit or go on to the next one: whatever comes next."""
        if self.unit.prompt.asking:
            self.unit.prompt.take_focus()
        elif self.passing.under_way:
            return  # a scanner's Enter during a pass does nothing
        elif self.report is not None:
            self.next_unit()
        else:
            self.measure()

    def next_unit(self) -> None:
        """Make ready for the next serial number."""
        self.report = None
        self.unit.serial.clear()
        self.unit.known.setText("")
        self._outcomes = {}
        self.side.steps.clear()
        self._show_state()
        self._focus()

    def measure_again(self) -> None:
        """Measure the same unit once more; the first pass stays the first."""
        if self.report is not None and not self.passing.under_way:
            self.report = None
            self.measure()

    def measure(self) -> None:
        """Begin a pass over the unit whose serial number is entered."""
        routine = self.routine
        self.unit.problem.setText("")
        if routine is None:
            self.unit.problem.setText("No routine. Create one from a measured row, or import one.")
            return
        if not self.session.writable:
            self.unit.problem.setText(
                "The study is read-only. Nothing was measured; close it elsewhere, or open a copy."
            )
            return
        try:
            serial = require_serial(routine, self.unit.serial.text())
        except EpidoteError as error:
            self.unit.problem.setText(in_window(error))
            self.unit.serial.selectAll()
            return
        if routine.commands and not self._commands_allowed(routine):
            self._ask_for_commands(routine)
            return
        request = self.bench.request(serial)
        self.report = None
        self.unit.known.setText("")
        self._outcomes = {}
        self._running = 0
        self._began = time.monotonic()
        self.side.steps.clear()
        self.passing.start(routine, request, commands_allowed=bool(routine.commands))
        self._show_state()

    @staticmethod
    def _commands_allowed(routine: Routine) -> bool:
        from epidote.core.routine.text import digest_of

        return digest_of(routine) in str(preferences().value(_ALLOWED, ""))

    def _ask_for_commands(self, routine: Routine) -> None:
        """Show every command in full, and ask once per routine."""
        shown = "\n".join(commands_in_words(routine))
        words = (
            f"“{routine.name}” runs these commands on this computer:\n\n{shown}\n\nAllow them only if you trust them."
        )

        def answered(yes: bool) -> None:
            from epidote.core.routine.text import digest_of

            if yes:
                known = str(preferences().value(_ALLOWED, ""))
                preferences().setValue(_ALLOWED, f"{known} {digest_of(routine)}".strip())
                self.measure()

        ask_whether(self, "Commands of the routine", words, "Allow commands", answered)

    def _serial_edited(self) -> None:
        self.unit.problem.setText("")
        if self.report is not None:
            # a scanner that begins with the next unit needs no key in between
            text = self.unit.serial.text()
            self.next_unit()
            self.unit.serial.setText(text)
        self._tell_known()

    def _tell_known(self) -> None:
        """Say whether this serial number was measured before."""
        routine, serial = self.routine, self.unit.serial_entered
        if routine is None or not serial:
            self.unit.known.setText("")
            return

        def show(passes: tuple[RoutinePass, ...]) -> None:
            if serial != self.unit.serial_entered:
                return
            words = ""
            if passes:
                last = passes[-1]
                words = (
                    f"Already measured: {last.verdict}, {last.begun.astimezone():%d %b %Y %H:%M}. Enter measures again."
                )
            self.unit.known.setText(words)

        self.session.ask(lambda study: study.passes.of_serial(routine.name, serial), show)

    # -- a pass under way ----------------------------------------------------------------------------

    def _step_began(self, number: int) -> None:
        if not self.passing.under_way:  # of a study that was closed meanwhile
            return
        self._running = number
        self.side.steps.show_running(number, 0.0)
        self._show_state()

    def _step_progressed(self, number: int, share: float) -> None:
        if number == self._running:
            self.side.steps.show_running(number, share)

    def _step_ended(self, outcome: StepOutcome) -> None:
        if not self.passing.under_way:  # of a study that was closed meanwhile
            return
        self._outcomes[outcome.number] = outcome
        if outcome.number == self._running:
            self._running = 0
            self.side.steps.show_running(0, 0.0)
        self.side.steps.show_outcome(outcome)
        self._show_state()

    def _asked(self, number: int, question: object) -> None:
        """Show what the routine asks, with its picture."""
        if not self.passing.under_way:  # of a study that was closed meanwhile
            return
        picture = getattr(question, "picture", "")
        self.session.ask(
            lambda study: _picture_of(study, picture), lambda content: self._show_question(question, content)
        )

    def _show_question(self, question: object, content: bytes) -> None:
        routine = self.routine
        if self.passing.under_way and routine is not None:
            self.unit.prompt.ask(question, content, routine)
            self._show_state()

    def _answered(self, answer: object) -> None:
        self.passing.answer(answer)
        self._show_state()
        self.unit.serial.setFocus()

    def _refused(self, words: str) -> None:
        self.unit.problem.setText(words)

    def _ended(self, report: PassReport | None) -> None:
        self.report = report
        self._running = 0
        self.unit.prompt.close_question()
        self.side.steps.show_running(0, 0.0)
        if report is not None:
            for outcome in report.outcomes:
                self.side.steps.show_outcome(outcome)
            _sound(report)
        self._show_state()
        self._focus()
        if not self.isVisible():
            self.passing.release()

    # -- showing -------------------------------------------------------------------------------------

    def _show_state(self) -> None:
        """Show verdict, words and buttons as the pass stands."""
        under_way, report = self.passing.under_way, self.report
        word = READY
        if under_way:
            word = MEASURING if self._running or self._outcomes else CHECKING
        elif report is not None:
            word = report.kept.verdict
        if self.routine is None:
            word = ""
        self.unit.show_verdict(word, self._detail())
        self.unit.serial.setReadOnly(under_way)
        usable = self._check is not None and not self._check.problems and self.session.writable
        self.unit.begin.setEnabled(not under_way and self.routine is not None and usable)
        self.unit.begin.setText("Next unit" if report is not None and not under_way else "Measure")
        self.unit.again.setEnabled(report is not None and not under_way)
        self.unit.stop.setEnabled(under_way)
        self.side.routines.setEnabled(not under_way)
        self.side.edit.setEnabled(not under_way and self.session.writable)

    def _detail(self) -> str:
        """Return what stands below the verdict."""
        report = self.report
        if report is not None and not self.passing.under_way:
            return report_words(report)
        routine = self.routine
        if routine is None:
            return ""
        if not self.passing.under_way:
            return "Scan or enter a serial number, then press Enter"
        left = None
        if self._check is not None:
            left = self._check.seconds - (time.monotonic() - self._began)
        return progress_words(routine, self._running, self._outcomes.values(), left)


def _checked_routine(routine: Routine, settings: dict[str, str]) -> RoutineCheck:
    """Return the check of a routine on the chain of a study, on the store's thread."""
    from epidote.core.routine.checking import check_routine

    return check_routine(routine, chain_of_study(settings))


def _picture_of(study: Study, name: str) -> bytes:
    """Return a picture that the study keeps under a name; b"" where there is none."""
    if not name:
        return b""
    for entry in study.entries.all("picture"):
        if name in (entry.data.get("name"), entry.file):
            return study.entries.read(entry)
    return b""


def _sound(report: PassReport) -> None:
    """Ring once for a unit that passed, twice for any other: words, colour and sound say the same."""
    QApplication.beep()
    if report.kept.verdict != "passed":
        QApplication.beep()
