"""The middle of the Routine page: the serial number, the verdict, what is asked, and the buttons."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout

from epidote.desktop.pages.routine.prompt_box import PromptBox
from epidote.desktop.pages.routine.verdict_view import VerdictView
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import Label, quiet
from epidote.desktop.widgets.scrolled import WrappingWidget


class UnitView(WrappingWidget):
    """One unit, to be read from three metres away; the page decides what it shows."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(32, 12, 32, 16)
        layout.setSpacing(12)
        caption = quiet("Serial number")
        caption.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.serial = QLineEdit()
        self.serial.setAccessibleName("Serial number")
        self.serial.setFont(font(2.0))
        self.serial.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.serial.setMaximumWidth(420)
        self.problem = Label()
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        self.problem.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.known = quiet()
        self.known.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.verdict = VerdictView(theme)
        self.detail = Label()
        self.detail.setFont(font(1.1))
        self.detail.setWordWrap(True)
        self.detail.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.prompt = PromptBox()
        layout.addWidget(caption)
        layout.addWidget(self.serial, 0, Qt.AlignmentFlag.AlignHCenter)
        for part in (self.known, self.problem):
            layout.addWidget(part)
        layout.addStretch(1)
        layout.addWidget(self.verdict, 2)
        layout.addWidget(self.detail)
        layout.addWidget(self.prompt)
        layout.addStretch(1)
        layout.addLayout(self._build_buttons())

    def _build_buttons(self) -> QHBoxLayout:
        line = QHBoxLayout()
        self.begin, self.again, self.stop = QPushButton("Measure"), QPushButton("Measure again"), QPushButton("Stop")
        self.begin.setProperty("main", True)
        self.begin.setToolTip("Measure the unit, or continue with the next one (Enter)")
        self.again.setToolTip("Measure the same unit again; both results are saved (Ctrl+Enter)")
        self.stop.setToolTip("Stop the measurement; finished steps are saved (Esc)")
        line.addStretch(1)
        for button in (self.begin, self.again, self.stop):
            line.addWidget(button)
        line.addStretch(1)
        return line

    def clear(self) -> None:
        """Show no unit, and ask nothing."""
        self.serial.clear()
        self.known.setText("")
        self.problem.setText("")
        self.prompt.close_question()

    @property
    def serial_entered(self) -> str:
        """The serial number without spaces around it or doubled in it."""
        return " ".join(self.serial.text().split())

    def show_verdict(self, word: str, detail: str) -> None:
        """Show a word and what stands below it; while something is asked, that takes their place."""
        self.verdict.show_word(word)
        self.verdict.setVisible(not self.prompt.asking)
        self.detail.setText(detail)
        self.detail.setVisible(not self.prompt.asking)
