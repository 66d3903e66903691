"""The generator at hand: what plays, how loud, on which outputs, and the one button that lets it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from epidote.core.chain import Chain
from epidote.core.display import format_quantity
from epidote.core.errors import EpidoteError, in_window
from epidote.core.quantity import from_db, parse_as
from epidote.core.stimulus.programme import Programme, ProgrammeKind
from epidote.desktop.widgets.choice import Choice
from epidote.desktop.widgets.plain import Label, plain_tip

if TYPE_CHECKING:
    from epidote.core.signal import Samples

_WORDS = {
    ProgrammeKind.TONE: "Sine", ProgrammeKind.TWO_TONES: "Two-tone", ProgrammeKind.NOISE: "Noise", ProgrammeKind.MULTITONE: "Multitone",
    ProgrammeKind.FILE: "File",
}  # fmt: skip

_FIELD_TIPS = {
    "frequency": "Frequency of the tone, e.g. 1 kHz",
    "second frequency": "Frequency of the second tone",
    "level": "Generator level in dBFS, V, dBV or dBu; limited by the chain's maximum output level",
}


class GeneratorBar(QWidget):
    """``changed`` when something else is to play, or nothing."""

    changed = Signal()
    failed = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.chain = Chain()
        self.samples: Samples | None = None
        layout = QHBoxLayout(self)
        layout.setContentsMargins(20, 6, 20, 6)
        layout.setSpacing(8)
        label = Label("Generator")
        label.setProperty("quiet", True)
        self.kind = Choice()
        self.kind.set_options([(str(k), words) for k, words in _WORDS.items()], [str(ProgrammeKind.TONE)])
        self.frequency, self.second, self.level = (
            self._edit(*a) for a in (("1 kHz", "frequency"), ("1.1 kHz", "second frequency"), ("-20 dBFS", "level"))
        )
        self.outputs = QComboBox()
        self.outputs.setAccessibleName("Output channels")
        self.volts = Label()
        self.volts.setProperty("quiet", True)
        self.switch = QPushButton("Start output")
        self.switch.setProperty("main", True)
        self.switch.setCheckable(True)
        self.switch.setToolTip("Start or stop the generator (Space)")
        self.outputs.setToolTip("Outputs that play the signal")
        self._at, self._and, on = Label("at"), Label("and"), Label("to")
        for words in (self._at, self._and, on):
            words.setProperty("quiet", True)
        for widget in (label, self.kind, self._at, self.frequency, self._and, self.second, self.level, self.volts, on, self.outputs):
            layout.addWidget(widget)
        layout.addStretch(1)
        layout.addWidget(self.switch)
        self.kind.chosen.connect(self._kind_chosen)
        self.outputs.activated.connect(lambda _: self._refresh())
        self.switch.clicked.connect(self._refresh)
        self._refresh(tell=False)

    def _edit(self, text: str, name: str) -> QLineEdit:
        edit = QLineEdit(text)
        edit.setAccessibleName(f"Generator: {name}")
        edit.setFixedWidth(86)
        edit.setToolTip(plain_tip(_FIELD_TIPS[name]))
        edit.editingFinished.connect(self._refresh)
        return edit

    def set_chain(self, chain: Chain) -> None:
        self.chain = chain
        names = ["All outputs", *(f"Output {n}" for n in chain.outputs)]
        if [self.outputs.itemText(i) for i in range(self.outputs.count())] != names:
            self.outputs.clear()
            self.outputs.addItems(names)
        self._refresh(tell=False)

    @property
    def on(self) -> bool:
        return self.switch.isChecked()

    def set_on(self, on: bool) -> None:
        """From outside; nothing is told."""
        self.switch.setChecked(on)
        self._refresh(tell=False)

    def toggle(self) -> None:
        self.switch.setChecked(not self.switch.isChecked())
        self._refresh()

    def programme(self) -> Programme | None:
        """What is to play; None when what is typed cannot be understood (said in ``failed``) or the output is off."""
        if not self.on:
            return Programme()
        kind = ProgrammeKind(self.kind.on()[0])
        try:
            level = parse_as(self.level.text(), "dBFS", self.chain.drive())
            frequency, second = (parse_as(e.text(), "Hz") for e in (self.frequency, self.second))
        except EpidoteError as error:
            self.failed.emit(in_window(error))
            return None
        index = self.outputs.currentIndex()
        outputs = tuple(range(1, len(self.chain.outputs) + 1)) if index <= 0 else (index,)
        return Programme(kind, min(level, 0.0), frequency, second, outputs).below(self.chain.ceiling_dbfs)

    def _kind_chosen(self, chosen: tuple[str, ...]) -> None:
        if chosen == (str(ProgrammeKind.FILE),) and not self._choose_file():
            self.kind.set_options([(str(k), words) for k, words in _WORDS.items()], [str(ProgrammeKind.TONE)])
        self._refresh()

    def _choose_file(self) -> bool:
        path, _ = QFileDialog.getOpenFileName(self, "Select audio file to loop", str(Path.home()), "Audio files (*.wav *.flac)")
        return bool(path) and self.use_file(Path(path))

    def use_file(self, path: Path) -> bool:
        """Play this file's first channel, brought to the chain's rate."""
        from epidote.audio.files import read_sound
        from epidote.core.analysis.clock import resampled

        try:
            signal = read_sound(path)
        except EpidoteError as error:
            self.failed.emit(in_window(error))
            return False
        x = signal.channel(1)[: round(60 * signal.rate)]
        step = signal.rate / self.chain.rate
        self.samples = x if step == 1 else resampled(x, step, 0.0, int(x.size / step))
        return True

    def _refresh(self, tell: object = True) -> None:
        kind = ProgrammeKind(self.kind.on()[0])
        tones = kind in (ProgrammeKind.TONE, ProgrammeKind.TWO_TONES)
        for widget, shown in (
            (self._at, tones),
            (self.frequency, tones),
            (self._and, kind is ProgrammeKind.TWO_TONES),
            (self.second, kind is ProgrammeKind.TWO_TONES),
        ):
            widget.setVisible(shown)
        self.switch.setText("Stop output" if self.on else "Start output")
        try:
            level = min(parse_as(self.level.text(), "dBFS", self.chain.drive()), self.chain.ceiling_dbfs)
            full = self.chain.output_full_scale
            self.volts.setText(format_quantity(full * from_db(level), "V", digits=3) if full else "")
        except EpidoteError:
            self.volts.setText("?")
        if tell is not False:
            self.changed.emit()
