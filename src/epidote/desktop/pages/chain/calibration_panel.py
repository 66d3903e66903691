"""One guided calibration: its steps in order, what is typed, what is taken from the live level, and what it came to."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from epidote.core.errors import EpidoteError, in_window
from epidote.core.quantities.units import parse_as
from epidote.desktop.pages.chain.level_panel import spread_words
from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import Label

if TYPE_CHECKING:
    from epidote.core.calibration.guided_steps import CalibrationGuide, CalibrationOutcome, CapturedLevel
    from epidote.core.chain.chain import Chain
    from epidote.core.live.level_meter import LevelSnapshot


class CalibrationPanel(QWidget):
    """One guided calibration: its steps, what was read, and what it would change."""

    use_wanted = Signal(object)
    left = Signal()
    play_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.guide: CalibrationGuide | None = None
        self._chain: Chain | None = None
        self._channel = 1
        self._played = 0.0
        self._now: LevelSnapshot | None = None
        self._found: CalibrationOutcome | None = None
        self._taken: dict[str, CapturedLevel] = {}
        self.edits: dict[str, QLineEdit] = {}
        self.takes: dict[str, QPushButton] = {}
        self._take_notes: dict[str, Label] = {}
        self._marks: list[tuple[str, Label]] = []
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(8)
        self._body: QWidget | None = None

    def show_guide(self, guide: CalibrationGuide, chain: Chain, channel: int) -> None:
        """Begin a guide anew."""
        self.guide, self._chain, self._channel = guide, chain, channel
        self._played = min(guide.plays or 0.0, chain.ceiling_dbfs)
        self._taken, self._found = {}, None
        self.edits, self.takes, self._take_notes, self._marks = {}, {}, {}, []
        if self._body is not None:
            self._body.hide()
            self._body.deleteLater()
        self._body = QWidget()
        self._layout.addWidget(self._body)
        outer = QVBoxLayout(self._body)
        outer.setContentsMargins(0, 0, 0, 0)
        title = Label(guide.title)
        title.setProperty("heading", True)
        outer.addWidget(title)
        steps = QGridLayout()
        steps.setHorizontalSpacing(12)
        steps.setVerticalSpacing(10)
        steps.setColumnStretch(1, 1)
        outer.addLayout(steps)
        self._step(steps, "first", guide.first, self._first_button(guide))
        for ask in guide.asks:
            edit = QLineEdit(ask.usual)
            edit.setPlaceholderText(ask.unit)
            edit.setAccessibleName(ask.words)
            edit.setMaximumWidth(140)
            edit.textChanged.connect(lambda _: self.refresh())
            self.edits[ask.key] = edit
            self._step(steps, ask.key, ask.words, edit)
        for key, words in guide.takes:
            button = QPushButton("Read level")
            button.setEnabled(False)
            button.clicked.connect(lambda _=False, k=key: self.take(k))
            self.takes[key] = button
            self._step(steps, key, words, button)
        line = QHBoxLayout()
        self.use = QPushButton("Apply")
        self.use.setProperty("main", True)
        self.use.clicked.connect(self._use)
        back = QPushButton("Cancel")
        back.clicked.connect(self.left.emit)
        line.addWidget(self.use)
        line.addWidget(back)
        line.addStretch(1)
        self.judgement = Label()
        self.judgement.setWordWrap(True)
        outer.addSpacing(4)
        outer.addWidget(self.judgement)
        outer.addLayout(line)
        outer.addStretch(1)
        self.refresh()

    def _first_button(self, guide: CalibrationGuide) -> QWidget | None:
        if guide.plays is None:
            return None
        button = QPushButton(f"Play {'noise' if guide.weighting else 'tone'} at {self._played:g} dBFS")
        button.clicked.connect(self.play_wanted.emit)
        self.play = button
        return button

    def _step(self, steps: QGridLayout, key: str, words: str, editor: QWidget | None) -> None:
        row = len(self._marks)
        number = Label(str(row + 1))
        number.setAlignment(Qt.AlignmentFlag.AlignCenter)
        number.setFixedSize(24, 24)
        number.setFont(font(0.95, bold=True))
        number.setObjectName("step")
        text = Label(words)
        text.setWordWrap(True)
        note = Label()
        note.setProperty("quiet", True)
        column = QVBoxLayout()
        column.setSpacing(1)
        column.addWidget(text)
        column.addWidget(note)
        note.hide()
        steps.addWidget(number, row, 0, Qt.AlignmentFlag.AlignTop)
        steps.addLayout(column, row, 1)
        if editor is not None:
            steps.addWidget(editor, row, 2, Qt.AlignmentFlag.AlignTop)
        self._marks.append((key, number))
        self._take_notes[key] = note

    # -- what is typed and taken -------------------------------------------------------------------

    def show_levels(self, now: LevelSnapshot | None) -> None:
        self._now = now
        if now is not None and self._channel <= len(now.channels):
            state = now.channels[self._channel - 1]
        else:
            state = None
        for key, button in self.takes.items():
            steady = state is not None and state.level is not None and state.steadiness.steady
            if button.isEnabled() != steady:
                button.setEnabled(steady)
            if key in self._taken:
                words = f"Read: {self._taken[key].level:.3f} dBFS"
            elif state is None:
                if self.guide and self.guide.plays is None:
                    words = "Start the live level first (on the right)"
                else:
                    words = "Start playback first"
            elif state.level is None:
                words = "No tone on this input"
            elif steady:
                words = f"Steady within {spread_words(state.steadiness.spread)}"
            else:
                words = "Not steady yet"
            note = self._take_notes[key]
            if note.text() != words:
                note.setText(words)
                note.show()

    def take(self, key: str) -> None:
        """Take the level that the watched input shows now."""
        from epidote.core.calibration.guided_steps import CapturedLevel

        if self._now is None:
            return
        state = self._now.channels[self._channel - 1]
        if state.level is not None:
            if state.tone:
                rest = state.tone.rest
            else:
                rest = float("-inf")
            self._taken[key] = CapturedLevel(state.level, state.steadiness.spread, self._played, rest)
        self.show_levels(self._now)
        self.refresh()

    def refresh(self) -> None:
        """Show what the entries come to so far."""
        if self.guide is None or self._chain is None:
            return
        typed: dict[str, float] = {}
        words, self._found = "", None
        for ask in self.guide.asks:
            text = self.edits[ask.key].text().strip()
            try:
                if text:
                    typed[ask.key] = parse_as(text, ask.unit)
            except EpidoteError as error:
                words = in_window(error)
        missing = [a.key for a in self.guide.asks if a.key not in typed] + [
            k for k, _ in self.guide.takes if k not in self._taken
        ]
        if not missing and not words:
            try:
                if any(v <= 0 for k, v in typed.items() if k not in ("second_ohms", "spl")):
                    words = "Enter a value greater than 0."
                else:
                    self._found = self.guide.reckon(self._chain, self._channel, typed, self._taken, date.today())
            except (EpidoteError, ValueError) as error:
                words = in_window(error)
        outcome = self._found
        if outcome is not None:
            words = f"{outcome.judgement} {outcome.note}".strip()
        self.judgement.setText(words)
        self.judgement.setProperty("error", outcome is None or not outcome.plausible)
        self.judgement.style().unpolish(self.judgement)
        self.judgement.style().polish(self.judgement)
        self.use.setText(f"Apply {outcome.value}" if outcome is not None else "Apply")
        self.use.setEnabled(outcome is not None)
        for key, mark in self._marks:
            mark.setProperty("done", key not in missing and (key != "first" or bool(self._taken or typed)))
            mark.style().unpolish(mark)
            mark.style().polish(mark)

    def _use(self) -> None:
        if self._found is not None:
            self.use_wanted.emit(self._found)
