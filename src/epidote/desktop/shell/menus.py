"""The menu bar and the context menus, made from the list of commands."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu, QMenuBar, QWidget

from epidote.desktop.shell.actions import MENUS, Command
from epidote.desktop.widgets.plain import button_text, plain_tip

# of the Matrix page's context menus: what stands in each, "" for a separator
ROW_MENU = (
    "add row",
    "change row",
    "row chain",
    "duplicate",
    "delete row",
    "",
    "reference",
    "show row",
    "row up",
    "row down",
    "",
    "repeat",
)
CELL_MENU = (
    *("measure", "again", "other settings", "repeat often", "recompute", "align", "history", ""),
    *("keep source", "sounds", "", "delete run"),
)
COLUMN_MENU = ("add column", "delete column", "headline", "", "column left", "column right", "whole column")
EMPTY_MENU = ("add row", "add column", "baseline")
GRAPH_MENU = ("copy graph", "export", "", "corners", "clear pins", "whole graph", "large graph", "four graphs")

PIN_MENU = ("corners", "apply pin", "clear pins")

PLACES = {
    "row": ROW_MENU,
    "cell": CELL_MENU,
    "column": COLUMN_MENU,
    "empty": EMPTY_MENU,
    "graph": GRAPH_MENU,
    "pins": PIN_MENU,
}


class Menus:
    """One QAction for each command, in the menu bar and as shortcut.

    A command that cannot be carried out is greyed in the open menu, and says why in the status line. Its key
    says the same, so between openings only what a read-only study forbids is disabled.
    """

    def __init__(self, window: QMainWindow, commands: Sequence[Command], refused: Callable[[str], None]) -> None:
        self.commands = list(commands)
        self.actions: dict[str, QAction] = {}
        self._by_name = {c.name: c for c in commands}
        self._refused = refused
        self.bar = QMenuBar(window)
        self.bar.setAccessibleName("Menu bar")
        self.menus: dict[str, QMenu] = {}
        exclusive = QActionGroup(window)
        for title in MENUS:
            self._menu(title.replace("&", ""), title)
        for command in self.commands:
            action = self._action(command, window)
            if command.name.startswith("page "):
                exclusive.addAction(action)

    def _menu(self, path: str, words: str) -> QMenu:
        """Return the menu at a path without marks, made if it is not there yet."""
        menu = self.menus.get(path)
        if menu is None:
            parent, _, _ = path.rpartition("/")
            if parent:
                menu = self.menus[parent].addMenu(words)
            else:
                menu = self.bar.addMenu(words)
            menu.setToolTipsVisible(True)
            menu.aboutToShow.connect(lambda m=menu: self._grey(m))
            menu.aboutToHide.connect(lambda m=menu: self._ungrey(m))
            self.menus[path] = menu
        return menu

    def _action(self, command: Command, window: QMainWindow) -> QAction:
        plain = command.menu.replace("&", "")
        if command.gap:
            outer = self.menus[plain.partition("/")[0]]
            if outer.actions() and (plain == plain.partition("/")[0] or plain not in self.menus):
                outer.addSeparator()
        part = self._menu(plain, command.menu.rpartition("/")[2])
        if command.fill is not None:
            submenu = part.addMenu(command.words)
            submenu.setToolTipsVisible(True)
            submenu.aboutToShow.connect(lambda c=command, m=submenu: c.fill(m))
            action = submenu.menuAction()
        else:
            action = part.addAction(command.words)
            action.triggered.connect(lambda _=False, c=command: self.carry_out(c))
        action.setMenuRole(QAction.MenuRole.NoRole)
        if command.shortcut:
            action.setShortcuts([QKeySequence(command.shortcut)])
        action.setCheckable(command.state is not None)
        window.addAction(action)
        self.actions[command.name] = action
        return action

    def carry_out(self, command: Command) -> None:
        """Do it, or say why it cannot be done."""
        missing = command.missing()
        if missing:
            self._refused(missing)
        else:
            command.do()
        self.show_states()

    def carry_out_named(self, name: str) -> None:
        self.carry_out(self._by_name[name])

    def show_states(self) -> None:
        """Commands that switch something show whether it is on."""
        for command in self.commands:
            if command.state is not None:
                self.actions[command.name].setChecked(command.state())

    def show_writable(self) -> None:
        """Disable what changes the study while it cannot be changed; name what undo and redo would do."""
        for command in self.commands:
            self._show_reason(command.name, command.forbidden())
        for name in ("undo", "redo"):
            self._show_reason(name, self._by_name[name].missing())

    def rename(self, name: str, words: str) -> None:
        self.actions[name].setText(words)

    def _show_reason(self, name: str, missing: str) -> None:
        action = self.actions[name]
        action.setEnabled(not missing)
        action.setStatusTip(missing)
        action.setToolTip(plain_tip(missing))

    def _grey(self, menu: QMenu) -> None:
        self.show_states()
        inside = set(menu.actions())
        for command in self.commands:
            if self.actions[command.name] in inside:
                self._show_reason(command.name, command.missing())

    def _ungrey(self, menu: QMenu) -> None:
        inside = set(menu.actions())
        for command in self.commands:
            always_exact = command.name in ("undo", "redo")
            if self.actions[command.name] in inside and not always_exact:
                self._show_reason(command.name, command.forbidden())

    def context_menu(self, place: str, parent: QWidget) -> QMenu:
        """Return the menu of a place of the Matrix page."""
        menu = QMenu(parent)
        menu.setToolTipsVisible(True)
        for name in PLACES[place]:
            if name:
                menu.addAction(self.actions[name])
            else:
                menu.addSeparator()
        menu.aboutToShow.connect(lambda: self._grey(menu))
        menu.aboutToHide.connect(lambda: self._ungrey(menu))
        return menu

    def show_undo_texts(self, undo_text: str, redo_text: str) -> None:
        """Name in the menu what would be undone and redone."""
        for name, text in (("undo", undo_text), ("redo", redo_text)):
            words = self._by_name[name].words
            if text:
                words += button_text(f": {text[:1].lower()}{text[1:]}")
            self.rename(name, words)
