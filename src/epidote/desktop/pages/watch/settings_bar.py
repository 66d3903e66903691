"""How the live spectrum is made and shown: length, window, averaging, unit, axis."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QToolButton, QWidget

from epidote.core.chain.chain import Chain
from epidote.core.live.spectrum_analyser import LENGTHS, WINDOWS, AnalyserSettings, Averaging
from epidote.core.quantities.units import LEVEL_UNITS, to_db
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.desktop.widgets.tips import UNIT_TIPS

ZERO = "relative"
_AVERAGES = (
    ("Averaging off", Averaging.NONE, 1),
    ("Linear, 8", Averaging.LINEAR, 8),
    ("Linear, 64", Averaging.LINEAR, 64),
    ("Exponential, 8", Averaging.EXPONENTIAL, 8),
    ("Peak hold", Averaging.PEAK, 1),
)


class SettingsBar(QWidget):
    """``changed``: the spectrum is to be made otherwise.

    ``unit_chosen`` and ``axis_chosen``: it is to be shown otherwise.
    """

    changed = Signal()
    unit_chosen = Signal(str)
    axis_chosen = Signal()
    restart_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        line = FlowLayout(self, spacing=10)
        line.setContentsMargins(20, 2, 20, 2)
        self.length, self.window_choice, self.average = QComboBox(), QComboBox(), QComboBox()
        for combo, name in ((self.length, "FFT length"), (self.window_choice, "Window"), (self.average, "Averaging")):
            combo.setAccessibleName(name)
            combo.activated.connect(lambda _: self.changed.emit())
        for n in LENGTHS:
            self.length.addItem(f"FFT {n // 1024}k" if n >= 1024 else f"FFT {n}", n)
        self.length.setCurrentIndex(LENGTHS.index(65536))
        self.window_choice.addItems(list(WINDOWS))
        for words, kind, count in _AVERAGES:
            self.average.addItem(words, (kind, count))
        self.again = QToolButton()
        self.again.setText("Reset averaging")
        self.again.setToolTip("Restart averaging and peak hold (R)")
        self.again.clicked.connect(lambda _=False: self.restart_wanted.emit())
        self.units, self.axis = SegmentedButtons(), SegmentedButtons()
        self.length.setToolTip("Samples per spectrum: a longer FFT resolves finer and reacts more slowly")
        self.window_choice.setToolTip(
            "Window applied before the FFT: higher side-lobe rejection costs frequency resolution"
        )
        self.average.setToolTip("How successive spectra are combined")
        self.axis.set_options(
            [("log", "Log"), ("linear", "Linear")],
            ["log"],
            {"log": "Logarithmic frequency axis", "linear": "Linear frequency axis"},
        )
        self.units.chosen.connect(lambda on: self.unit_chosen.emit(on[0] if on else "dBFS"))
        self.axis.chosen.connect(lambda _: self.axis_chosen.emit())
        for item in (self.length, self.window_choice, self.average, self.again, self.units, self.axis):
            line.addWidget(item)

    def settings(self, wave_seconds: float) -> AnalyserSettings:
        kind, count = self.average.currentData()
        return AnalyserSettings(self.length.currentData(), self.window_choice.currentText(), kind, count, wave_seconds)

    @property
    def log(self) -> bool:
        return self.axis.on() != ("linear",)

    @property
    def unit(self) -> str:
        return (self.units.on() or ("dBFS",))[0]

    def set_chain(self, chain: Chain) -> None:
        """Offer the units that the chain's calibration allows."""
        options = [("dBFS", "dBFS")]
        full, base = chain.scale(1)
        if full:
            if base == "V":
                options += [("dBV", "dBV"), ("dBu", "dBu")]
            else:
                options += [("dB SPL", "dB SPL")]
        options.append((ZERO, "Set 0 dB"))
        tips = {**UNIT_TIPS, ZERO: "Make the highest level shown read 0 dB (Z)"}
        self.units.set_options(options, [self.unit if self.unit in dict(options) else "dBFS"], tips)

    def offset(self, chain: Chain, zero: float, channel: int) -> float:
        """Return what is added to dBFS to give what is shown; zero: dBFS that is to read 0."""
        if self.unit == ZERO:
            return -zero
        full, _ = chain.scale(channel)
        if self.unit != "dBFS" and full:
            return to_db(full / LEVEL_UNITS[self.unit][1])
        return 0.0
