"""Which channels are shown: buttons for a few, a list in groups for many."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from PySide6.QtCore import Signal
from PySide6.QtGui import QAction, QActionGroup
from PySide6.QtWidgets import QHBoxLayout, QMenu, QToolButton, QWidget

from epidote.desktop.widgets.plain import plain_tip
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

_MOST_BUTTONS = 3


def group_of(name: str) -> str:
    """Return the group in which a channel stands: what its name says before the comma ("seat 2, mic 4"), or ""."""
    before, comma, _ = name.rpartition(",")
    return before.strip() if comma else ""


class ChannelChoice(QWidget):
    """Emits the keys that are on when the user changes them; setting them from outside emits nothing.

    several: more than one may be on.
    """

    chosen = Signal(tuple)

    def __init__(self, *, several: bool = False) -> None:
        super().__init__()
        self._several = several
        self._options: list[tuple[str, str]] = []
        self._on: tuple[str, ...] = ()
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self._few = SegmentedButtons(several=several)
        self._few.chosen.connect(self._take)
        self.list = QToolButton()
        self.list.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.list.setProperty("menu", True)
        self.list.setToolTip("Channels shown")
        self.menu = QMenu(self)
        self.menu.setToolTipsVisible(True)
        self.list.setMenu(self.menu)
        layout.addWidget(self._few)
        layout.addWidget(self.list)
        self.list.hide()

    def set_options(
        self, options: Iterable[tuple[str, str]], on: Iterable[str], tips: Mapping[str, str] | None = None
    ) -> None:
        """options: (key, words); tips: what an option means, by key."""
        selected, previous = set(on), self._options
        self._options = list(options)
        self._on = tuple(key for key, _ in self._options if key in selected)
        many = len(self._options) > _MOST_BUTTONS
        self._few.set_options([] if many else self._options, self._on, tips)
        if many and (previous != self._options or not self.menu.actions()):
            self._fill(tips or {})
        if many:
            self._mark()
        self.list.setVisible(many and self.parentWidget() is not None)
        if self.parentWidget() is not None or not self._options:
            self.setVisible(bool(self._options))

    def on(self) -> tuple[str, ...]:
        return self._on

    def keys(self) -> tuple[str, ...]:
        return tuple(key for key, _ in self._options)

    def button(self, key: str) -> QToolButton:
        """Return the button of one of a few channels."""
        return self._few.button(key)

    def action(self, key: str) -> QAction:
        """Return the entry of one of many channels."""
        return next(a for a in self.menu.actions() if a.data() == key)

    def _fill(self, tips: Mapping[str, str]) -> None:
        """Make the list: the channels under the names of their groups, and each group as a whole."""
        self.menu.clear()
        exclusive = QActionGroup(self.menu)
        exclusive.setExclusive(not self._several)
        group = ""
        for key, words in self._options:
            if group_of(words) != group:
                group = group_of(words)
                self.menu.addSection(group)
            action = self.menu.addAction(words)
            action.setData(key)
            action.setCheckable(True)
            action.setToolTip(plain_tip(tips.get(key, "")))
            action.triggered.connect(lambda _=False, k=key: self._toggle(k))
            exclusive.addAction(action)
        if not self._several:
            return
        self.menu.addSeparator()
        for name in dict.fromkeys(group_of(words) for _, words in self._options):
            if name:
                whole = tuple(key for key, words in self._options if group_of(words) == name)
                self.menu.addAction(f"Only {name}").triggered.connect(lambda _=False, w=whole: self._choose(w))
        self.menu.addAction("All channels").triggered.connect(lambda _=False: self._choose(self.keys()))

    def _mark(self) -> None:
        """Tick what is on, and say it on the button."""
        for action in self.menu.actions():
            if action.data() is not None:
                action.setChecked(action.data() in self._on)
        names = [words for key, words in self._options if key in self._on]
        if len(names) == 1:
            words = names[0]
        else:
            words = f"{len(names)} channels"
        self.list.setText(words)
        self.list.setAccessibleName(f"Channels shown: {words}")

    def _toggle(self, key: str) -> None:
        if not self._several:
            self._choose((key,))
            return
        wanted = set(self._on) ^ {key}
        self._choose(tuple(k for k in self.keys() if k in wanted) or self._on)

    def _choose(self, keys: tuple[str, ...]) -> None:
        self._on = keys
        self._mark()
        self.chosen.emit(keys)

    def _take(self, keys: tuple[str, ...]) -> None:
        self._on = keys
        self.chosen.emit(keys)
