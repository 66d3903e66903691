"""Beneath the spectrum: the waveform, the lines of the mains in every state, and the large figures."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from epidote.core.live.meter_readings import Figures, TwoChannels
from epidote.core.quantities.formatting import MISSING_VALUE, format_quantity
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.polyline import polygon
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import Label


def heading(words: str, quiet: str = "") -> tuple[QWidget, Label]:
    """Return a panel's head: words left, a quiet remark right."""
    holder = QWidget()
    layout = QGridLayout(holder)
    layout.setContentsMargins(0, 0, 0, 2)
    left, right = Label(words), Label(quiet)
    left.setProperty("heading", True)
    right.setProperty("quiet", True)
    layout.addWidget(left, 0, 0)
    layout.addWidget(right, 0, 1, Qt.AlignmentFlag.AlignRight)
    layout.setColumnStretch(0, 1)
    return holder, right


class WaveformPanel(QWidget):
    """The triggered waveform of every channel, scaled to the greatest."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._times = np.zeros(0)
        self._waves = np.zeros((0, 0))
        self._scale: tuple[float, str] = (1.0, "FS")
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Waveform")

    def sizeHint(self) -> QSize:
        return QSize(380, 150)

    def show_waves(self, times: Samples, waves: Samples, scale: tuple[float, str]) -> None:
        self._times, self._waves, self._scale = times, waves, scale
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), self.theme.colour("back"))
        small = font(0.8)
        p.setFont(small)
        height = QFontMetricsF(small).height()
        box = QRectF(self.rect()).adjusted(0, height, 0, -height)
        p.setPen(QPen(self.theme.colour("faint_line"), 1))
        p.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        if self._times.size < 2:
            return
        most = max(float(np.abs(self._waves).max()), 1e-9)
        factor, unit = self._scale
        p.setPen(self.theme.colour("quiet"))
        p.drawText(
            QRectF(0, 0, self.width(), height),
            Qt.AlignmentFlag.AlignLeft,
            f"±{format_quantity(most * factor, unit, digits=3)} peak",
        )
        xs = box.left() + (self._times - self._times[0]) / (self._times[-1] - self._times[0]) * box.width()
        step = max(1, xs.size // 1500)
        for channel in range(self._waves.shape[0] - 1, -1, -1):
            ys = box.center().y() - self._waves[channel] / most * box.height() / 2.05
            colour = self.theme.row(0)
            colour.setAlphaF(1.0 if channel == 0 else 0.45)
            p.setPen(QPen(colour, 1.4 if channel == 0 else 1))
            p.drawPolyline(polygon(xs[::step], ys[::step]))


class FiguresPanel(QWidget):
    """Level, frequency, THD+N, A-weighted level, crest, headroom: the first channel large, the others beside it."""

    ROWS = (
        ("level", "Level"),
        ("frequency", "Frequency"),
        ("thd_n", "THD+N, 20 Hz–20 kHz"),
        ("weighted", "Level, A-weighted"),
        ("peak", "Peak level"),
        ("crest", "Crest factor"),
        ("headroom", "Headroom"),
        ("gain", "Gain re generator"),
        ("correlation", "Correlation, 1 and 2"),
        ("mid_side", "Mid level · side level"),
    )

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 20, 8)
        layout.setSpacing(2)
        head, self.remark = heading("Readings", "Input 1 · Input 2")
        layout.addWidget(head)
        table = QGridLayout()
        table.setVerticalSpacing(4)
        table.setColumnStretch(0, 1)
        self.cells: dict[str, tuple[Label, Label]] = {}
        for row, (key, words) in enumerate(self.ROWS):
            large, small = Label(MISSING_VALUE), Label(MISSING_VALUE)
            large.setFont(font(1.2, bold=True))
            small.setProperty("quiet", True)
            for label, least in ((large, 118), (small, 92)):
                label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                label.setMinimumWidth(least)
            table.addWidget(Label(words), row, 0)
            table.addWidget(large, row, 1)
            table.addWidget(small, row, 2)
            self.cells[key] = (large, small)
        layout.addLayout(table)
        layout.addStretch(1)

    def show_relation(self, relation: TwoChannels | None) -> None:
        """Show how the first two inputs go together."""
        words = ("", ""), ("", "")
        if relation is not None:
            correlation = MISSING_VALUE if relation.correlation is None else f"{relation.correlation:+.3f}"
            mid, side = (_dbfs(level) for level in (relation.mid, relation.side))
            words = (correlation, ""), (mid, side)
        for key, texts in zip(("correlation", "mid_side"), words, strict=True):
            for cell, text in zip(self.cells[key], texts, strict=True):
                if cell.text() != text:
                    cell.setText(text)

    def show_figures(
        self,
        all_figures: tuple[Figures, ...],
        scales: list[tuple[float | None, str]],
        gains: list[float | None],
    ) -> None:
        """``scales``: per channel what 0 dBFS is at the unit, and in which unit; gains: from the generator, in dB."""
        for index in (0, 1):
            if index < len(all_figures):
                gain = gain_words(gains[index]) if index == 0 else format_quantity(gains[index], "dB", signed=True)
                texts = {**_texts(all_figures[index], scales[index]), "gain": gain}
            else:
                texts = {}
            for key in _OF_CHANNELS:
                cells = self.cells[key]
                words = texts.get(key, MISSING_VALUE)
                if cells[index].text() != words:
                    cells[index].setText(words)


_OF_CHANNELS = tuple(key for key, _ in FiguresPanel.ROWS[:-2])  # the last two are of both


def _dbfs(level: float) -> str:
    return f"{level:.2f} dBFS" if math.isfinite(level) else MISSING_VALUE


def gain_words(gain_db: float | None) -> str:
    """Return a gain in dB and as a ratio: "-12.04 dB (0.250)"."""
    if gain_db is None or not math.isfinite(gain_db):
        return MISSING_VALUE
    return f"{gain_db:+.2f} dB ({from_db(gain_db):#.3g})"


def _texts(f: Figures, scale: tuple[float | None, str]) -> dict[str, str]:
    full, unit = scale

    def absolute(level: float) -> str:
        if not math.isfinite(level):
            return MISSING_VALUE
        if full:
            return format_quantity(full * from_db(level), unit)
        return f"{level:.2f} dBFS"

    weighted = MISSING_VALUE
    if math.isfinite(f.weighted):
        if unit == "Pa":
            reference = 20e-6
        else:
            reference = 1.0
        if full is None:
            name = "dBFS"
        elif unit == "Pa":
            name = "dB SPL"
        else:
            name = "dBV"
        weighted = f"{f.weighted + (20 * math.log10(full / reference) if full else 0.0):.1f} {name}(A)"
    return {
        "level": absolute(f.rms),
        "frequency": format_quantity(f.frequency, "Hz", digits=6),
        "thd_n": format_quantity(f.thd_n, "dB"),
        "weighted": weighted,
        "peak": f"{f.peak:.2f} dBFS",
        "crest": format_quantity(f.crest, "dB"),
        "headroom": f"{f.headroom:.1f} dB" if math.isfinite(f.headroom) else MISSING_VALUE,
    }


class MainsTable(QWidget):
    """Rows of lines, a column for each state."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.heads: list[tuple[str, int]] = []
        self._rows: list[tuple[str, list[str]]] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Mains hum")
        self.setToolTip(
            "Level of each mains harmonic per snapshot. Below threshold: margin of the highest one to the threshold of"
            " hearing"
        )

    def sizeHint(self) -> QSize:
        return QSize(420, 170)

    def show_table(self, heads: list[tuple[str, int]], rows: list[tuple[str, list[str]]]) -> None:
        """heads: (name, colour) of each state; rows: (name, a value for each)."""
        if (heads, rows) != (self.heads, self._rows):
            self.heads, self._rows = heads, rows
            self.update()

    def rows(self) -> list[tuple[str, list[str]]]:
        return self._rows

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        small = font(0.9)
        p.setFont(small)
        metrics = QFontMetricsF(small)
        room = max(3, int(self.height() / (metrics.height() * 1.08)) - 1)
        # where it is tight the higher lines are left out, the sums stay
        if room >= len(self._rows):
            shown = self._rows
        else:
            shown = [*self._rows[: room - 2], *self._rows[-2:]]
        line = min(metrics.height() * 1.45, self.height() / max(1, len(shown) + 1))
        first = metrics.horizontalAdvance("Below threshold  ")
        wide = (self.width() - first) / max(1, len(self.heads))
        for i, (name, colour) in enumerate(self.heads):
            p.setPen(self.theme.row(colour))
            where = QRectF(first + i * wide, 0, wide - 4, line)
            p.drawText(
                where,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                metrics.elidedText(name, Qt.TextElideMode.ElideRight, wide - 8),
            )
        for r, (name, values) in enumerate(shown, start=1):
            p.setPen(QPen(self.theme.colour("faint_line"), 1))
            p.drawLine(QPointF(0, r * line), QPointF(self.width(), r * line))
            p.setPen(self.theme.colour("quiet"))
            p.drawText(
                QRectF(0, r * line, first, line), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name
            )
            p.setPen(self.theme.colour("text"))
            for i, value in enumerate(values):
                p.drawText(
                    QRectF(first + i * wide, r * line, wide - 4, line),
                    Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                    value,
                )
