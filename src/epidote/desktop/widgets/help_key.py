"""F1 in dialogs: while one is open, the keys of the window behind it are not heard."""

from __future__ import annotations

from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QWidget


def listen_for_help(dialog: QWidget) -> None:
    """Let F1 in a dialog open the guide of the window that it belongs to."""
    shortcut = QShortcut(QKeySequence("F1"), dialog)

    def ask() -> None:
        window = dialog.parentWidget()
        while window is not None and not hasattr(window, "show_help"):
            window = window.parentWidget()
        if window is not None:
            window.show_help()

    shortcut.activated.connect(ask)
