"""The bar of pages below the menu bar, with the study's name and whether its changes are saved."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QToolButton, QWidget

from epidote.desktop.theme import font
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label


class PageBar(QWidget):
    """One tab for each page of a study."""

    page_wanted = Signal(str)

    def __init__(self, titles: Iterable[str]) -> None:
        super().__init__()
        self.setObjectName("topBar")
        layout = FlowLayout(self, spacing=4)
        layout.setContentsMargins(8, 0, 14, 0)
        group = self._group = QButtonGroup(self)
        self.buttons: dict[str, QToolButton] = {}
        for title in titles:
            button = QToolButton()
            button.setText(title)
            button.setCheckable(True)
            button.setProperty("tab", True)
            button.clicked.connect(lambda _=False, t=title: self.page_wanted.emit(t))
            group.addButton(button)
            self.buttons[title] = button
            layout.addWidget(button)
        layout.add_gap()
        self.saved = Label("All changes saved")
        self.saved.setProperty("quiet", True)
        self.title = Label()
        self.title.setFont(font(1.1))
        self.saved.setContentsMargins(0, 0, 8, 0)
        layout.addWidget(self.saved)
        layout.addWidget(self.title)

    def show_page(self, title: str) -> None:
        """Mark the page in view; "" marks none."""
        self._group.setExclusive(False)
        for name, button in self.buttons.items():
            button.setChecked(name == title)
        self._group.setExclusive(True)

    def show_study(self, title: str, *, writable: bool) -> None:
        """Show the study's name; without one the bar says nothing."""
        state = "All changes saved" if writable else "Read-only"
        self.title.setText(title)
        self.saved.setText(state if title else "")
