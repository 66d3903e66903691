"""Beside the letters: which clips, which test, how well they match, where and how loud they sound, and notes."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QIntValidator
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from epidote.core.analysis.listening.trials import least_right, power_of
from epidote.desktop.preferences import preferences
from epidote.desktop.widgets.plain import Label, heading, plain_tip, quiet
from epidote.desktop.widgets.scrolled import WrappingWidget
from epidote.measurement.listening.clips import MATCHED_DB, RAISED_DB, STRICT_DB
from epidote.measurement.listening.kinds import (
    KINDS,
    SCALES,
    ForcedChoiceKind,
    FreeListeningKind,
    ListeningDesign,
    ListeningKind,
)
from epidote.measurement.listening.preparation import ClipChoice, HearableRun, PreparedClips
from epidote.measurement.listening.sealed_test import MOST_TRIALS, SealedTest

_LEVEL_STEPS = (-80, 0)  # dBFS
_LIST_HEIGHT = 104
_DEVICE_LENGTH = 26  # characters
_LISTENER = "listener"
_RUN = Qt.ItemDataRole.UserRole


class ClipsBox(WrappingWidget):
    """Which rows are clips. changed: the choice is another one."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(heading("Clips"))
        self.rows = QListWidget()
        self.rows.setAccessibleName("Rows used as clips")
        self.rows.setFixedHeight(_LIST_HEIGHT)
        self.none = quiet(
            "No row has a run of “Programme material” yet. Add that column on the Matrix page and measure it."
        )
        self.original = QCheckBox("Include original")
        self.control = QCheckBox("Control test: same clip as A and B")
        self.control.setToolTip("Test with two identical clips; the expected result is chance (50 %)")
        for widget in (self.none, self.rows, self.original, self.control):
            layout.addWidget(widget)
        self.rows.itemChanged.connect(lambda _: self.changed.emit())
        self.original.toggled.connect(lambda _: self.changed.emit())
        self.control.toggled.connect(lambda _: self.changed.emit())

    def show_rows(self, rows: Sequence[HearableRun], chosen: Collection[int]) -> None:
        """List rows with their runs, some of these chosen."""
        self.rows.blockSignals(True)
        self.rows.clear()
        for one in rows:
            item = QListWidgetItem(one.name)
            item.setToolTip(plain_tip(one.name))
            item.setFlags(Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            item.setCheckState(Qt.CheckState.Checked if one.run.id in chosen else Qt.CheckState.Unchecked)
            item.setData(_RUN, one.run.id)
            self.rows.addItem(item)
        self.rows.blockSignals(False)
        self.none.setVisible(not rows)
        self.rows.setVisible(bool(rows))

    def listed(self) -> list[int]:
        """Return the run of each row in the list."""
        return [int(self.rows.item(n).data(_RUN)) for n in range(self.rows.count())]

    def chosen(self) -> list[tuple[str, int]]:
        """Return name and run of each chosen row."""
        items = [self.rows.item(n) for n in range(self.rows.count())]
        return [(i.text(), int(i.data(_RUN))) for i in items if i.checkState() is Qt.CheckState.Checked]

    def count(self, kind: ListeningKind) -> int:
        """Return how many clips a test of a kind has."""
        choice = self.choice(kind)
        return len(choice.parts) + choice.original + choice.anchor

    def choice(self, kind: ListeningKind) -> ClipChoice:
        """Return the clips that a kind of test needs of the chosen rows."""
        return ClipChoice(
            tuple(self.chosen()),
            original=kind.needs_original or self.original.isChecked(),
            anchor=kind.anchored,
            control=self.control.isChecked(),
        )


class DesignBox(WrappingWidget):
    """How a test is made: trials, scale, listener."""

    start_wanted = Signal()
    hand_out_wanted = Signal()
    save_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.title = heading("Test")
        layout.addWidget(self.title)
        self.form = QGridLayout()
        self.form.setColumnStretch(1, 1)
        self.trials = QLineEdit()
        self.trials.setAccessibleName("Trials")
        self.trials.setValidator(QIntValidator(1, MOST_TRIALS))
        self.trials.textChanged.connect(lambda _: self._say_power())
        self.scale = QComboBox()
        self.scale.setAccessibleName("Scale")
        for scale in SCALES.values():
            self.scale.addItem(scale.title.partition(",")[0], scale.key)
        self.listener = QLineEdit(str(preferences().value(_LISTENER, "")))
        self.listener.setAccessibleName("Listener")
        self.listener.setPlaceholderText("Name")
        self.reason = QLineEdit()
        self.reason.setAccessibleName("Reason for accepting unequal levels")
        self.reason.setPlaceholderText("Reason for accepting unequal levels")
        self.strict = QCheckBox(f"Within {STRICT_DB:g} dB")
        self.strict.setToolTip(
            plain_tip(f"Require level matching within {STRICT_DB:g} dB instead of {MATCHED_DB:g} dB")
        )
        fields = (("Trials", self.trials), ("Scale", self.scale), ("Listener", self.listener), ("Levels", self.strict))
        self._heads: dict[QWidget, Label] = {}
        for row, (words, field) in enumerate(fields):
            self._heads[field] = Label(words)
            self.form.addWidget(self._heads[field], row, 0)
            self.form.addWidget(field, row, 1)
        layout.addLayout(self.form)
        layout.addWidget(self.reason)
        self.power = quiet()
        layout.addWidget(self.power)
        self.count = Label()
        self.count.setProperty("caution", True)
        self.count.setWordWrap(True)
        layout.addWidget(self.count)
        line = QHBoxLayout()
        self.start = QPushButton("Start test")
        self.start.setProperty("main", True)
        self.hand_out = QPushButton("Export test…")
        self.hand_out.setToolTip(
            "Export anonymised clips, an answer sheet and the SHA-256 of the answer key for other listeners"
        )
        self.save = QPushButton("Save notes and reveal letters")
        self.start.clicked.connect(lambda _: self.start_wanted.emit())
        self.hand_out.clicked.connect(lambda _: self.hand_out_wanted.emit())
        self.save.clicked.connect(lambda _: self.save_wanted.emit())
        for button in (self.start, self.hand_out, self.save):
            line.addWidget(button)
        line.addStretch(1)
        layout.addLayout(line)
        self.kind: ListeningKind = KINDS[FreeListeningKind.key]
        self.show_kind(self.kind)

    def show_kind(self, kind: ListeningKind) -> None:
        """Show what a kind of test needs to know."""
        if kind is not self.kind:
            self.trials.setText(str(kind.usual_trials))
        self.kind = kind
        optional = ((self.trials, kind.answered), (self.scale, kind.scaled), (self.strict, kind.answered))
        for field, shown in optional:
            field.setVisible(shown)
            self._heads[field].setVisible(shown)
        self.power.setVisible(kind.key == ForcedChoiceKind.key)
        self.start.setVisible(kind.answered)
        self.hand_out.setVisible(kind.answered)
        self.save.setVisible(not kind.answered)
        self._say_power()

    def design(self) -> ListeningDesign:
        preferences().setValue(_LISTENER, self.listener.text().strip())
        return ListeningDesign(
            self.kind.key,
            self.count_of_trials(),
            str(self.scale.currentData()),
            self.strict.isChecked(),
            self.reason.text() if self.reason.isVisible() else "",
        )

    def count_of_trials(self) -> int:
        """Return how many trials are wanted; 0 for what is no number."""
        text = self.trials.text()
        return int(text) if text.isdecimal() else 0

    def show_difference(self, difference: float | None) -> None:
        """Ask for a reason where levels still differ too much."""
        most = STRICT_DB if self.strict.isChecked() else MATCHED_DB
        self.reason.setVisible(difference is not None and difference > most and self.kind.answered)

    def allow(self, *, ready: bool, clips: int) -> None:
        """Let a test be made of so many clips, or say how many it needs."""
        kind = self.kind
        fits = kind.least <= clips <= kind.most
        wanted = f"exactly {kind.least}" if kind.least == kind.most else f"{kind.least} to {kind.most}"
        self.count.setText(f"{kind.title} needs {wanted} clips; {clips} are selected.")
        self.count.setVisible(not fits)
        for button in (self.start, self.hand_out, self.save):
            button.setEnabled(ready and fits)

    def _say_power(self) -> None:
        if self.kind.key != ForcedChoiceKind.key:
            return
        trials = self.count_of_trials()
        if not 1 <= trials <= MOST_TRIALS:
            self.power.setText(f"Enter 1 to {MOST_TRIALS} trials.")
            return
        needed = least_right(trials)
        if needed is None:
            self.power.setText("p < 0.05 cannot be reached with fewer than 5 trials. Use 5 or more.")
            return
        self.power.setText(
            f"{needed} of {trials} correct needed for p < 0.05. Power for a listener who is correct in 80 % of trials:"
            f" {100 * power_of(trials):.0f} %."
        )


class MatchedBox(WrappingWidget):
    """How alike the clips were made."""

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(heading("Matching"))
        self.words = quiet()
        self.caution = Label()
        self.caution.setProperty("caution", True)
        self.caution.setWordWrap(True)
        layout.addWidget(self.words)
        layout.addWidget(self.caution)
        self.show_clips(None)

    def show_clips(self, prepared: PreparedClips | None) -> None:
        """Say how the clips match, naming none of them."""
        self.caution.hide()
        if prepared is None:
            self.words.setText("No clips yet.")
            return
        clips = prepared.matched.clips
        channels = clips[0].samples.shape[1]
        seconds = clips[0].samples.shape[0] / prepared.rate
        self.words.setText(
            f"Loudness matched to {prepared.matched.loudness:.1f} LUFS\n"
            f"300 Hz to 3 kHz within {max(prepared.matched.difference, 0.005):.2f} dB\n"
            "Delay, sample clock and polarity corrected\n"
            f"{prepared.rate / 1000:g} kHz, {channels} channel{'s' if channels > 1 else ''}, {seconds:.1f} s each"
        )
        cautions = []
        if prepared.matched.difference > MATCHED_DB:
            cautions.append(
                f"Levels differ by {prepared.matched.difference:.2f} dB; a fair test needs {MATCHED_DB:g} dB."
            )
        if prepared.matched.raised > RAISED_DB:
            cautions.append(
                f"One recording was {prepared.matched.raised:.0f} dB quieter than another; matching raised its"
                " noise by the same amount."
            )
        self.caution.setText("\n".join(cautions))
        self.caution.setVisible(bool(cautions))


class OutputBox(WrappingWidget):
    """device_chosen: name of a device. level_set: in dBFS."""

    device_chosen = Signal(str)
    level_set = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(heading("Output"))
        self.device = QComboBox()
        self.device.setAccessibleName("Output device")
        self.device.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.device.setMinimumContentsLength(_DEVICE_LENGTH)
        self.device.activated.connect(lambda _: self.device_chosen.emit(str(self.device.currentData() or "")))
        self.level = QSlider(Qt.Orientation.Horizontal)
        self.level.setRange(*_LEVEL_STEPS)
        self.level.setPageStep(6)
        self.level.setAccessibleName("Level")
        self.level.valueChanged.connect(lambda value: self.level_set.emit(float(value)))
        self.words = quiet()
        for widget in (self.device, self.level, self.words):
            layout.addWidget(widget)

    def show_devices(self, devices: list[tuple[str, str]], chosen: str) -> None:
        self.device.clear()
        for name, title in devices:
            self.device.addItem(title, name)
        self.device.setCurrentIndex(max(0, self.device.findData(chosen)))

    def show_level(self, level: float, ceiling: float) -> None:
        self.level.blockSignals(True)
        self.level.setMaximum(math.floor(ceiling))
        self.level.setValue(round(level))
        self.level.blockSignals(False)
        self.words.setText(f"Highest peak {level:g} dBFS, at most {ceiling:g} dBFS (maximum output level of the chain)")


class NotesBox(QWidget):
    """written: label and words."""

    written = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.title = heading("Notes")
        self.text = QPlainTextEdit()
        self.text.setTabChangesFocus(True)
        self.text.setMinimumHeight(56)
        self.text.setMaximumHeight(110)
        layout.addWidget(self.title)
        layout.addWidget(self.text)
        self._label = ""
        self.text.textChanged.connect(self._typed)

    def show_note(self, label: str, words: str) -> None:
        """Show the note on a label."""
        self._label = label
        self.title.setText(f"Notes on {label}" if label else "Notes")
        self.text.setAccessibleName(self.title.text())
        self.text.setEnabled(bool(label))
        if self.text.toPlainText() != words:
            self.text.blockSignals(True)
            self.text.setPlainText(words)
            self.text.blockSignals(False)

    def _typed(self) -> None:
        if self._label:
            self.written.emit(self._label, self.text.toPlainText())


class RunningTestBox(WrappingWidget):
    """The test under way: what was fixed before, and the ways to leave it."""

    stop_wanted = Signal()
    leave_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(heading("Test"))
        self.words = quiet()
        layout.addWidget(self.words)
        line = QHBoxLayout()
        self.leave = QPushButton("Continue later")
        self.leave.setToolTip("Interrupt the test; the answers given so far are saved")
        self.stop = QPushButton("Stop test…")
        self.leave.clicked.connect(lambda _: self.leave_wanted.emit())
        self.stop.clicked.connect(lambda _: self.stop_wanted.emit())
        line.addWidget(self.leave)
        line.addWidget(self.stop)
        line.addStretch(1)
        layout.addLayout(line)

    def show_test(self, test: SealedTest) -> None:
        lines = [
            f"{test.test_kind.title}, {test.trials} trials fixed",
            f"Sealed {test.made[:16].replace('T', ' ')} UTC",
        ]
        if test.kind == ForcedChoiceKind.key:
            needed = least_right(test.trials)
            if needed is not None:
                lines.insert(1, f"{needed} correct needed for p < 0.05")
        lines.append(f"Digest {test.commitment[:4]} {test.commitment[4:8]} {test.commitment[8:12]} …")
        if test.overruled:
            lines.append(f"Unequal levels accepted: {test.overruled}")
        self.words.setText("\n".join(lines))
        self.setToolTip("")
