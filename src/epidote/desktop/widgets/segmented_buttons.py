"""A row of words of which one, or several, are on: options in a track, or tabs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QSizePolicy, QToolButton, QWidget

from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import plain_tip


class SegmentedButtons(QWidget):
    """Emits the keys that are on when the user changes them; setting them from outside emits nothing.

    several: more than one may be on. tabs: they lead to another view, and look like it.
    """

    chosen = Signal(tuple)

    def __init__(self, *, several: bool = False, tabs: bool = False) -> None:
        super().__init__()
        self._look = "tab" if tabs else "segment"
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._layout = FlowLayout(self, spacing=2)
        edge = 0 if tabs else 2
        self._layout.setContentsMargins(edge, edge, edge, edge)
        policy = QSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self._group = QButtonGroup(self)
        self._group.setExclusive(not several)
        self._buttons: dict[str, QToolButton] = {}

    def fill_width(self) -> None:
        """Take all the width there is, the buttons at its left."""
        policy = self.sizePolicy()
        policy.setHorizontalPolicy(QSizePolicy.Policy.Expanding)
        self.setSizePolicy(policy)

    def set_options(
        self, options: Iterable[tuple[str, str]], on: Iterable[str], tips: Mapping[str, str] | None = None
    ) -> None:
        """options: (key, words); tips: what an option means, by key."""
        options, selected = list(options), set(on)
        if options != [(k, b.text()) for k, b in self._buttons.items()]:
            for old in self._buttons.values():
                self._group.removeButton(old)
                old.hide()
                old.deleteLater()
            self._buttons = {}
            for key, words in options:
                button = QToolButton()
                button.setText(words)
                button.setCheckable(True)
                button.setProperty(self._look, True)
                button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
                button.clicked.connect(lambda _=False: self.chosen.emit(self.on()))
                self._group.addButton(button)
                self._layout.addWidget(button)
                self._buttons[key] = button
        if self.parentWidget() is not None or not options:  # else it would be a window of its own for a moment
            self.setVisible(bool(options))
        has_track = self._look == "segment" and bool(options)
        if self.property("track") != has_track:
            self.setProperty("track", has_track)
            self.style().unpolish(self)
            self.style().polish(self)
        for key, button in self._buttons.items():
            button.setToolTip(plain_tip((tips or {}).get(key, "")))
        self.set_on(selected)

    def on(self) -> tuple[str, ...]:
        return tuple(k for k, b in self._buttons.items() if b.isChecked())

    def set_on(self, keys: Iterable[str]) -> None:
        """Have other options on."""
        wanted = set(keys)
        exclusive = self._group.exclusive()
        self._group.setExclusive(False)
        for key, button in self._buttons.items():
            button.setChecked(key in wanted)
        self._group.setExclusive(exclusive)

    def button(self, key: str) -> QToolButton:
        return self._buttons[key]

    def keys(self) -> tuple[str, ...]:
        return tuple(self._buttons)
