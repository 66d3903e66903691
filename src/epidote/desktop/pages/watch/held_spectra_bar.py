"""The states that are held: a chip for each, in its colour; the present is one of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QMenu, QToolButton, QWidget

from epidote.desktop.theme import Theme
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, button_text

if TYPE_CHECKING:
    from epidote.core.live.spectrum_analyser import HeldSpectrum

NOW = "Live"


class StatesBar(QWidget):
    """Emits what the user wants done with a state, by its name."""

    shown_changed = Signal()
    hold_wanted = Signal()
    reference_wanted = Signal(str)  # "" for none
    keep_wanted = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.states: dict[str, HeldSpectrum] = {}
        self.reference = ""
        self._hidden: set[str] = set()
        self.chips: dict[str, QToolButton] = {}
        self._layout = FlowLayout(self, spacing=6)
        self._layout.setContentsMargins(0, 0, 0, 0)
        label = Label("Snapshots")
        label.setProperty("quiet", True)
        self.hold = QToolButton()
        self.hold.setText("Take snapshot")
        self.hold.setToolTip("Take a snapshot of the present spectrum (H or S)")
        self.hold.clicked.connect(self.hold_wanted.emit)
        self._layout.addWidget(label)
        self._layout.addWidget(self.hold)
        self._refresh()

    def colour(self, name: str) -> int:
        """Index of a state's colour; that of the present is 0."""
        if name == NOW:
            return 0
        return 1 + list(self.states).index(name)

    def shown(self, name: str) -> bool:
        return name not in self._hidden

    def free_name(self) -> str:
        return next(f"Snapshot {i}" for i in range(1, 1000) if f"Snapshot {i}" not in self.states)

    def add(self, state: HeldSpectrum) -> None:
        self.states[state.name] = state
        self._refresh()
        self.shown_changed.emit()

    def rename(self, name: str, new: str) -> None:
        """Rename a held spectrum; a name that another one has is refused."""
        from dataclasses import replace

        if new and new != name and new not in self.states and new != NOW:
            self.states = {
                (new if k == name else k): replace(v, name=new) if k == name else v for k, v in self.states.items()
            }
            if self.reference == name:
                self.reference = new
            else:
                self.reference = self.reference
            self._refresh()
            self.shown_changed.emit()

    def drop(self, name: str) -> None:
        self.states.pop(name, None)
        self._hidden.discard(name)
        if self.reference == name:
            self.reference = ""
        else:
            self.reference = self.reference
        self._refresh()
        self.shown_changed.emit()

    def clear(self) -> None:
        """Delete every snapshot."""
        self.states, self._hidden, self.reference = {}, set(), ""
        self._refresh()
        self.shown_changed.emit()

    def _refresh(self) -> None:
        for chip in self.chips.values():
            self._layout.removeWidget(chip)
            chip.hide()
            chip.deleteLater()
        self.chips = {}
        self._layout.removeWidget(self.hold)  # it stands after them
        for name in (NOW, *self.states):
            chip = QToolButton()
            chip.setText(button_text(name) + (" (reference)" if name == self.reference else ""))
            chip.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            chip.setIcon(_line(self.theme.row(self.colour(name))))
            chip.setCheckable(True)
            chip.setChecked(self.shown(name))
            chip.clicked.connect(lambda on, n=name: self._toggle(n, on))
            if name != NOW:
                chip.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
                chip.customContextMenuRequested.connect(lambda at, n=name, c=chip: self.menu(n).exec(c.mapToGlobal(at)))
                chip.setToolTip("Click to show or hide. Right-click to compare, save, rename or delete.")
            self._layout.addWidget(chip)
            self.chips[name] = chip
        self._layout.addWidget(self.hold)

    def menu(self, name: str) -> QMenu:
        """Return what can be done with a held state."""
        menu = QMenu(self)
        commands: list[tuple[str, Callable[[], object]]] = [
            (
                "Stop comparing" if name == self.reference else "Compare with this snapshot",
                lambda: self.compare_with("" if name == self.reference else name),
            ),
            ("Save to study…", lambda: self.keep_wanted.emit(name)),
            ("Rename…", lambda: self._ask_name(name)),
            ("Delete", lambda: self.drop(name)),
        ]
        for words, do in commands:
            menu.addAction(words, do)
        return menu

    def compare_with(self, name: str) -> None:
        self.reference = name
        self._refresh()
        self.reference_wanted.emit(name)

    def _ask_name(self, name: str) -> None:
        from PySide6.QtWidgets import QInputDialog

        new, given = QInputDialog.getText(self, "Rename snapshot", "Name", text=name)
        if given:
            self.rename(name, new.strip())

    def _toggle(self, name: str, on: bool) -> None:
        (self._hidden.discard if on else self._hidden.add)(name)
        self.shown_changed.emit()

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self._refresh()


def _line(colour: QColor) -> QIcon:
    pixmap = QPixmap(18, 12)
    pixmap.fill(Qt.GlobalColor.transparent)
    p = QPainter(pixmap)
    p.setPen(QPen(colour, 2.4))
    p.drawLine(1, 6, 17, 6)
    p.end()
    return QIcon(pixmap)
