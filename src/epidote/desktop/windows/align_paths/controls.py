"""The side of the alignment window: the delay that is tried, what follows from it, and what can be done with it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from epidote.core.analysis.delay.manual_alignment import AlignmentQuality
from epidote.core.comparison.conditions.latency_table import distance_in_air
from epidote.core.quantities.formatting import format_quantity
from epidote.desktop.widgets.plain import Label, heading, plain_tip
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

STEPS = (("ms", "1 ms"), ("tenth ms", "0.1 ms"), ("1", "1 sample"), ("0.1", "0.1"), ("0.01", "0.01"))
_FIGURES = (
    ("ms", "Delay"),
    ("metres", "Distance in air (20 °C)"),
    ("correlation", "Correlation"),
    ("polarity", "Polarity"),
    ("level", "Level re channel 1"),
    ("null", "Subtraction residual"),
    ("best", "Offset from best"),
)


class AlignControls(QWidget):
    """The side of the alignment window: delay, figures and playing."""

    nudge_wanted = Signal(float)
    delay_typed = Signal(str)
    turned = Signal()
    listen_wanted = Signal(bool)
    stop_wanted = Signal()
    write_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 0, 0, 0)
        layout.addWidget(heading("Delay re channel 1"))
        line = QHBoxLayout()
        self.typed = QLineEdit()
        self.typed.setAccessibleName("Delay")
        self.typed.setToolTip("Delay in ms, s or samples, e.g. 1.31 ms or 62.9 samples")
        self.typed.returnPressed.connect(lambda: self.delay_typed.emit(self.typed.text().strip()))
        line.addWidget(tool("−", partial(self.nudge_wanted.emit, -1.0), "Decrease by one step"))
        line.addWidget(self.typed, 1)
        line.addWidget(tool("+", partial(self.nudge_wanted.emit, 1.0), "Increase by one step"))
        layout.addLayout(line)
        self.step = SegmentedButtons()
        self.step.set_options(STEPS, ["1"])
        layout.addWidget(self.step)
        self.figures: dict[str, Label] = {}
        form = QFormLayout()
        for key, words in _FIGURES:
            self.figures[key] = Label("–")
            self.figures[key].setAlignment(Qt.AlignmentFlag.AlignRight)
            self.figures[key].setAccessibleName(words)
            form.addRow(quiet(words), self.figures[key])
        layout.addSpacing(8)
        layout.addLayout(form)
        self.invert = QCheckBox("Invert polarity")
        self.invert.toggled.connect(lambda _: self.turned.emit())
        layout.addWidget(self.invert)
        layout.addSpacing(12)
        layout.addWidget(heading("Play sum of both channels"))
        self.device = QComboBox()
        self.device.setAccessibleName("Playback device")
        self.device.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        layout.addWidget(self.device)
        buttons = QHBoxLayout()
        for words, aligned in (("Play original", False), ("Play aligned", True)):
            buttons.addWidget(tool(words, partial(self.listen_wanted.emit, aligned)))
        buttons.addWidget(tool("Stop", self.stop_wanted.emit))
        buttons.addStretch(1)
        layout.addLayout(buttons)
        layout.addSpacing(12)
        layout.addWidget(tool("Export aligned files…", self.write_wanted.emit))
        layout.addStretch(1)

    def show_devices(self, devices: list[tuple[str, str]], usual: str) -> None:
        """List the devices that may play, with the one that does until another is chosen."""
        self.device.clear()
        for name, title in devices:
            self.device.addItem(title, name)
        self.device.setCurrentIndex(max(0, self.device.findData(usual)))

    def step_frames(self, rate: float) -> float:
        """Return the chosen step."""
        key = self.step.on()[0]
        return {"ms": 0.001 * rate, "tenth ms": 0.0001 * rate}.get(key) or float(key)

    def next_step(self, by: int) -> None:
        keys = [k for k, _ in STEPS]
        self.step.set_options(STEPS, [keys[max(0, min(len(keys) - 1, keys.index(self.step.on()[0]) + by))]])

    def show_fit(self, delay: float, rate: float, fit: AlignmentQuality, best: float) -> None:
        """Show the figures for a second path that is ``delay`` frames late."""
        if self.invert.isChecked():
            turned = -1
        else:
            turned = 1
        self.typed.setText(f"{delay:.3f} samples")
        texts = {
            "ms": format_quantity(delay / rate, "s", digits=5),
            "metres": f"{distance_in_air(delay / rate):.3f} m",
            "correlation": f"{turned * fit.correlation:+.5f}",
            "polarity": "normal" if turned * fit.polarity > 0 else "inverted",
            "level": format_quantity(fit.level_db, "dB"),
            "null": format_quantity(fit.null_db, "dB"),
            "best": f"{delay - best:+.3f} samples",
        }
        for key, words in texts.items():
            self.figures[key].setText(words)


def quiet(words: str) -> Label:
    """Return a label in the quiet colour."""
    label = Label(words)
    label.setProperty("quiet", True)
    return label


def tool(words: str, act: Callable[[], Any], tip: str = "") -> QToolButton:
    """Return a flat button that calls ``act``."""
    button = QToolButton()
    button.setText(words)
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    if tip:
        button.setToolTip(plain_tip(tip))
        button.setAccessibleName(tip)
    button.clicked.connect(lambda _=False: act())
    return button
