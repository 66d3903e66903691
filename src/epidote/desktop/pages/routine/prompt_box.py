"""What the routine asks the operator: a text, a picture, and the answer by key."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from epidote.core.errors import SettingError
from epidote.core.routine.answers import parse_answer, require_no_serial
from epidote.core.routine.model import AnswerKind, PromptStep, Routine
from epidote.desktop.pages.routine.passing import AskedToGoOn
from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import Label
from epidote.measurement.routine.dialogue import PromptAnswer

_PICTURE_HEIGHT = 260
_WITH_OTHER_KEYS = (
    Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.MetaModifier
)


class PromptBox(QWidget):
    """answered: with what ``Passing.answer`` takes."""

    answered = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._question: object = None
        self._routine: Routine | None = None
        self._typed = ""  # since the question or the last Enter
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(12)
        self.words = Label()
        self.words.setFont(font(1.5))
        self.words.setWordWrap(True)
        self.words.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.picture = Label()
        self.picture.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.value = QLineEdit()
        self.value.setAccessibleName("Value")
        self.value.setFont(font(1.5))
        self.value.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.value.returnPressed.connect(self._yes)
        self.problem = Label()
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        self.problem.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        line = QHBoxLayout()
        self.yes, self.no = QPushButton("Done"), QPushButton("No")
        self.yes.setProperty("main", True)
        self.yes.setToolTip("Answer and continue (Enter)")
        self.no.setToolTip("Answer no (N), then press Enter")
        self.yes.clicked.connect(lambda _: self._yes())
        self.no.clicked.connect(lambda _: self._no())
        for button in (self.yes, self.no):
            button.installEventFilter(self)
        line.addStretch(1)
        line.addWidget(self.yes)
        line.addWidget(self.no)
        line.addStretch(1)
        for part in (self.words, self.picture, self.value, self.problem):
            layout.addWidget(part)
        layout.addLayout(line)
        self.hide()

    @property
    def asking(self) -> bool:
        return self._question is not None

    def ask(self, question: object, picture: bytes, routine: Routine) -> None:
        """Show a question of a routine: a PromptStep, an AskedToGoOn, or the look before the first run of a chain."""
        self._question, self._routine = question, routine
        kind = AnswerKind.YES_NO
        if isinstance(question, PromptStep):
            kind = question.answer
            words = question.prompt
            unit = f" in {question.unit}" if question.unit else ""
            self.value.setPlaceholderText(f"Value{unit}")
        elif isinstance(question, AskedToGoOn):
            outcome = question.outcome
            detail = f", {outcome.margin_words} {outcome.where}" if outcome.margin is not None else ""
            words = f"{outcome.title}: {outcome.verdict}{detail}. Continue with the next step?"
        else:
            words = f"{question.words} Measure at full level?"  # type: ignore[attr-defined]
        self.words.setText(words)
        self.value.clear()
        self.problem.clear()
        self.problem.hide()
        self.value.setVisible(kind is AnswerKind.VALUE)
        self.no.setVisible(kind is AnswerKind.YES_NO)
        self.yes.setText({AnswerKind.DONE: "Done", AnswerKind.YES_NO: "Yes", AnswerKind.VALUE: "Enter"}[kind])
        self._show_picture(picture)
        self.show()
        self._typed = ""
        self.take_focus()

    def _show_picture(self, content: bytes) -> None:
        pixmap = QPixmap()
        shown = bool(content) and pixmap.loadFromData(content)
        if shown:
            smooth = Qt.TransformationMode.SmoothTransformation
            self.picture.setPixmap(pixmap.scaledToHeight(min(_PICTURE_HEIGHT, pixmap.height()), smooth))
        self.picture.setVisible(shown)

    def close_question(self) -> None:
        """Nothing is asked any more."""
        self._question = None
        self.hide()

    def take_focus(self) -> None:
        """Put the keyboard where the answer is given."""
        if self.value.isVisible():
            self.value.setFocus()
        else:
            self.yes.setFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Y and N select an answer and Enter gives it. What a scanner types meanwhile, Enter included, is no answer."""
        if not self.asking or event.modifiers() & _WITH_OTHER_KEYS:
            super().keyPressEvent(event)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._press_enter()
        elif event.text().isprintable() and event.text():
            self._typed += event.text()
            self._select(event.text())
        else:
            super().keyPressEvent(event)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let a blank within a scanned number press no button."""
        if isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Space and len(self._typed) > 1:
            if event.type() is QEvent.Type.KeyPress:
                self._typed += " "
            return True
        return super().eventFilter(watched, event)

    def _select(self, letter: str) -> None:
        if self.no.isVisible() and letter in "nN":
            self.no.setFocus()
        elif self.no.isVisible() and letter in "yY":
            self.yes.setFocus()

    def _press_enter(self) -> None:
        typed, self._typed = self._typed, ""
        if len(typed) > 1:
            self._tell(
                f"“{typed}” was scanned while an answer was expected and was ignored. Answer first, then scan again."
            )
            self.yes.setFocus()
        elif self.no.hasFocus():
            self._no()
        else:
            self._yes()

    def _tell(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.show()

    def _yes(self) -> None:
        question = self._question
        if isinstance(question, PromptStep) and question.answer is AnswerKind.VALUE:
            try:
                if self._routine is not None:
                    require_no_serial(self.value.text(), self._routine)
                value = parse_answer(self.value.text(), question.unit)
            except SettingError as error:
                self._tell(str(error))
                self.value.selectAll()
                return
            self._give(PromptAnswer(True, value))
        elif isinstance(question, PromptStep):
            self._give(PromptAnswer(True))
        elif question is not None:
            self._give(True)

    def _no(self) -> None:
        if isinstance(self._question, PromptStep):
            self._give(PromptAnswer(False))
        elif self._question is not None:
            self._give(False)

    def _give(self, answer: Any) -> None:
        self.close_question()
        self.answered.emit(answer)
