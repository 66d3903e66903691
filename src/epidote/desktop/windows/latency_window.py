"""Every measured latency side by side: by device, buffer and rate, what can be lived with, what is equally late, and
how far sound goes meanwhile.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from epidote.core.comparison.conditions.latency_table import (
    LIVE,
    LatencyTable,
    MeasuredLatency,
    distance_in_air,
    latency_table,
    live_suitability,
    similar_latencies,
)
from epidote.core.errors import EpidoteError
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import parse_as
from epidote.core.wording.differences import latency_words, suitability_words
from epidote.desktop.theme import font
from epidote.desktop.widgets.help_key import listen_for_help
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.scrolled import scrolled
from epidote.desktop.widgets.wording import LOADING
from epidote.desktop.windows.latency_bars import LatencyBar, LatencyBars

if TYPE_CHECKING:
    from epidote.desktop.state.session import Session
    from epidote.desktop.theme import Theme
    from epidote.study.store import Study

_WITHIN = 0.05


class LatencyWindow(QDialog):
    """Latencies by device and setting, with the search for an equal one."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        listen_for_help(self)
        self.setWindowTitle("Latency table")
        self.resize(1000, 620)
        self.setProperty("help", "windows")
        self._theme = theme
        self._found: list[MeasuredLatency] | None = None  # None until they are read
        self._seen: LatencyTable | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 10)
        self.heading = Label("Latency in ms and equivalent distance in air (20 °C)")
        self.heading.setProperty("heading", True)
        layout.addWidget(self.heading)
        self.table = ReadOnlyTable("Latencies")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        chosen = f"background: {theme.chosen_back}; color: {theme.text};"
        self.table.setStyleSheet(f"QTableView::item {{ padding: 2px 10px; }} QTableView::item:selected {{ {chosen} }}")
        self.table.selectionModel().currentChanged.connect(lambda *_: self._chosen())
        self.bars = LatencyBars(theme, [(format_quantity(LIVE[1], "s", digits=2), LIVE[1])])
        split = self._split = QSplitter(Qt.Orientation.Vertical)
        split.setChildrenCollapsible(False)
        split.addWidget(self.table)
        split.addWidget(scrolled(self.bars))
        layout.addWidget(split, 1)
        low, high = (format_quantity(v, "s", digits=2) for v in LIVE)
        guide = Label(
            f"▲ Above {high}: disturbs live playing. {low} to {high}: borderline (rule of thumb). The first part of a"
            " bar is what twice the buffer size explains."
        )
        guide.setWordWrap(True)
        guide.setProperty("quiet", True)
        layout.addWidget(guide)
        line = QHBoxLayout()
        label = Label(f"Find latency (±{100 * _WITHIN:g} %)")
        label.setProperty("quiet", True)
        line.addWidget(label)
        self.wanted = QLineEdit()
        self.wanted.setAccessibleName("Latency to find")
        self.wanted.setMaximumWidth(120)
        self.wanted.setPlaceholderText("5 ms")
        self.wanted.textChanged.connect(self.look_up)
        line.addWidget(self.wanted)
        line.addStretch(1)
        layout.addLayout(line)
        self.equals = Label(LOADING)
        self.equals.setWordWrap(True)
        layout.addWidget(self.equals)

        def ask(study: Study) -> list[MeasuredLatency]:
            from epidote.measurement.assessment import latencies

            return latencies(study)

        session.ask(ask, self.show_latencies)

    def show_latencies(self, latencies: list[MeasuredLatency]) -> None:
        self._found = latencies
        self.look_up(self.wanted.text())
        if not latencies:
            self.heading.setText("No latency measured in this study. Measure a “Latency” column first.")
            return
        seen = self._seen = latency_table(latencies)
        heads = [TableCell("", font(), right=False)]
        heads += [TableCell(_setting_words(setting), font()) for setting in seen.settings]
        rows = []
        for device in seen.devices:
            cells = (self._cell(seen.cells.get((device, setting))) for setting in seen.settings)
            rows.append([TableCell(device, font(), right=False), *cells])
        self.table.show_cells(heads, rows)
        lines = len(seen.devices) + 2
        wanted = lines * self.table.verticalHeader().defaultSectionSize()
        height = min(wanted, self._split.height() // 2)
        self._split.setSizes([height, self._split.height() - height])
        self.bars.show_bars([_bar(one) for one in sorted(latencies, key=lambda one: (one.device, one.setting))])

    def _cell(self, latency: MeasuredLatency | None) -> TableCell:
        if latency is None:
            return TableCell("", font())
        colour = self._theme.colour("text")
        if latency.longest > LIVE[0]:
            colour = self._theme.colour("caution")
        tip = plain_tip(latency_words(latency))
        return TableCell(_cell_words(latency), font(), tip, colour)

    def _chosen(self) -> None:
        row, column = self.table.current_cell()
        if self._seen is None or row < 0 or column < 1:
            return
        cell = self._seen.cells.get((self._seen.devices[row], self._seen.settings[column - 1]))
        if cell is not None:
            self.wanted.setText(f"{1000 * cell.seconds:.4g} ms")

    def look_up(self, text: str) -> None:
        """Say what is as late as ``text``."""
        if self._found is None:
            return
        try:
            seconds = parse_as(text, "s")
        except EpidoteError:
            self.equals.setText("Enter a latency, e.g. 5 ms." if text.strip() else "Select a cell or enter a latency.")
            self.bars.mark_equal(frozenset())
            return
        near = similar_latencies(self._found, seconds, _WITHIN)
        self.bars.mark_equal(frozenset(_bar(one).name for one in near))
        matches = "; ".join(
            f"{one.device} at {_setting_words(one.setting)} ({format_quantity(one.seconds, 's', digits=4)})"
            for one in near
        )
        distance = f"{distance_in_air(seconds):.2f} m ({suitability_words(live_suitability(seconds))})"
        self.equals.setText(matches or f"No measured latency matches. Equivalent distance in air: {distance}.")


def _bar(one: MeasuredLatency) -> LatencyBar:
    rate, buffer = one.setting
    return LatencyBar(f"{one.device}, {_setting_words(one.setting)}", one.seconds, 2 * buffer / rate if rate else 0.0)


def _setting_words(setting: tuple[float, int]) -> str:
    rate, buffer = setting
    if buffer:
        return f"{rate / 1000:g} kHz, buffer {buffer}"
    return f"{rate / 1000:g} kHz"


def _cell_words(cell: MeasuredLatency) -> str:
    mark = ""
    if cell.longest > LIVE[1]:
        mark = "▲ "
    milliseconds = f"{1000 * cell.seconds:.3f}"
    if cell.jumps:
        milliseconds += f" to {1000 * cell.longest:.3f}"
    return f"{mark}{milliseconds} ms   {distance_in_air(cell.seconds):.2f} m"
