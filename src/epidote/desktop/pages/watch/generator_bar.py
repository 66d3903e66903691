"""The generator at hand: what plays, how loud, on which outputs, and the one button that lets it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QPushButton, QWidget

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, in_window
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import from_db, parse_as
from epidote.core.stimuli.generator import GeneratorSettings, Waveform
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

if TYPE_CHECKING:
    from epidote.core.signals.signal import Samples
    from epidote.desktop.state.session import Session

_WORDS = {
    Waveform.TONE: "Sine",
    Waveform.TWO_TONES: "Two-tone",
    Waveform.NOISE: "Noise",
    Waveform.MULTITONE: "Multitone",
    Waveform.FILE: "File",
}

LONGEST_FILE = 60.0  # s of a file that are looped

_FIELD_TIPS = {
    "frequency": "Frequency of the tone, e.g. 1 kHz",
    "second frequency": "Frequency of the second tone",
    "level": "Generator level in dBFS, V, dBV or dBu; limited by the chain's maximum output level",
}


class GeneratorBar(QWidget):
    """``changed`` when something else is to play, or nothing."""

    changed = Signal()
    failed = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.chain = Chain()
        self.samples: Samples | None = None  # of the file, at the chain's rate
        self._file: Path | None = None
        layout = FlowLayout(self)
        layout.setContentsMargins(20, 6, 20, 6)
        label = Label("Generator")
        label.setProperty("quiet", True)
        self.kind = SegmentedButtons()
        self.kind.set_options([(str(k), words) for k, words in _WORDS.items()], [str(Waveform.TONE)])
        self.frequency, self.second, self.level = (
            self._edit(*a) for a in (("1 kHz", "frequency"), ("1.1 kHz", "second frequency"), ("-20 dBFS", "level"))
        )
        self.outputs = QComboBox()
        self.outputs.setAccessibleName("Output channels")
        self.outputs.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
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
        for widget in (
            label,
            self.kind,
            self._at,
            self.frequency,
            self._and,
            self.second,
            self.level,
            self.volts,
            on,
            self.outputs,
        ):
            layout.addWidget(widget)
        layout.add_gap()
        layout.addWidget(self.switch)
        self.kind.chosen.connect(self._kind_chosen)
        self.outputs.activated.connect(lambda _: self._refresh())
        self.switch.clicked.connect(lambda _: self._refresh())
        self._refresh(tell=False)

    def _edit(self, text: str, name: str) -> QLineEdit:
        edit = QLineEdit(text)
        edit.setAccessibleName(f"Generator: {name}")
        edit.setFixedWidth(edit.fontMetrics().averageCharWidth() * 10 + 16)
        edit.setToolTip(plain_tip(_FIELD_TIPS[name]))
        edit.editingFinished.connect(self._refresh)
        return edit

    def set_chain(self, chain: Chain) -> None:
        other_rate = chain.rate != self.chain.rate
        self.chain = chain
        if other_rate and self._file is not None:
            self.samples = None
            self.use_file(self._file)
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

    def programme(self) -> GeneratorSettings | None:
        """Yield what is to play.

        None when what is typed cannot be understood (said in ``failed``) or the output is off.
        """
        if not self.on:
            return GeneratorSettings()
        kind = Waveform(self.kind.on()[0])
        try:
            level = parse_as(self.level.text(), "dBFS", self.chain.drive())
            frequency, second = (parse_as(e.text(), "Hz") for e in (self.frequency, self.second))
        except EpidoteError as error:
            self.failed.emit(in_window(error))
            return None
        index = self.outputs.currentIndex()
        if index <= 0:
            outputs = tuple(range(1, len(self.chain.outputs) + 1))
        else:
            outputs = (index,)
        return GeneratorSettings(kind, min(level, 0.0), frequency, second, outputs).below(self.chain.ceiling_dbfs)

    def _kind_chosen(self, chosen: tuple[str, ...]) -> None:
        if chosen == (str(Waveform.FILE),):
            self._show_kind(Waveform.TONE)  # until a file is chosen and read
            path, _ = QFileDialog.getOpenFileName(
                self, "Select audio file to loop", str(Path.home()), "Audio files (*.wav *.flac)"
            )
            if path:
                self.use_file(Path(path))
        self._refresh()

    def _show_kind(self, kind: Waveform) -> None:
        self.kind.set_options([(str(k), words) for k, words in _WORDS.items()], [str(kind)])

    def use_file(self, path: Path) -> None:
        """Play this file's first channel, brought to the chain's rate; it is read off the interface's thread."""
        rate = self.chain.rate

        def read() -> Samples:
            from epidote.audio.files.sound_file import read_tracks
            from epidote.audio.resampling import for_playing

            signal = read_tracks(path, 0.0, LONGEST_FILE)[0].signal
            return for_playing(signal.channel(1), signal.rate, rate)

        def done(samples: Samples) -> None:
            if rate != self.chain.rate:
                return  # the chain has changed meanwhile, and the file is being read for it
            self._file, self.samples = path, samples
            self._show_kind(Waveform.FILE)
            self._refresh()

        self._file = path
        self._session.aside(read, done, self._not_read)

    def _not_read(self, words: str) -> None:
        self._file = self.samples = None
        self._show_kind(Waveform.TONE)
        self._refresh()
        self.failed.emit(words)

    def _refresh(self, *, tell: bool = True) -> None:
        kind = Waveform(self.kind.on()[0])
        tones = kind in (Waveform.TONE, Waveform.TWO_TONES)
        for widget, shown in (
            (self._at, tones),
            (self.frequency, tones),
            (self._and, kind is Waveform.TWO_TONES),
            (self.second, kind is Waveform.TWO_TONES),
        ):
            widget.setVisible(shown)
        self.switch.setText("Stop output" if self.on else "Start output")
        try:
            level = min(parse_as(self.level.text(), "dBFS", self.chain.drive()), self.chain.ceiling_dbfs)
            full = self.chain.output_full_scale
            self.volts.setText(format_quantity(full * from_db(level), "V", digits=3) if full else "")
        except EpidoteError:
            self.volts.setText("?")
        if tell:
            self.changed.emit()
