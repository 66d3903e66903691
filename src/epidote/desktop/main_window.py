"""The window: pages in one bar at the top, the trust strip at the bottom, and every command by menu and keyboard."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QIcon, QKeySequence, QPainter, QPixmap
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop import edits
from epidote.desktop.commands import GROUPS, Command
from epidote.desktop.matrix.page import MatrixPage
from epidote.desktop.plot.marks import crystal_mark
from epidote.desktop.session import Session, Wanted
from epidote.desktop.theme import Theme, apply_theme, chosen_theme, font
from epidote.desktop.trust_strip import TrustStrip
from epidote.study.models import Subject
from epidote.study.store import SUFFIX

MESSAGE_SECONDS = 12


class MainWindow(QMainWindow):
    def __init__(self) -> None:
        super().__init__()
        self.theme: Theme = chosen_theme()
        self.session = Session(self)
        self.setWindowTitle("Epidote")
        self.setWindowIcon(self._icon())
        self.resize(1280, 800)
        self.setMinimumSize(900, 600)
        self.matrix = MatrixPage(self.session, self.theme)
        self.pages: dict[str, QWidget] = {"Matrix": self.matrix}
        central = QWidget()
        layout = QVBoxLayout(central)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.commands = self._commands()
        layout.addWidget(self._top_bar())
        self.message = QLabel()
        self.message.setWordWrap(True)
        self.message.setProperty("caution", True)
        self.message.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.message.hide()
        layout.addWidget(self.message)
        self.stack = QStackedWidget()
        for page in self.pages.values():
            self.stack.addWidget(page)
        layout.addWidget(self.stack, 1)
        self.strip = TrustStrip(self.session, self.edit_chain, self._choose_baseline)
        layout.addWidget(self.strip)
        self.setCentralWidget(central)
        self._message_timer = QTimer(self)
        self._message_timer.setSingleShot(True)
        self._message_timer.timeout.connect(self.message.hide)
        self.session.overview_changed.connect(self._overview_changed)
        self.session.failed.connect(self.say)
        self.session.said.connect(self.say)
        self.matrix.failed.connect(self.say)
        self.matrix.lower_built.connect(self._lower_built)
        self.session.undo.indexChanged.connect(self._overview_changed)
        self._overview_changed()
        self.menu_button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.matrix.table.setFocus()

    # -- building -----------------------------------------------------------------------------------------------------------

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
        for i, name in enumerate(self.pages):
            button = QToolButton()
            button.setText(name)
            button.setCheckable(True)
            button.setChecked(True)
            button.setProperty("page", True)
            button.clicked.connect(lambda _=False, n=i: self.stack.setCurrentIndex(n))
            group.addButton(button)
            layout.addWidget(button)
        layout.addStretch(1)
        self.saved = QLabel("every step is saved")
        self.saved.setProperty("quiet", True)
        self.title = QLabel()
        self.title.setFont(font(1.1))
        layout.addWidget(self.saved)
        layout.addSpacing(8)
        layout.addWidget(self.title)
        return bar

    def _commands(self) -> list[Command]:
        m = self.matrix
        return [
            Command("new", "New study …", "Ctrl+N", "Study", self.new_study),
            Command("open", "Open a study …", "Ctrl+O", "Study", self.choose_study),
            Command("demo", "Open the demo study", "", "Study", self.open_demo),
            Command("chain", "The chain …", "Ctrl+K", "Study", self.edit_chain, True),
            Command("export", "Export graph or numbers …", "Ctrl+E", "Study", self.export),
            Command("preferences", "Preferences …", "Ctrl+,", "Study", self.edit_preferences),
            Command("quit", "Quit", "Ctrl+Q", "Study", self._quit),
            Command("undo", "Undo", "Ctrl+Z", "Row", self.session.undo.undo, True),
            Command("redo", "Redo", "Ctrl+Shift+Z", "Row", self.session.undo.redo, True),
            Command("add row", "Add a row …", "Ctrl+R", "Row", self.add_row, True),
            Command("change row", "Change the row …", "F2", "Row", self.change_row, True),
            Command("duplicate", "Duplicate the row with one condition changed …", "Ctrl+D", "Row", self.duplicate_row, True),
            Command("reference", "Make the row the reference", "Ctrl+B", "Row", self.toggle_reference, True),
            Command("show row", "Show or hide the row on the graph", "Ctrl+H", "Row", self.toggle_row, True),
            Command("delete row", "Delete the row", "Ctrl+Delete", "Row", self.delete_row, True),
            Command("add column", "Add a column …", "Ctrl+Shift+C", "Run", self.add_column, True),
            Command("delete column", "Delete the column", "", "Run", self.delete_column, True),
            Command("measure", "Measure the chosen empty cells", "Ctrl+M", "Run", m.measure_empty, True),
            Command("again", "Run again", "F5", "Run", m.run_again, True),
            Command("recompute", "Recompute with other settings …", "Ctrl+Shift+R", "Run", m.offer_recompute, True),
            Command("repeat", "Repeat the reference's procedures on this row", "Ctrl+Shift+D", "Run", self.repeat_reference, True),
            Command("delete run", "Delete the run", "Ctrl+Backspace", "Run", self.delete_run, True),
            Command("stop", "Stop measuring", "Esc", "Run", self.session.cancel),
            Command("whole column", "Choose the whole column", "Ctrl+L", "Graph", m.choose_column),
            Command("next view", "Next kind of curve", "Ctrl+Right", "Graph", m.next_view),
            Command("previous view", "Previous kind of curve", "Ctrl+Left", "Graph", lambda: m.next_view(-1)),
            Command("percent", "% or dB", "Ctrl+U", "Graph", m.toggle_percent),
            Command("channel 1", "Channel 1 on or off", "Ctrl+1", "Graph", lambda: m.toggle_channel(1)),
            Command("channel 2", "Channel 2 on or off", "Ctrl+2", "Graph", lambda: m.toggle_channel(2)),
            Command("corners", "Pins at the -3 dB points", "Ctrl+3", "Graph", m.pin_corners, True),
            Command("clear pins", "Remove the pins", "", "Graph", m.clear_pins, True),
            Command("whole graph", "Show the whole graph", "Ctrl+0", "Graph", self._whole_graph),
            Command("to matrix", "Go to the matrix", "F6", "View", m.table.setFocus),
            Command("to graph", "Go to the graph", "F7", "View", self._focus_graph),
            Command("to side", "Go to the readings or settings", "F8", "View", self._focus_side),
        ]

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        self.actions_by_name: dict[str, QAction] = {}
        for group in GROUPS:
            part = menu if group == "Study" else QMenu(group, menu)
            if part is not menu:
                menu.addMenu(part)
            for command in self.commands:
                if command.group == group:
                    action = QAction(command.words, self)
                    if command.shortcut:
                        action.setShortcut(QKeySequence(command.shortcut))
                    action.triggered.connect(lambda _=False, c=command: c.do())
                    part.addAction(action)
                    self.addAction(action)
                    if group in ("Row", "Run") and command.name not in ("undo", "redo"):
                        self.matrix.table.addAction(action)
                    self.actions_by_name[command.name] = action
            if group == "Study":
                menu.addSeparator()
        return menu

    def _lower_built(self) -> None:
        """What the page's lower half offers leads to the window's commands."""
        repeat = QMenu(self)
        repeat.aboutToShow.connect(lambda: self._fill_repeat(repeat))
        self.matrix.readings.repeat.setMenu(repeat)
        self.matrix.graph_panel.export.clicked.connect(self.export)

    def _fill_repeat(self, menu: QMenu) -> None:
        menu.clear()
        overview = self.session.overview
        for subject in overview.subjects if overview else ():
            if overview and subject.id != overview.reference and not subject.is_baseline:
                menu.addAction(f"the reference's procedures on {subject.full_name}", partial(self.matrix.repeat_reference_on, subject))
        menu.addAction("a new row with one condition changed …", self.duplicate_row)

    # -- saying -------------------------------------------------------------------------------------------------------------

    def say(self, words: str) -> None:
        """A sentence under the bar that goes away by itself."""
        self.message.setText(words)
        self.message.show()
        self._message_timer.start(MESSAGE_SECONDS * 1000)

    def _overview_changed(self, _index: int = 0) -> None:
        overview, writable = self.session.overview, self.session.writable
        self.title.setText(overview.title if overview else "")
        self.saved.setText("" if overview is None else "every step is saved" if writable else "read only")
        self.setWindowTitle(f"{overview.title} – Epidote" if overview else "Epidote")
        for command in self.commands:
            if command.edits:
                self.actions_by_name[command.name].setEnabled(writable)
        for name, stack_can, text in (
            ("undo", self.session.undo.canUndo(), self.session.undo.undoText()),
            ("redo", self.session.undo.canRedo(), self.session.undo.redoText()),
        ):
            action = self.actions_by_name[name]
            action.setEnabled(writable and stack_can)
            action.setText(f"{name.capitalize()}: {text[:1].lower()}{text[1:]}" if text else name.capitalize())

    # -- commands -----------------------------------------------------------------------------------------------------------

    def open_demo(self) -> None:
        """The demo study; what is not measured yet is measured before your eyes."""
        from epidote.study.store import Study

        def opener() -> Study:
            from epidote.demo.scenario import demo_path, open_demo

            path = demo_path()
            return Study(path) if path.exists() else open_demo(path)

        def then() -> None:
            overview = self.session.overview
            if overview is not None and self.session.writable:
                rows = sorted(overview.subjects, key=lambda s: s.is_baseline)
                missing = [(s, c) for s in rows for c in overview.columns if s.device and (s.id, c.id) not in overview.runs]
                if missing:
                    self.session.measure([Wanted((s.id, c.id), c.settings) for s, c in missing])

        self.session.open(opener, then)

    def new_study(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        name, _ = QFileDialog.getSaveFileName(self, "New study", str(Path.home() / f"Study{SUFFIX}"), f"Studies (*{SUFFIX})")
        if name:
            self.session.create(Path(name), Path(name).stem)

    def choose_study(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        name = QFileDialog.getExistingDirectory(self, f"Open a study (a folder that ends in {SUFFIX})", str(Path.home()))
        if name:
            self.session.open_path(Path(name))

    def export(self) -> None:
        if not self.matrix.built or self.matrix.graph_panel.graph.figure() is None:
            self.say("There is nothing on the graph to export: choose measured cells first.")
            return
        from PySide6.QtWidgets import QFileDialog

        kinds = "Picture (*.png);;Drawing (*.svg);;Curves as CSV (*.csv);;Readings as CSV (*readings.csv)"
        name, kind = QFileDialog.getSaveFileName(self, "Export", str(Path.home() / f"{self.title.text()}.png"), kinds)
        if name:
            path = Path(name)
            ending = ".svg" if "svg" in kind else ".csv" if "csv" in kind else ".png"
            if path.suffix.lower() not in (".png", ".svg", ".csv"):
                path = path.with_name(path.name + ("" if "readings" not in kind else " readings") + ending)
            self.matrix.export(path)

    def edit_preferences(self) -> None:
        from epidote.desktop.dialogs import PreferencesDialog

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
        self.matrix.set_theme(self.theme)

    def edit_chain(self) -> None:
        if not self.session.writable:
            return
        from epidote.core.chain import Chain, chain_from_toml, chain_to_toml
        from epidote.desktop.dialogs import ModelDialog

        def show(before: str) -> None:
            values = (chain_from_toml(before) if before else Chain()).model_dump()
            note = "What lies between the computer's numbers and the unit's terminals. New runs use this; finished ones keep the chain they were made with."
            dialog = ModelDialog(self, "The chain", "Use", Chain, values, note)
            if dialog.exec():
                edits.set_chain(self.session, before, chain_to_toml(Chain.model_validate(dialog.form.values())))

        self.session.ask(lambda study: study.chain_toml, show)

    def _choose_baseline(self) -> None:
        overview = self.session.overview
        if overview and overview.columns:
            column = self.matrix.current_column() or overview.columns[0]
            self.matrix.choose([s.id for s in overview.subjects if s.is_baseline], column.id)

    def _whole_graph(self) -> None:
        self.matrix.graph_panel.graph.reset_view()

    def _focus_graph(self) -> None:
        self.matrix.graph_panel.graph.setFocus()

    def _focus_side(self) -> None:
        target: QWidget = (
            self.matrix.readings.table if self.matrix.side.currentWidget() is self.matrix.readings else self.matrix.run_panel.go
        )
        target.setFocus()

    def _row_dialog(self, start: Subject | None, *, duplicate: bool, then: Any) -> None:
        from epidote.audio.devices import devices
        from epidote.desktop.dialogs import RowDialog

        def show(units: Any) -> None:
            dialog = RowDialog(self, units, [(d.name, d.title) for d in devices()], start, duplicate=duplicate)
            if dialog.exec():
                then(dialog)

        self.session.ask(lambda study: study.units(), show)

    def add_row(self) -> None:
        def then(dialog: Any) -> None:
            v, unit = dialog.values(), dialog.unit()
            if unit is None:
                edits.add_unit_with_row(
                    self.session, v["maker"], v["model"], v["serial"], v["firmware"], v["notes"], v["conditions"], v["device"]
                )
            else:
                edits.add_row(self.session, unit, v["conditions"], v["device"], None)

        self._row_dialog(None, duplicate=False, then=then)

    def change_row(self) -> None:
        subject = self.matrix.current_subject()
        if subject is None or subject.unit is None:
            return
        unit = subject.unit

        def then(dialog: Any) -> None:
            v = dialog.values()
            from dataclasses import replace

            after = replace(unit, maker=v["maker"], model=v["model"], serial=v["serial"], firmware=v["firmware"], notes=v["notes"])
            if after != unit:
                edits.change_unit(self.session, unit, after)
            if (v["conditions"], v["device"]) != (dict(subject.conditions), subject.device):
                edits.change_row(self.session, subject, f"Change {subject.full_name}", conditions=v["conditions"], device=v["device"])

        self._row_dialog(subject, duplicate=False, then=then)

    def duplicate_row(self) -> None:
        """A new row that differs in one condition; the reference's procedures are offered for it in the same menu."""
        subject = self.matrix.current_subject()
        if subject is None or subject.unit is None:
            self.say("Choose a row of a unit first; the baseline cannot be duplicated.")
            return
        unit = subject.unit
        self._row_dialog(
            subject, duplicate=True, then=lambda d: edits.add_row(self.session, unit, d.values()["conditions"], d.values()["device"], subject.id)
        )  # fmt: skip

    def repeat_reference(self) -> None:
        subject, overview = self.matrix.current_subject(), self.session.overview
        if subject is None or overview is None:
            return
        if overview.reference is None:
            self.say("There is no reference row yet: make one with Ctrl+B, then repeat its procedures on another row.")
        elif subject.id == overview.reference:
            self.say("This row is the reference itself. Choose the row that is to be measured like it.")
        else:
            self.matrix.repeat_reference_on(subject)

    def toggle_reference(self) -> None:
        subject, overview = self.matrix.current_subject(), self.session.overview
        if subject is not None and overview is not None:
            edits.set_reference(self.session, None if overview.reference == subject.id else subject)

    def toggle_row(self) -> None:
        subject = self.matrix.current_subject()
        if subject is not None:
            edits.change_row(self.session, subject, f"{'Hide' if subject.shown else 'Show'} {subject.full_name}", shown=not subject.shown)

    def delete_row(self) -> None:
        subject = self.matrix.current_subject()
        if subject is not None and not subject.is_baseline:
            edits.delete_row(self.session, subject)

    def delete_run(self) -> None:
        run = self.matrix.model.run(self.matrix.table.currentIndex())
        if run is not None:
            edits.delete_run(self.session, run.id)

    def add_column(self) -> None:
        from PySide6.QtWidgets import QInputDialog

        from epidote.core.procedures.base import procedures
        from epidote.desktop.dialogs import ModelDialog

        found = procedures()
        titles = {p.title: key for key, p in found.items()}
        title, chosen = QInputDialog.getItem(self, "Add a column", "Procedure", sorted(titles), 0, False)
        if chosen:
            carried = found[titles[title]]
            dialog = ModelDialog(
                self, f"Add a column: {title}", "Add", carried.Settings, {}, "The settings that this column's empty cells offer."
            )
            if dialog.exec():
                edits.add_column(self.session, titles[title], dialog.form.values())

    def delete_column(self) -> None:
        column = self.matrix.current_column()
        if column is not None:
            edits.delete_column(self.session, column)

    def _quit(self) -> None:
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        self._message_timer.stop()
        self.session.close()
        event.accept()
