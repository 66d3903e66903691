"""The window: pages in one bar at the top, the trust strip at the bottom, and every command by menu and keyboard."""

from __future__ import annotations

from functools import partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QIcon, QKeySequence, QPainter, QPixmap
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.pages.matrix.page import MatrixPage
from epidote.desktop.plotting.icons import crystal_mark
from epidote.desktop.shell.actions import GROUPS, Command, commands_of
from epidote.desktop.shell.file_actions import FileActions
from epidote.desktop.shell.lazy_page import LazyPage
from epidote.desktop.shell.page_list import FIRST, PAGES, PageKind
from epidote.desktop.shell.row_actions import RowActions
from epidote.desktop.shell.trust_strip import TrustStrip
from epidote.desktop.state.faults import faults
from epidote.desktop.state.run_queue import RunRequest
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme, apply_theme, chosen_theme, font
from epidote.desktop.widgets.plain import Label, button_text
from epidote.study.store import SUFFIX

if TYPE_CHECKING:
    from epidote.desktop.pages.page import Page

MESSAGE_SECONDS = 12


def _load_the_rest() -> None:
    """On the study's thread, before somebody waits for it: the other pages' modules, and what analyses and unequal
    grids need.
    """
    for name in (
        *(kind.module for kind in PAGES),
        "scipy.fft",
        "scipy.interpolate",
        "scipy.special",
    ):
        import_module(name)


class MainWindow(QMainWindow):
    """The window: its pages, its actions, its messages."""

    def __init__(self) -> None:
        super().__init__()
        self.theme: Theme = chosen_theme()
        self.session = Session(self)
        self.setWindowTitle("Epidote")
        self.setWindowIcon(self._icon())
        self.resize(1280, 800)
        self.setMinimumSize(900, 600)
        self.matrix = MatrixPage(self.session, self.theme)
        self.matrix.setFocusProxy(self.matrix.table)
        self.rows, self.files = RowActions(self), FileActions(self)
        self.pages: dict[str, Page | LazyPage[Page]] = {
            kind.title: self.matrix if kind.title == FIRST else LazyPage(partial(self._make_page, kind))
            for kind in PAGES
        }
        central = QWidget()
        layout = QVBoxLayout(central)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.commands = commands_of(self, self.session, self.matrix, self.rows, self.files)
        layout.addWidget(self._top_bar())
        layout.addLayout(self._build_message())
        self._fault = ""
        faults().told.connect(self._tell_fault, Qt.ConnectionType.QueuedConnection)
        self.stack = QStackedWidget()
        for page in self.pages.values():
            self.stack.addWidget(page)
        self.stack.setCurrentWidget(self.matrix)
        layout.addWidget(self.stack, 1)
        self.strip = TrustStrip(self.session, self.show_chain, self._choose_baseline)
        layout.addWidget(self.strip)
        self.setCentralWidget(central)
        self._connect()
        self._overview_changed()
        self.menu_button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.matrix.table.setFocus()

    def _build_message(self) -> QHBoxLayout:
        """Return the line below the top bar for messages, with a button for the details of a fault."""
        self.message = Label()
        self.message.setWordWrap(True)
        self.message.setProperty("caution", True)
        self.message.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.message.hide()
        self.details = QToolButton()
        self.details.setText("Details")
        self.details.setToolTip("Show what is needed for a report")
        self.details.clicked.connect(self._show_details)
        self.details.hide()
        line = QHBoxLayout()
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self.message, 1)
        line.addWidget(self.details)
        return line

    def _connect(self) -> None:
        self._message_timer = QTimer(self)
        self._message_timer.setSingleShot(True)
        self._message_timer.timeout.connect(self._hide_message)
        self.session.overview_changed.connect(self._overview_changed)
        self.session.failed.connect(self.say)
        self.session.said.connect(self.say)
        self.session.runs.asked.connect(self._ask)
        self.matrix.failed.connect(self.say)
        self.matrix.lower_built.connect(self._lower_built)
        self.matrix.settled.connect(lambda: self.session.aside(_load_the_rest, lambda _: None, self.say))
        self.session.undo.indexChanged.connect(self._overview_changed)
        self.matrix.table.selectionModel().currentChanged.connect(lambda *_: self._show_states())

    @property
    def widget(self) -> QWidget:
        """The parent of dialogs."""
        return self

    @property
    def study_title(self) -> str:
        return self.title.text()

    def _make_page(self, kind: PageKind) -> Page:
        page = kind.make(self.session, self.theme)
        page.failed.connect(self.say)
        page.action_wanted.connect(lambda name: self.actions_by_name[name].trigger())
        return page

    # -- building ----------------------------------------------------------------------------------

    def _icon(self) -> QIcon:
        pixmap = QPixmap(64, 64)
        pixmap.fill(Qt.GlobalColor.transparent)
        p = QPainter(pixmap)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        crystal_mark(p, QRectF(8, 4, 48, 56), self.theme.colour("accent"))
        p.end()
        return QIcon(pixmap)

    def _top_bar(self) -> QWidget:
        bar = QWidget()
        bar.setObjectName("topBar")
        layout = QHBoxLayout(bar)
        layout.setContentsMargins(14, 0, 14, 0)
        layout.setSpacing(4)
        self.menu_button = QToolButton()
        self.menu_button.setText("Epidote")
        self.menu_button.setIcon(self._icon())
        self.menu_button.setIconSize(QSize(18, 18))
        self.menu_button.setFont(font(1.1, bold=True))
        self.menu_button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.menu_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_button.setShortcut(QKeySequence("F10"))
        self.menu_button.setMenu(self._menu())
        layout.addWidget(self.menu_button)
        layout.addSpacing(12)
        group = QButtonGroup(bar)
        self.page_buttons: dict[str, QToolButton] = {}
        for name in self.pages:
            button = QToolButton()
            button.setText(name)
            button.setCheckable(True)
            button.setChecked(name == FIRST)
            button.setProperty("page", True)
            button.clicked.connect(lambda _=False, n=name: self.show_page(n))
            group.addButton(button)
            self.page_buttons[name] = button
            layout.addWidget(button)
        layout.addStretch(1)
        self.saved = Label("All changes saved")
        self.saved.setProperty("quiet", True)
        self.title = Label()
        self.title.setFont(font(1.1))
        layout.addWidget(self.saved)
        layout.addSpacing(8)
        layout.addWidget(self.title)
        return bar

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        self.actions_by_name: dict[str, QAction] = {}
        for group in GROUPS:
            if group == "Study":
                part = menu
            else:
                part = QMenu(group, menu)
            if part is not menu:
                menu.addMenu(part)
            for command in self.commands:
                if command.group == group:
                    action = QAction(command.words, self)
                    if command.shortcut:
                        action.setShortcuts([QKeySequence(command.shortcut)])
                    action.setCheckable(command.state is not None)
                    action.triggered.connect(lambda _=False, c=command: self._carry_out(c))
                    part.addAction(action)
                    self.addAction(action)
                    if group in ("Row", "Run") and command.name not in ("undo", "redo"):
                        self.matrix.table.addAction(action)
                    self.actions_by_name[command.name] = action
            part.aboutToShow.connect(self._show_states)
            if group == "Study":
                menu.addSeparator()
        return menu

    def _carry_out(self, command: Command) -> None:
        command.do()
        self._show_states()

    def _show_states(self) -> None:
        """Commands that switch something show how it stands."""
        for command in self.commands:
            if command.state is not None:
                self.actions_by_name[command.name].setChecked(command.state())

    def _lower_built(self) -> None:
        """Connect what the page's lower half offers to the window's commands."""
        repeat = QMenu(self)
        repeat.aboutToShow.connect(lambda: self._fill_repeat(repeat))
        self.matrix.readings.repeat.setMenu(repeat)
        self.matrix.graph_panel.export.clicked.connect(self.files.export)

    def _fill_repeat(self, menu: QMenu) -> None:
        menu.clear()
        overview = self.session.overview
        for subject in overview.subjects if overview else ():
            if overview and subject.id != overview.reference and not subject.is_baseline:
                menu.addAction(button_text(subject.full_name), partial(self.matrix.repeat_reference_on, subject))
        menu.addAction("New row with one condition changed…", self.rows.duplicate_row)

    # -- saying ------------------------------------------------------------------------------------

    def say(self, words: str) -> None:
        """Show a sentence under the bar that goes away by itself."""
        self.message.setText(words)
        self.message.show()
        self.details.hide()
        self._message_timer.start(MESSAGE_SECONDS * 1000)

    def _hide_message(self) -> None:
        self.message.hide()
        self.details.hide()

    def _tell_fault(self, words: str, details: str) -> None:
        """Show a mistake in the program, wherever it happened; its details on demand."""
        self._fault = details
        self.say(words)
        self.details.show()

    def _show_details(self) -> None:
        from epidote.desktop.shell.fault_dialog import FaultDialog

        FaultDialog(self, self._fault, faults().log_path).open()

    def _overview_changed(self, _index: int = 0) -> None:
        overview, writable = self.session.overview, self.session.writable
        self.title.setText(overview.title if overview else "")
        state = "All changes saved" if writable else "Read-only"
        self.saved.setText(state if overview else "")
        self.setWindowTitle(f"{overview.title} – Epidote" if overview else "Epidote")
        for command in self.commands:
            if command.edits:
                self.actions_by_name[command.name].setEnabled(writable)
        self._show_states()
        for name, stack_can, text in (
            ("undo", self.session.undo.canUndo(), self.session.undo.undoText()),
            ("redo", self.session.undo.canRedo(), self.session.undo.redoText()),
        ):
            action = self.actions_by_name[name]
            action.setEnabled(writable and stack_can)
            action.setText(
                button_text(f"{name.capitalize()}: {text[:1].lower()}{text[1:]}") if text else name.capitalize()
            )

    # -- commands ----------------------------------------------------------------------------------

    def open_demo(self) -> None:
        """Open the demo study; what is not measured yet is measured before your eyes."""
        from epidote.study.store import Study

        def opener() -> Study:
            from epidote.demo.scenario import demo_path, open_demo

            path = demo_path()
            if path.exists():
                return Study(path)
            return open_demo(path)

        def then() -> None:
            overview = self.session.overview
            if overview is not None and self.session.writable:
                rows = sorted(overview.subjects, key=lambda s: not s.is_baseline)
                missing = [
                    (s, c) for s in rows for c in overview.columns if s.device and (s.id, c.id) not in overview.runs
                ]
                if missing:
                    self.session.runs.measure([RunRequest((s.id, c.id), c.settings) for s, c in missing])

        self.session.open(opener, then)

    def new_study(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        name, _ = QFileDialog.getSaveFileName(
            self, "New study", str(Path.home() / f"Study{SUFFIX}"), f"Studies (*{SUFFIX})"
        )
        if name:
            self.session.create(Path(name), Path(name).stem)

    def choose_study(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        name = QFileDialog.getExistingDirectory(
            self, f"Open study: select a folder ending in {SUFFIX}", str(Path.home())
        )
        if name:
            self.session.open_path(Path(name))

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
        self.menu_button.setIcon(self._icon())
        for page in self._made_pages():
            page.set_theme(self.theme)

    def show_page(self, name: str) -> None:
        """Go to a page of the bar."""
        index = list(self.pages).index(name)
        self.page_buttons[name].setChecked(True)
        self.stack.setCurrentIndex(index)
        self.pages[name].setFocus()

    def show_chain(self, block: str = "source") -> None:
        """Show the Chain page with a block chosen."""
        self.show_page("Chain")
        page = self.page_named("Chain")
        if page is not None:
            page.show_part(block)

    def page_named(self, title: str) -> Page | None:
        """Return a page; None before it was shown for the first time."""
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

    def quit(self) -> None:
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        self._message_timer.stop()
        self.session.close()
        event.accept()
