"""The line below the page bar: a message that goes away by itself, with a button where there is something to do."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from epidote.desktop.widgets.plain import Label, plain_tip

MESSAGE_SECONDS = 12


class MessageBar(QWidget):
    """Shows one message at a time; the next one takes its place."""

    def __init__(self) -> None:
        super().__init__()
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.words = Label()
        self.words.setWordWrap(True)
        self.words.setProperty("caution", True)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.button = QPushButton()
        self.button.clicked.connect(self._pressed)
        layout.addWidget(self.words, 1)
        layout.addWidget(self.button)
        self._do: Callable[[], None] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.clear)
        self.clear()

    def say(self, words: str, button: str = "", do: Callable[[], None] | None = None, tip: str = "") -> None:
        """Show a sentence; ``button`` with ``do``: what can be done about it."""
        self.words.setText(words)
        self._do = do
        self.button.setText(button)
        self.button.setToolTip(plain_tip(tip))
        self.button.setVisible(do is not None)
        self.show()
        self._timer.start(MESSAGE_SECONDS * 1000)

    def clear(self) -> None:
        self._timer.stop()
        self._do = None
        self.button.hide()
        self.hide()

    def withdraw(self, button: str) -> None:
        """Take back an offer that cannot be carried out any more; the sentence stays."""
        if self.button.text() == button:
            self._do = None
            self.button.hide()

    def text(self) -> str:
        """Return the last message."""
        return self.words.text()

    def _pressed(self) -> None:
        do = self._do
        self.clear()
        if do is not None:
            do()
