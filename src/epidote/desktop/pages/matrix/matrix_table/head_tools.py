"""The buttons in a row's head: show it in the graph, make it the reference, the rest of what can be done with it."""

from __future__ import annotations

from PySide6.QtCore import QRect, Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QWidget

from epidote.desktop.plotting.icons import dots_mark, open_eye_mark, reference_mark
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.sign_button import SignButton

_MARGIN = 3


class HeadTools(QWidget):
    """Lies over the head of one row at a time.

    command_wanted: one of the window's commands, for the row of these buttons. menu_wanted: the row's menu.
    """

    command_wanted = Signal(str)
    menu_wanted = Signal()

    def __init__(self, parent: QWidget, theme: Theme) -> None:
        super().__init__(parent)
        self.row = -1
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setProperty("headTools", True)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(4, 0, 0, 0)
        layout.setSpacing(2)
        self.shown = SignButton(
            open_eye_mark, "Show row in graph", "Show this row in the graph, or leave it out (Ctrl+H)", theme
        )
        self.reference = SignButton(
            reference_mark, "Set as reference", "Compare the other rows with this one (Ctrl+B)", theme
        )
        self.more = SignButton(dots_mark, "More commands for this row", "More commands for this row", theme)
        for button, command in ((self.shown, "show row"), (self.reference, "reference")):
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, name=command: self.command_wanted.emit(name))
        self.more.clicked.connect(lambda _: self.menu_wanted.emit())
        for button in (self.shown, self.reference, self.more):
            layout.addWidget(button)
        self.hide()

    def set_theme(self, theme: Theme) -> None:
        for button in (self.shown, self.reference, self.more):
            button.set_theme(theme)

    def show_row(self, row: int, head: QRect, *, shown: bool, reference: bool, writable: bool) -> None:
        """Lie at the right end of a row's head, which is at ``head``, and say how the row stands."""
        self.row = row
        self.shown.setChecked(shown)
        self.reference.setChecked(reference)
        for button in (self.shown, self.reference):
            button.setEnabled(writable)
        size = self.sizeHint()
        self.setGeometry(head.right() - size.width() - _MARGIN, head.top() + _MARGIN, size.width(), size.height())
        self.show()
        self.raise_()
