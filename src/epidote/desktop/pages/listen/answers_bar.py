"""What is answered in a trial: one of two letters, or a grade for each."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QSlider, QVBoxLayout, QWidget

from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.measurement.listening.kinds import LETTERS, GradeScale, ListeningKind

_SLIDER = 120  # pixels


class AnswersBar(QWidget):
    """answered: the cells of an answer."""

    answered = Signal(list)

    def __init__(self) -> None:
        super().__init__()
        self._outer = QVBoxLayout(self)
        self._outer.setContentsMargins(0, 0, 0, 0)
        self._inside: QWidget | None = None
        self.choices: dict[str, QPushButton] = {}
        self.grades: dict[str, QSlider] = {}
        self._figures: dict[str, Label] = {}
        self._scale: GradeScale | None = None
        self._touched: set[str] = set()
        self.next: QPushButton | None = None
        self._heard_all = False

    def clear(self) -> None:
        """Ask nothing."""
        if self._inside is not None:
            self._inside.hide()
            self._inside.deleteLater()
        self.choices, self.grades, self._figures, self.next = {}, {}, {}, None
        self._touched = set()
        self._inside = None

    def show_trial(self, kind: ListeningKind, count: int, scale: GradeScale) -> None:
        """Show what a trial of a kind asks, with nothing answered yet."""
        self.clear()
        if not kind.answered:
            return
        inside = self._inside = QWidget()
        if kind.scaled:
            self._scale = scale
            self._build_grades(inside, kind.answer_labels(count), scale)
        else:
            self._build_choices(inside, kind.answer_labels(count), kind.choice_words)
        self._outer.addWidget(inside)

    def allow(self, *, heard_all: bool) -> None:
        """Let an answer be given once everything was heard."""
        self._heard_all = heard_all
        tip = "" if heard_all else "Play every clip before answering"
        for button in self.choices.values():
            button.setEnabled(heard_all)
            button.setToolTip(plain_tip(tip))
        self._show_next()

    def choose(self, place: int) -> None:
        """Answer with the letter at a place, from 0, where that is allowed."""
        buttons = list(self.choices.values())
        if place < len(buttons) and buttons[place].isEnabled():
            buttons[place].click()

    def _build_choices(self, inside: QWidget, labels: Sequence[str], words: str) -> None:
        line = QHBoxLayout(inside)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(16)
        line.addStretch(1)
        for place, label in enumerate(labels, start=1):
            button = QPushButton(f"{words.format(label)}   {place}")
            button.setAccessibleName(words.format(label))
            button.setProperty("main", True)
            button.clicked.connect(lambda _=False, cell=label: self.answered.emit([cell]))
            self.choices[label] = button
            line.addWidget(button)
        line.addStretch(1)

    def _build_grades(self, inside: QWidget, labels: Sequence[str], scale: GradeScale) -> None:
        line = QHBoxLayout(inside)
        line.setContentsMargins(0, 0, 0, 0)
        line.addStretch(1)
        grid = QGridLayout()
        grid.setHorizontalSpacing(20)
        line.addLayout(grid)
        line.addStretch(1)
        grid.addLayout(_marks_of(scale), 1, 0)
        for column, label in enumerate(labels, start=1):
            self._add_grade(grid, column, label, scale)
        self.next = QPushButton("Save grades")
        self.next.setProperty("main", True)
        self.next.clicked.connect(lambda _: self.answered.emit(self._cells()))
        grid.addWidget(self.next, 1, len(labels) + 1)

    def _add_grade(self, grid: QGridLayout, column: int, label: str, scale: GradeScale) -> None:
        steps = 10**scale.decimals
        slider = QSlider(Qt.Orientation.Vertical)
        slider.setRange(round(scale.low * steps), round(scale.high * steps))
        slider.setMinimumHeight(_SLIDER)
        slider.setAccessibleName(f"Grade of {label}")
        slider.valueChanged.connect(partial(self._graded, label))
        # a grade that is meant to stay at the low end is given by a click on its handle
        slider.sliderPressed.connect(lambda: self._graded(label, slider.value()))
        figure = Label("–")
        head = Label(label)
        head.setProperty("heading", True)
        for words in (head, figure):
            words.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        grid.addWidget(head, 0, column)
        grid.addWidget(slider, 1, column, Qt.AlignmentFlag.AlignHCenter)
        grid.addWidget(figure, 2, column)
        grid.setColumnMinimumWidth(column, 56)
        self.grades[label], self._figures[label] = slider, figure

    def _graded(self, label: str, value: int) -> None:
        self._touched.add(label)
        self._figures[label].setText(self._shown(value))
        self._show_next()

    def _shown(self, value: int) -> str:
        decimals = self._scale.decimals if self._scale is not None else 0
        return f"{value / 10**decimals:.{decimals}f}"

    def _cells(self) -> list[str]:
        return [self._shown(self.grades[label].value()) for label in LETTERS[: len(self.grades)]]

    def _show_next(self) -> None:
        if self.next is None:
            return
        graded = len(self._touched) == len(self.grades)
        self.next.setEnabled(graded and self._heard_all)
        why = "" if graded else "Grade every clip first"
        self.next.setToolTip(plain_tip(why if self._heard_all else "Play every clip before answering"))


def _marks_of(scale: GradeScale) -> QVBoxLayout:
    """Return the words of a scale one below the other, along the sliders."""
    column = QVBoxLayout()
    column.setSpacing(0)
    for value, name in scale.marks:
        words = Label(f"{value:g}  {name}")
        words.setProperty("quiet", True)
        words.setFont(font(0.9))
        column.addWidget(words, 1)
    return column
