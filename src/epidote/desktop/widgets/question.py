"""A question whose buttons say what they do."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget


def ask_whether(parent: QWidget, title: str, words: str, action: str, answered: Callable[[bool], None]) -> QMessageBox:
    """Ask without blocking the window; ``answered`` is told whether ``action`` was pressed.

    Escape and Return mean Cancel.
    """
    box = QMessageBox(QMessageBox.Icon.NoIcon, title, words, QMessageBox.StandardButton.NoButton, parent)
    box.setTextFormat(Qt.TextFormat.PlainText)
    go = box.addButton(action, QMessageBox.ButtonRole.AcceptRole)
    cancel = box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(cancel)
    box.setEscapeButton(cancel)
    box.buttonClicked.connect(lambda pressed: answered(pressed is go))
    box.finished.connect(box.deleteLater)
    box.open()
    return box
