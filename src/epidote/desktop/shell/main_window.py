"""The window: menu bar and pages at the top, the trust strip at the bottom, every command by menu and keyboard."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QRectF, Qt, QTimer
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDragLeaveEvent,
    QDropEvent,
    QIcon,
    QPainter,
    QPixmap,
    QStatusTipEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.pages.start.page import StartPage
from epidote.desktop.plotting.icons import crystal_mark
from epidote.desktop.theme import Theme, apply_theme, chosen_theme

if TYPE_CHECKING:
    from PySide6.QtCore import QPoint

    from epidote.core.routine.model import Routine
    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.desktop.pages.page import Page
    from epidote.desktop.shell.actions import Command
    from epidote.desktop.shell.file_actions import FileActions
    from epidote.desktop.shell.guided.panel import GuidedPanel
    from epidote.desktop.shell.lazy_page import LazyPage
    from epidote.desktop.shell.menus import Menus
    from epidote.desktop.shell.message_bar import MessageBar
    from epidote.desktop.shell.page_bar import PageBar
    from epidote.desktop.shell.page_list import PageKind
    from epidote.desktop.shell.row_actions import RowActions
    from epidote.desktop.shell.study_actions import StudyActions
    from epidote.desktop.shell.trust_strip import TrustStrip
    from epidote.desktop.state.session import Session

_UNDO = "Undo"


class MainWindow(QMainWindow):
    """The window: its pages, its actions, its messages.

    With the start page alone it shows at once; ``complete`` loads and builds the rest.
    """

    session: Session
    matrix: MatrixPage
    rows: RowActions
    files: FileActions
    studies: StudyActions
    pages: dict[str, Page | LazyPage[Page]]
    commands: list[Command]
    menus: Menus
    page_bar: PageBar
    message: MessageBar
    strip: TrustStrip

    def __init__(self, *, at_once: bool = True) -> None:
        """at_once: whole; else ``complete`` is to be called once the start page was painted."""
        super().__init__()
        self.theme: Theme = chosen_theme()
        self.setWindowTitle("Epidote")
        self.setWindowIcon(self._icon())
        self.resize(1280, 800)
        self.setMinimumSize(900, 600)
        self._fault = ""
        self.guided: GuidedPanel | None = None
        self.completed = False
        self.start = StartPage(self.theme)
        self.setCentralWidget(self.start)
        if at_once:
            self.complete()

    def complete(self) -> None:
        """Build all that the start page does not need; it stays in view meanwhile."""
        from epidote.desktop.pages.matrix.page import MatrixPage
        from epidote.desktop.shell.actions import commands_of
        from epidote.desktop.shell.air_actions import AirActions
        from epidote.desktop.shell.file_actions import FileActions
        from epidote.desktop.shell.lazy_page import LazyPage
        from epidote.desktop.shell.menus import Menus
        from epidote.desktop.shell.page_list import FIRST, PAGES
        from epidote.desktop.shell.routine_actions import RoutineActions
        from epidote.desktop.shell.row_actions import RowActions
        from epidote.desktop.shell.study_actions import StudyActions
        from epidote.desktop.state.session import Session

        self.session = Session(self)
        self.setAcceptDrops(True)
        self.matrix = MatrixPage(self.session, self.theme)
        self.matrix.setFocusProxy(self.matrix.table)
        self.rows, self.files, self.studies = RowActions(self), FileActions(self), StudyActions(self)
        self.air = AirActions(self, self.matrix)
        self.routines = RoutineActions(self, self._routine_in_view)
        self.pages = {
            kind.title: self.matrix if kind.title == FIRST else LazyPage(partial(self._make_page, kind))
            for kind in PAGES
        }
        self.commands = commands_of(
            self, self.session, self.matrix, self.rows, self.files, air=self.air, routines=self.routines
        )
        self.menus = Menus(self, self.commands, self.say)
        self.actions_by_name = self.menus.actions
        self.setMenuBar(self.menus.bar)
        self._build_central(FIRST)
        self.completed = True
        self._connect()
        self._overview_changed()
        self.show_start()

    def _build_central(self, first: str) -> None:
        """Build what is below the menu bar: page bar, messages, pages, strip."""
        from epidote.desktop.shell.message_bar import MessageBar
        from epidote.desktop.shell.page_bar import PageBar
        from epidote.desktop.shell.trust_strip import TrustStrip

        self.takeCentralWidget()
        central = QWidget()
        layout = QVBoxLayout(central)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.page_bar = PageBar(self.pages)
        self.page_bar.show_page(first)
        layout.addWidget(self.page_bar)
        self.message = MessageBar()
        layout.addWidget(self.message)
        self.stack = QStackedWidget()
        for page in (*self.pages.values(), self.start):
            self.stack.addWidget(page)
        self.middle = QHBoxLayout()
        self.middle.setSpacing(0)
        self.middle.addWidget(self.stack, 1)
        layout.addLayout(self.middle, 1)
        selection = self.matrix.selection
        self.strip = TrustStrip(self.session, self.show_chain, self._choose_baseline, selection.current_subject)
        selection.changed.connect(self.strip.row_changed)
        layout.addWidget(self.strip)
        self.setCentralWidget(central)

    def _connect(self) -> None:
        from epidote.desktop.shell.page_list import load_the_rest
        from epidote.desktop.state.faults import faults

        session, matrix = self.session, self.matrix
        faults().told.connect(self._tell_fault, Qt.ConnectionType.QueuedConnection)
        self.page_bar.page_wanted.connect(self.show_page)
        session.overview_changed.connect(self._overview_changed)
        session.opened.connect(self._study_opened)
        session.failed.connect(self.say)
        session.said.connect(self.say)
        session.deleted.connect(lambda words: self.message.say(words, _UNDO, session.undo.undo))
        session.runs.asked.connect(self._ask)
        matrix.failed.connect(self.say)
        matrix.lower_built.connect(self._lower_built)
        matrix.menu_wanted.connect(self._show_context_menu)
        matrix.action_wanted.connect(self.menus.carry_out_named)
        matrix.settled.connect(lambda: session.aside(load_the_rest, lambda _: None, self.say))
        session.undo.indexChanged.connect(self._overview_changed)
        matrix.table.selectionModel().currentChanged.connect(lambda *_: self.menus.show_states())
        self.strip.stop.clicked.connect(self.silence)
        self.start.action_wanted.connect(self.menus.carry_out_named)
        self.start.study_wanted.connect(session.open_path)
        self.start.failed.connect(self.say)
        self.start.attach(session)

    @property
    def widget(self) -> QWidget:
        """The parent of dialogs."""
        return self

    @property
    def study_title(self) -> str:
        return self.page_bar.title.text()

    def _make_page(self, kind: PageKind, parent: QWidget) -> Page:
        page = kind.make(self.session, self.theme, parent)
        page.failed.connect(self.say)
        page.action_wanted.connect(self.menus.carry_out_named)
        page.row_wanted.connect(self._show_row)
        return page

    def _routine_in_view(self) -> Routine | None:
        """Return the routine that the Routine page shows; None before the page was shown."""
        page = self.page_named("Routine")
        return page.routine_in_view() if page is not None else None

    def _show_row(self, subject_id: int) -> None:
        """Show the Matrix page with a row selected."""
        from epidote.desktop.shell.page_list import FIRST

        overview = self.session.overview
        if overview is None or overview.subject(subject_id) is None:
            return
        self.show_page(FIRST)
        measured = [column for column in overview.columns if (subject_id, column.id) in overview.runs]
        if measured:
            self.matrix.selection.select([subject_id], measured[0].id)

    # -- building ----------------------------------------------------------------------------------

    def _icon(self) -> QIcon:
        pixmap = QPixmap(64, 64)
        pixmap.fill(Qt.GlobalColor.transparent)
        p = QPainter(pixmap)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        crystal_mark(p, QRectF(8, 4, 48, 56), self.theme.colour("accent"))
        p.end()
        return QIcon(pixmap)

    def _lower_built(self) -> None:
        """Connect what the page's lower half offers to the window's commands."""
        repeat = QMenu(self)
        repeat.aboutToShow.connect(lambda: self._fill_repeat(repeat))
        self.matrix.readings.repeat.setMenu(repeat)
        self.matrix.graph_panel.pins.setMenu(self.menus.context_menu("pins", self))
        self.matrix.readings.copy_table.clicked.connect(lambda _: self.menus.carry_out_named("copy table"))

    def _fill_repeat(self, menu: QMenu) -> None:
        from epidote.desktop.widgets.plain import button_text

        menu.clear()
        menu.addAction(self.actions_by_name["repeat often"])
        menu.addSeparator()
        overview = self.session.overview
        for subject in overview.subjects if overview else ():
            if overview and subject.id != overview.reference and not subject.is_baseline:
                words = f"Measure {subject.full_name} like reference"
                menu.addAction(button_text(words), partial(self.matrix.repeat_reference_on, subject))
        menu.addAction("New row with one condition changed…", self.rows.duplicate_row)

    def _show_context_menu(self, place: str, where: QPoint) -> None:
        menu = self.menus.context_menu(place, self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(where)

    # -- saying ------------------------------------------------------------------------------------

    def say(self, words: str) -> None:
        """Show a sentence under the bar that goes away by itself."""
        self.message.say(words)

    def _tell_fault(self, words: str, details: str) -> None:
        """Show a mistake in the program, wherever it happened; its details on demand."""
        self._fault = details
        self.message.say(words, "Details", self._show_details, "Show what is needed for a report")

    def _show_details(self) -> None:
        from epidote.desktop.shell.fault_dialog import FaultDialog
        from epidote.desktop.state.faults import faults

        FaultDialog(self, self._fault, faults().log_path).open()

    def event(self, event: QEvent) -> bool:
        """Status tips, which say why a command is greyed, are shown in the strip."""
        if isinstance(event, QStatusTipEvent) and self.completed:
            self.strip.show_tip(event.tip())
            return True
        return super().event(event)

    def _overview_changed(self) -> None:
        overview, writable = self.session.overview, self.session.writable
        self.page_bar.show_study(overview.title if overview else "", writable=writable)
        self.setWindowTitle(f"{overview.title} – Epidote" if overview else "Epidote")
        self.menus.show_writable()
        self.menus.show_states()
        self.menus.show_undo_texts(self.session.undo.undoText(), self.session.undo.redoText())

    def _close_windows_of_study(self) -> None:
        """Close windows that show or ask something about the study that was left; the guide stays."""
        from epidote.desktop.shell.fault_dialog import FaultDialog
        from epidote.desktop.shell.help_window import HelpWindow

        for dialog in self.findChildren(QDialog):
            if not isinstance(dialog, HelpWindow | FaultDialog):
                dialog.close()

    def _study_opened(self) -> None:
        from epidote.desktop.shell.page_list import FIRST

        self._close_windows_of_study()
        self.message.withdraw(_UNDO)
        QTimer.singleShot(0, self.studies.remember)
        self.show_page(FIRST)
        overview = self.session.overview
        if overview is not None and '"open": true' in overview.settings.get("guided", ""):
            self.show_guided()
        elif self.guided is not None:
            self.guided.hide()

    # -- commands ----------------------------------------------------------------------------------

    def new_study(self) -> None:
        self.studies.new_study()

    def choose_study(self) -> None:
        self.studies.choose_study()

    def open_demo(self) -> None:
        self.studies.open_demo()

    def fill_recent(self, menu: QMenu) -> None:
        self.studies.fill_recent(menu)

    def edit_preferences(self) -> None:
        from epidote.desktop.widgets.dialogs import PreferencesDialog

        dialog = PreferencesDialog(self)
        if dialog.exec():
            dialog.store()
            self.apply_theme()

    def apply_theme(self) -> None:
        """Dress everything in the chosen theme and text size."""
        app = QApplication.instance()
        self.theme = chosen_theme()
        if isinstance(app, QApplication):
            apply_theme(app, self.theme)
        self.setWindowIcon(self._icon())
        self.start.set_theme(self.theme)
        for page in self._made_pages():
            page.set_theme(self.theme)

    def show_start(self) -> None:
        """Show the start page; the open study stays open."""
        self.page_bar.setVisible(self.session.study is not None)
        self.page_bar.show_page("")
        self.start.refresh()
        self.stack.setCurrentWidget(self.start)
        self.start.buttons["new"].setFocus()

    def page_in_view(self) -> str:
        """Return the title of the page in view; "" for the start page."""
        return next((title for title, page in self.pages.items() if page is self.stack.currentWidget()), "")

    def show_page(self, name: str) -> None:
        """Go to a page of the bar."""
        self.page_bar.setVisible(True)
        self.page_bar.show_page(name)
        self.stack.setCurrentWidget(self.pages[name])
        self.pages[name].setFocus()
        page = self.page_named(name)
        if page is not None:
            page.take_runs([run.id for _, run in self.matrix.selection.selected_runs()])
        self.menus.show_states()

    def show_chain(self, block: str = "source") -> None:
        """Show the Chain page with a block chosen."""
        self.show_page("Chain")
        page = self.page_named("Chain")
        if page is not None:
            page.show_part(block)

    def page_named(self, title: str) -> Page | None:
        """Return a page; None before it was shown for the first time."""
        from epidote.desktop.shell.lazy_page import LazyPage

        page = self.pages[title]
        return page.page if isinstance(page, LazyPage) else page

    def _made_pages(self) -> list[Page]:
        return [page for title in self.pages if (page := self.page_named(title)) is not None]

    def silence(self) -> None:
        """Nothing sounds after this, from whatever page it is asked."""
        self.session.mute()
        for page in self._made_pages():
            page.mute()

    def _ask(self, words: str) -> None:
        """Ask before a run goes on; the window stays usable, and Escape says no."""
        from epidote.desktop.widgets.question import ask_whether

        ask_whether(self, "Chain changed", words, "Measure at full level", self.session.runs.answer)

    def _choose_baseline(self) -> None:
        self.show_page("Matrix")
        overview = self.session.overview
        if overview and overview.columns:
            column = self.matrix.selection.current_column() or overview.columns[0]
            self.matrix.selection.select([s.id for s in overview.subjects if s.is_baseline], column.id)

    def whole_graph(self) -> None:
        if not self.matrix.built:
            return
        self.matrix.graph_panel.graph.reset_view()

    def focus_graph(self) -> None:
        if not self.matrix.built:
            return
        self.matrix.graph_panel.graph.setFocus()

    def focus_side(self) -> None:
        if not self.matrix.built:
            return
        target: QWidget
        if self.matrix.side.currentWidget() is self.matrix.readings:
            target = self.matrix.readings.table
        else:
            target = self.matrix.run_panel.go
        target.setFocus()

    def find_command(self) -> None:
        """Find a command by typing."""
        from epidote.desktop.shell.command_search import CommandSearch

        CommandSearch(self, self.menus).open()

    def show_help(self, key: str = "") -> None:
        """Open the guide at what has the focus, or at a page of its own."""
        from epidote.desktop.shell.help_window import page_for, show_help

        place = page_for(QApplication.focusWidget(), "matrix" if self.page_in_view() else "start")
        commands = [(c.path.partition(",")[0], c.title, c.shortcut) for c in self.commands if c.shortcut]
        show_help(self, commands, key or place)

    def show_guided(self) -> None:
        """Begin the first measurement step by step, or go on with it; a study is made where none is open."""
        if self.session.study is None:
            self.studies.create_numbered("My interface", self.show_guided)
            return
        if self.guided is None:
            from epidote.desktop.shell.guided.panel import GuidedPanel

            self.guided = GuidedPanel(self.session)
            self.guided.action_wanted.connect(self._guided_action)
            self.guided.closed.connect(self._leave_guided)
            self.middle.insertWidget(0, self.guided)
        self.guided.show()
        self.guided.begin()

    def _leave_guided(self) -> None:
        if self.guided is not None:
            self.guided.keep(is_open=False)
            self.guided.hide()

    def _guided_action(self, name: str) -> None:
        """Carry out what a step of the guide offers: a command, or one of two things that only it asks for."""
        if name == "check path":
            self.show_chain("output")
            page = self.page_named("Chain")
            if page is not None:
                page.check_path()
        elif name == "measure loop":
            self.rows.queue_baseline(only_present=True)
        elif name == "measure first row":
            self.show_page("Matrix")
            self.matrix.measure_first_row()
        else:
            self.menus.carry_out_named(name)

    def show_shortcuts(self) -> None:
        """Every command with its key, by menu."""
        self.show_help("shortcuts")

    def show_about(self) -> None:
        """Which version this is, and of what it is made."""
        self.show_help("about")

    def quit(self) -> None:
        self.close()

    # -- files dropped anywhere --------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        from epidote.desktop.shell import dropped_files

        words = dropped_files.offer(event.mimeData())
        if words:
            self.strip.show_tip(words)
            event.acceptProposedAction()

    def dragLeaveEvent(self, event: QDragLeaveEvent) -> None:
        self.strip.show_tip("")

    def dropEvent(self, event: QDropEvent) -> None:
        from epidote.desktop.shell import dropped_files

        self.strip.show_tip("")
        event.acceptProposedAction()
        dropped_files.take(event.mimeData(), self.session, self.files)

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.completed:
            self.message.clear()
            self.session.close()
        event.accept()
