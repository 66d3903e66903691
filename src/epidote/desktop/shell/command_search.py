"""Any command by typing a part of its words: where it is, its key, and why it is greyed if it is."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QVBoxLayout, QWidget

from epidote.desktop.shell.actions import Command
from epidote.desktop.shell.menus import Menus
from epidote.desktop.theme import font
from epidote.desktop.widgets.help_key import listen_for_help
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell

_UP_AND_DOWN = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)


def matches(command: Command, typed: str) -> bool:
    """Whether every word that was typed begins a word of the command or of its menu."""
    words = f"{command.title} {command.path}".lower().replace("-", " ").split()
    return all(any(word.startswith(part) for word in words) for part in typed.lower().replace("-", " ").split())


class CommandSearch(QDialog):
    """A line to type in above the commands that match; Enter carries out the chosen one."""

    def __init__(self, parent: QWidget, menus: Menus) -> None:
        super().__init__(parent)
        listen_for_help(self)
        self.setProperty("help", "windows")
        self.setWindowTitle("Find command")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(620, 420)
        self._menus = menus
        self.found: list[Command] = []
        layout = QVBoxLayout(self)
        self.line = QLineEdit()
        self.line.setAccessibleName("Words of the command")
        self.line.setPlaceholderText("Words of the command, e.g. “add row” or “limit”")
        self.line.textChanged.connect(lambda _: self._search())
        self.line.returnPressed.connect(self.carry_out)
        self.line.installEventFilter(self)
        self.table = ReadOnlyTable("Commands")
        self.table.choose_rows()
        self.table.activated.connect(lambda _: self.carry_out())
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self._show_reason())
        self.reason = Label()
        self.reason.setProperty("quiet", True)
        self.reason.setWordWrap(True)
        for widget in (self.line, self.table, self.reason):
            layout.addWidget(widget)
        self._search()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let the arrows move in the list while the line keeps the focus."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress and event.key() in _UP_AND_DOWN:
            self.table.keyPressEvent(event)
            return True
        return super().eventFilter(watched, event)

    def _search(self) -> None:
        candidates = [c for c in self._menus.commands if c.fill is None and c.name != "find command"]
        self.found = [c for c in candidates if matches(c, self.line.text())]
        small = font(0.9)
        heads = [TableCell(words, small, right=False) for words in ("Command", "Menu", "Key")]
        rows = [
            [
                TableCell(c.title, font(1.0), right=False),
                TableCell(c.path, small, right=False),
                TableCell(c.shortcut, small, right=False),
            ]
            for c in self.found
        ]
        self.table.show_cells(heads, rows)
        self.table.resizeColumnsToContents()
        if self.found:
            self.table.selectRow(0)
        self._show_reason()

    def _current(self) -> Command | None:
        row = self.table.currentIndex().row()
        if 0 <= row < len(self.found):
            return self.found[row]
        return None

    def _show_reason(self) -> None:
        command = self._current()
        if command is None:
            words = "No command matches."
        else:
            words = command.missing() or "Enter runs the command."
        self.reason.setText(words)

    def carry_out(self) -> None:
        """Carry out the chosen command, and close."""
        command = self._current()
        if command is not None and not command.missing():
            self.accept()
            self._menus.carry_out(command)
