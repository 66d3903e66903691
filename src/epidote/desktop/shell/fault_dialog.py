"""The details of a fault, for a report."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from epidote.desktop.widgets.plain import Label


class FaultDialog(QDialog):
    """Shows the details of a fault, to be copied into a report."""

    def __init__(self, parent: QWidget, details: str, log: Path) -> None:
        super().__init__(parent)
        self.setWindowTitle("Details of the fault")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(720, 420)
        layout = QVBoxLayout(self)
        words = Label(
            f"Copy this into a report, and attach {log} if you can: it holds earlier faults, without names of units or"
            " files."
        )
        words.setWordWrap(True)
        words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        layout.addWidget(words)
        self.text = QPlainTextEdit(details)
        self.text.setReadOnly(True)
        self.text.setAccessibleName("Details")
        layout.addWidget(self.text, 1)
        buttons = QHBoxLayout()
        copy, close = QPushButton("Copy details"), QPushButton("Close")
        copy.clicked.connect(lambda _=False: QGuiApplication.clipboard().setText(details))
        close.clicked.connect(self.close)
        buttons.addStretch(1)
        buttons.addWidget(copy)
        buttons.addWidget(close)
        layout.addLayout(buttons)
