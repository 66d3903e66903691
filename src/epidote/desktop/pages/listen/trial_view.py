"""What a listener sees of a trial: the question, the letters, what is answered, and the loop on the original."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from epidote.desktop.pages.listen.answers_bar import AnswersBar
from epidote.desktop.pages.listen.letters import Letters, key_of
from epidote.desktop.pages.listen.loop_view import LoopView
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import Label, quiet
from epidote.desktop.widgets.scrolled import WrappingWidget
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.measurement.listening.kinds import KINDS, SCALES, FreeListeningKind, ListeningKind

if TYPE_CHECKING:
    from epidote.desktop.pages.listen.playback import ClipPlayback
    from epidote.measurement.listening.sitting import Sitting


class TrialView(WrappingWidget):
    """Shows a trial, or clips that are listened to freely; nothing on it tells the letters apart."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(36, 8, 36, 12)
        layout.setSpacing(10)
        self.kinds = SegmentedButtons()
        self.kinds.set_options([(kind.key, kind.title) for kind in KINDS.values()], [FreeListeningKind.key])
        self.about = quiet()
        self.question = Label()
        self.question.setFont(font(1.45))
        self.question.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.question.setWordWrap(True)
        self.letters = Letters(theme)
        self.answers = AnswersBar()
        self.loop = LoopView(theme)
        layout.addWidget(self.kinds)
        layout.addWidget(self.about)
        layout.addLayout(self._build_progress())
        layout.addWidget(self.progress)
        layout.addStretch(1)
        layout.addWidget(self.question)
        layout.addSpacing(6)
        layout.addWidget(self.letters)
        layout.addSpacing(6)
        layout.addWidget(self.answers)
        layout.addLayout(self._build_work())
        layout.addStretch(1)
        layout.addLayout(self._build_transport())
        layout.addWidget(self.loop)
        self.show_work("")

    def _build_progress(self) -> QHBoxLayout:
        line = QHBoxLayout()
        self.trial = Label()
        self.trial.setFont(font(1.35, bold=True))
        self.hidden = quiet("Results are hidden until the test is revealed")
        self.hidden.setWordWrap(False)
        line.addWidget(self.trial)
        line.addStretch(1)
        line.addWidget(self.hidden)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedHeight(5)
        self.progress.setAccessibleName("Trials answered")
        return line

    def _build_work(self) -> QHBoxLayout:
        line = QHBoxLayout()
        self.work = quiet()
        self.cancel = QPushButton("Cancel")
        line.addWidget(self.work, 1)
        line.addWidget(self.cancel)
        return line

    def _build_transport(self) -> QHBoxLayout:
        line = QHBoxLayout()
        self.play = QPushButton("Play")
        self.play.setToolTip("Play or pause (P)")
        self.whole = QPushButton("Clear loop")
        self.whole.setToolTip("Remove the loop")
        self.loop_words = quiet()
        self.loop_words.setWordWrap(False)
        keys = quiet("Drag to set the loop · P pauses · ← → move")
        keys.setWordWrap(False)
        line.addWidget(self.play)
        line.addWidget(self.whole)
        line.addWidget(self.loop_words)
        line.addStretch(1)
        line.addWidget(keys)
        self.whole.clicked.connect(lambda _: self.loop.clear_loop())
        return line

    @property
    def kind(self) -> ListeningKind:
        """The kind of test that is chosen."""
        return KINDS[self.kinds.on()[0]]

    def show_trial(self, sitting: Sitting | None, *, in_test: bool, busy: bool, is_new: bool) -> None:
        """Show the trial at hand of a sitting; None: there are no clips. is_new: nothing is answered in it yet."""
        labels = [target.label for target in sitting.targets] if sitting is not None else []
        self.letters.show_labels([(label, key_of(label)) for label in labels])
        before: tuple[QWidget, ...] = (self.kinds, self.about)
        during: tuple[QWidget, ...] = (self.trial, self.hidden, self.progress)
        for widget in before:
            widget.setVisible(not in_test)
        for widget in during:
            widget.setVisible(in_test)
        self.about.setText(self.kind.about)
        if sitting is not None and in_test:
            test = sitting.test
            if is_new:
                self.answers.show_trial(test.test_kind, len(test.letters), SCALES[test.scale])
            self.trial.setText(f"Trial {sitting.trial} of {test.trials}")
            self.progress.setRange(0, test.trials)
            self.progress.setValue(len(sitting.sheet.answers))
            self.question.setText(test.test_kind.question)
            return
        self.answers.clear()
        if labels:
            self.question.setText("Blind comparison under randomly assigned letters")
        else:
            self.question.setText("" if busy else "Select at least two clips, or one clip and the original")

    def show_work(self, words: str) -> None:
        """Show what is being prepared; "" when nothing is."""
        self.work.setText(words)
        self.work.setVisible(bool(words))
        self.cancel.setVisible(bool(words))

    def show_playback(self, playback: ClipPlayback, sitting: Sitting | None, *, in_test: bool) -> None:
        """Show what sounds, what was heard, and the loop."""
        heard = list(sitting.heard) if sitting is not None and in_test else []
        self.letters.show_state(playback.label, playing=playback.playing, heard=heard)
        self.play.setText("Pause" if playback.playing else "Play")
        self.play.setEnabled(bool(self.letters.targets))
        self.answers.allow(heard_all=sitting is not None and not sitting.unheard)
        first, last = playback.loop
        if last > first:
            self.loop_words.setText(f"Original, loop {first:.1f} s to {last:.1f} s")
        else:
            self.loop_words.setText("Original")
        self.whole.setEnabled(last > first)

    def set_theme(self, theme: Theme) -> None:
        self.letters.set_theme(theme)
        self.loop.set_theme(theme)
