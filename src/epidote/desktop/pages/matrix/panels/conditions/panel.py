"""A reading over the conditions in which the chosen rows differ: a table over two, a line over one, and what comes
to the same.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from epidote.core.quantities.formatting import format_quantity
from epidote.desktop.pages.matrix.panels.conditions.band_bars import BandBars
from epidote.desktop.plotting.map_view import MapView
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell

if TYPE_CHECKING:
    from epidote.core.comparison.conditions.condition_table import ConditionReading, ConditionTable
    from epidote.core.comparison.conditions.curve_map import CurveMap
    from epidote.core.comparison.conditions.uniformity import Uniformity


class ConditionLines(QWidget):
    """The reading along the first condition, a line for each value of the second; evenly spaced, since conditions need
    not be numbers.
    """

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._grid: ConditionTable | None = None
        self.setMinimumHeight(110)
        self.setAccessibleName("Reading vs. conditions")

    def show_grid(self, grid: ConditionTable | None) -> None:
        self._grid = grid
        self.setVisible(grid is not None and len(grid.first[1]) > 1)
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        g = self._grid
        if g is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        small = font(0.8)
        p.setFont(small)
        metrics = QFontMetricsF(small)
        values = [t.value for t in g.cells.values()]
        low, high = min(values), max(values)
        pad = 0.12 * (high - low) or abs(high) * 0.1 or 1.0
        low, high = low - pad, high + pad
        unit = next(iter(g.cells.values())).unit
        left = max(metrics.horizontalAdvance(format_quantity(v, unit, digits=3)) for v in (low, high)) + 12
        if g.second:
            kinds = g.second[1]
        else:
            kinds = ("",)
        right = max((metrics.horizontalAdvance(k) for k in kinds), default=0) + 10
        box = QRectF(left, 6, self.width() - left - right, self.height() - metrics.height() - 12)
        places = g.first[1]
        t = self.theme
        for share, value in ((0.0, low), (0.5, (low + high) / 2), (1.0, high)):
            y = box.bottom() - share * box.height()
            p.setPen(QPen(t.colour("faint_line"), 1))
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            p.setPen(t.colour("quiet"))
            p.drawText(
                QRectF(0, y - metrics.height() / 2, left - 8, metrics.height()),
                Qt.AlignmentFlag.AlignRight,
                format_quantity(value, unit, digits=3),
            )
        step = box.width() / max(1, len(places) - 1)
        for i, place in enumerate(places):
            x = box.left() + i * step
            p.setPen(t.colour("quiet"))
            p.drawText(QRectF(x - 60, box.bottom() + 4, 120, metrics.height()), Qt.AlignmentFlag.AlignCenter, place)
        for k, kind in enumerate(kinds):
            pen = QPen(t.row(k), 1.7)
            if k % 2:
                pen.setDashPattern([5, 3])
            p.setPen(pen)
            points = [
                QPointF(box.left() + i * step, box.bottom() - (reading.value - low) / (high - low) * box.height())
                for i, a in enumerate(places)
                if (reading := g.at(a, kind)) is not None
            ]
            p.drawPolyline(points)
            for point in points:
                p.drawEllipse(point, 2.2, 2.2)
            if points and kind:
                p.drawText(QPointF(points[-1].x() + 6, points[-1].y() + metrics.height() / 4), kind)


class ConditionsPanel(QWidget):
    """A reading as a function of the conditions: a table or a line."""

    reading_chosen = Signal(str)
    normalised_chosen = Signal(object)  # value of the condition whose curve becomes 0 dB, or None

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 6, 16, 10)
        layout.setSpacing(6)
        top = QHBoxLayout()
        self.reading = QComboBox()
        self.reading.setAccessibleName("Reading")
        self.reading.activated.connect(lambda _: self.reading_chosen.emit(str(self.reading.currentData())))
        top.addWidget(self.reading)
        self.over = Label()
        self.over.setProperty("quiet", True)
        top.addWidget(self.over, 1)
        self.normalised = QComboBox()
        self.normalised.setAccessibleName("Normalise map to")
        self.normalised.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.normalised.setMinimumContentsLength(10)
        self.normalised.setProperty("elides", True)
        self.normalised.setToolTip("Show levels as they are, or relative to one of the rows")
        self.normalised.activated.connect(lambda _: self.normalised_chosen.emit(self.normalised.currentData()))
        top.addWidget(self.normalised)
        layout.addLayout(top)
        self.table = ReadOnlyTable("Reading vs. conditions, table")
        layout.addWidget(self.table, 1)
        self.lines = ConditionLines(theme)
        layout.addWidget(self.lines, 1)
        self.bars = BandBars(theme)
        layout.addWidget(self.bars, 1)
        self.map = MapView(theme)
        layout.addWidget(self.map, 3)
        self.words = Label()
        self.words.setWordWrap(True)
        self.words.setProperty("quiet", True)
        layout.addWidget(self.words)

    def offer(self, readings: list[tuple[str, str]], current: str) -> None:
        """Offer readings, as (key, words), to choose from."""
        self.reading.clear()
        for key, words in readings:
            self.reading.addItem(words, key)
        self.reading.setCurrentIndex(max(0, self.reading.findData(current)))

    def show_words(self, words: str) -> None:
        """Why there is no table."""
        self.normalised.hide()
        self.table.show_cells((), ())
        self.lines.show_grid(None)
        self.bars.show_bands(None)
        self.table.show()
        self.map.show_map(None)
        self.over.setText("")
        self.words.setText(words)

    def show_uniformity(self, found: Uniformity, over: str) -> None:
        """Show by how much the rows differ in each band, and where most."""
        self.normalised.hide()
        self.over.setText(f"by band, over {over}")
        quiet = self.theme.colour("quiet")
        heads = [
            TableCell("Band", font(0.9), right=False),
            TableCell("Deviation", font(0.9, bold=True)),
            TableCell("Highest", font(0.9), right=False),
            TableCell("Lowest", font(0.9), right=False),
        ]
        rows = []
        for band in found.bands:
            colour = quiet if band.near_background else self.theme.colour("text")
            tip = "Not counted: a level is less than 3 dB above the background" if band.near_background else ""
            frequency = format_quantity(band.frequency, "Hz", digits=3)
            rows.append(
                [
                    TableCell(frequency, font(0.9), tip, colour, right=False),
                    TableCell(f"{band.deviation:.2f} dB", font(0.9), tip, colour),
                    TableCell(band.greatest_at, font(0.9), tip, colour, right=False),
                    TableCell(band.least_at, font(0.9), tip, colour, right=False),
                ]
            )
        self.table.show_cells(heads, rows)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.lines.show_grid(None)
        self.bars.theme = self.theme
        self.bars.show_bands(found)
        self.table.show()
        self.map.show_map(None)
        where = format_quantity(found.worst_frequency, "Hz", digits=3)
        self.words.setText(
            f"Largest: {found.largest:.2f} dB at {where}, {found.worst}."
            f" Mean over the bands: {found.mean_deviation:.2f} dB; lower is more uniform."
        )

    def show_map(self, made: CurveMap, figures: list[tuple[str, str]], normalised_to: float | None) -> None:
        """Show a map of frequency and condition; figures: (what, value in words) beside it; normalised_to: the value
        whose row is 0 dB.
        """
        self.normalised.clear()
        self.normalised.addItem("As measured", None)
        for value in made.values.tolist():
            self.normalised.addItem(f"Re {made.condition} {value:g}", value)
        self.normalised.setCurrentIndex(max(0, self.normalised.findData(normalised_to)))
        self.normalised.show()
        self.over.setText(made.unit)
        heads = [TableCell("", font(0.9), right=False), TableCell("", font(0.9))]
        rows = [[TableCell(what, font(0.9), right=False), TableCell(value, font(0.9))] for what, value in figures]
        self.table.show_cells(heads, rows)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.lines.show_grid(None)
        self.bars.show_bands(None)
        self.table.setVisible(bool(rows))
        self.map.theme = self.theme
        self.map.show_map(made)
        self.words.setText("")

    def _cell(self, reading: ConditionReading | None) -> TableCell:
        if reading is None:
            return TableCell("not measured", font(0.9), colour=self.theme.colour("quiet"))
        text = format_quantity(reading.value, reading.unit, uncertainty=reading.spread or None)
        return TableCell(text, font(0.9), plain_tip(reading.name), self.theme.colour("text"))

    def show_grid(self, grid: ConditionTable, equal: list[str]) -> None:
        self.normalised.hide()
        if grid.second:
            seconds = grid.second[1]
        else:
            seconds = ("",)
        self.over.setText(f"vs. {grid.first[0]}{f' and {grid.second[0]}' if grid.second else ''}")
        heads = [TableCell(grid.first[0], font(0.9), right=False)]
        for second in seconds:
            title = f"{grid.second[0]} {second}" if grid.second else ""
            heads.append(TableCell(title, font(0.9, bold=True)))
        rows = []
        for first in grid.first[1]:
            name = TableCell(first, font(0.9), right=False)
            rows.append([name, *(self._cell(grid.at(first, second)) for second in seconds)])
        self.table.show_cells(heads, rows)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.lines.theme = self.theme
        self.lines.show_grid(grid)
        self.bars.show_bands(None)
        self.table.show()
        self.map.show_map(None)
        self.words.setText("\n".join(equal[:4]))
