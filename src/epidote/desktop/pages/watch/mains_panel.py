"""The lines of the mains in every state, and what of the present would be heard at a stated playback level."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QToolButton, QVBoxLayout, QWidget

from epidote.core.analysis.spectral.hearing_threshold import audibility_sentence, audible_components, threshold
from epidote.core.live.spectrum_analyser import HeldSpectrum, mains_lines, sum_of
from epidote.core.quantities.formatting import MISSING_VALUE
from epidote.desktop.pages.watch.meter_panels import MainsTable, heading
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

_LINES_SHOWN, _COARSE = 5, 16384


class LinesPanel(QWidget):
    """``changed`` when another mains frequency, or the threshold of hearing, is to be shown."""

    changed = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 16, 8)
        head, self._remark = heading("Mains hum")
        self.hertz = SegmentedButtons()
        self.hertz.set_options([("50", "50 Hz"), ("60", "60 Hz")], ["50"])
        self.hertz.chosen.connect(lambda _: self.changed.emit())
        self.hearing = QToolButton()
        self.hearing.setText("Threshold of hearing")
        self.hearing.setCheckable(True)
        self.hearing.clicked.connect(lambda _: self.changed.emit())
        self.playback = QLineEdit("96")
        self.playback.setFixedWidth(44)
        self.playback.setAccessibleName("Playback level: dB SPL at the listener for 0 dB")
        self.playback.setToolTip("Playback level: dB SPL at the listener for 0 dB")
        self.hearing.setToolTip("Show the threshold of hearing (ISO 226) at the playback level")
        self.playback.editingFinished.connect(self.changed.emit)
        self.table = MainsTable(theme)
        self.heard = Label()
        self.heard.setWordWrap(True)
        self.heard.setProperty("quiet", True)
        first = QHBoxLayout()
        first.addWidget(head, 1)
        first.addWidget(self.hertz)
        last = QHBoxLayout()
        for item in (self.hearing, Label("0 dB ="), self.playback, Label("dB SPL")):
            last.addWidget(item)
        last.addStretch(1)
        layout.addLayout(first)
        layout.addWidget(self.table, 1)
        layout.addLayout(last)
        layout.addWidget(self.heard)

    @property
    def mains(self) -> float:
        """In Hz."""
        return float(self.hertz.on()[0])

    @property
    def spl_of_zero(self) -> float | None:
        """DB SPL at the listener of what reads 0 dB; None when what is typed is no level."""
        try:
            value = float(self.playback.text().replace(",", "."))
        except ValueError:
            return None
        if math.isfinite(value) and abs(value) <= 200:
            return value
        return None

    def fill(self, states: Sequence[tuple[HeldSpectrum, int]], offset: float, unit: str) -> None:
        """states: each with its colour, the present first; offset: what is added to dBFS."""
        lines = [mains_lines(s, self.mains) for s, _ in states]
        rows = [
            (f"{(k + 1) * self.mains:g} Hz", [_shown(found[k][1], offset) for found in lines])
            for k in range(_LINES_SHOWN)
        ]
        rows.append(
            (f"Sum to {10 * self.mains:g} Hz", [_shown(sum_of([v for _, v in found]), offset) for found in lines])
        )
        spl = self.spl_of_zero
        if spl is not None:
            rows.append(("Below threshold", [_margin(found, offset + spl) for found in lines]))
        self.table.show_table([(s.name, colour) for s, colour in states], rows)
        coarse = bool(states) and states[0][0].length < _COARSE and all(v is None for _, v in lines[0])
        self._remark.setText("FFT too short to resolve" if coarse else f"{unit}, Input 1")
        self.heard.setText(
            self._statement(states[0][0], offset, spl)
            if self.hearing.isChecked() and spl is not None and states
            else ""
        )

    @staticmethod
    def _statement(state: HeldSpectrum, offset: float, spl: float) -> str:
        levels = 10 * np.log10(np.maximum(state.power[0], 1e-22).astype(np.float64)) + offset
        return audibility_sentence(audible_components(levels, state.rate / state.length, spl), spl)


def _shown(level: float | None, offset: float) -> str:
    if level is None:
        return MISSING_VALUE
    return f"{level + offset:.1f}"


def _margin(lines: list[tuple[float, float | None]], spl_of_dbfs: float) -> str:
    """By how much the line nearest to the threshold of hearing lies below it."""
    margins = [float(threshold(np.array([f]))[0]) - v - spl_of_dbfs for f, v in lines if v is not None]
    finite = [m for m in margins if math.isfinite(m)]
    if finite:
        return f"{min(finite):.0f} dB"
    return MISSING_VALUE
