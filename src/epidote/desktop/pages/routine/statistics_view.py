"""Statistics over units: a table of readings, and the picture of the one that is selected."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QComboBox, QHeaderView, QLineEdit, QSplitter, QVBoxLayout, QWidget

from epidote.core.errors import EpidoteError, in_window
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.channels import short_channel_name
from epidote.desktop.pages.routine.statistics_pictures import PICTURES
from epidote.desktop.pages.routine.statistics_pictures.over_time import drift_words
from epidote.desktop.pages.routine.statistics_pictures.picture import (
    PairedReading,
    Picture,
    PlottedBands,
    PlottedReading,
)
from epidote.desktop.pages.routine.statistics_plot import StatisticsPlot
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, plain_tip, quiet
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.scrolled import WrappingWidget, scrolled
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.desktop.widgets.wording import LOADING

if TYPE_CHECKING:
    from epidote.core.statistics.overall import ValueStatistics
    from epidote.measurement.unit_statistics import BandStatistics, ReadingLimits, UnitSelection, UnitValues
    from epidote.study.models import Column
    from epidote.study.store import Study

_PAUSE = 400  # ms after the last key before statistics are computed anew
_HEADS = ("Reading", "n", "Mean", "s", "Cpk", "Yield", "Outliers", "Signals")
_TIPS = {
    "n": "Units with a value",
    "s": "Standard deviation",
    "Cpk": (
        "Capability index: distance from the mean to the nearer limit, divided by 3 s (ISO 22514-2); in"
        " brackets the lower end of its 95 % interval"
    ),
    "Yield": "Share of units within the limits",
    "Outliers": "Outliers by the generalised ESD test, 5 % level",
    "Signals": "Control chart points that violate a Western Electric rule",
}


@dataclass(frozen=True, eq=False)
class ListedReading:
    """A reading of one channel over the selected units."""

    values: UnitValues
    limits: ReadingLimits
    statistics: ValueStatistics

    @property
    def title(self) -> str:
        return f"{self.values.title}, {short_channel_name(self.values.channel)}"


class StatisticsView(QWidget):
    """Follows the column, and the selection of units by day, serial number, firmware and operator."""

    failed = Signal(str)

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.session, self.theme = session, theme
        self.readings: list[ListedReading] = []
        self._columns: tuple[Column, ...] = ()
        self._asked = self._asked_curve = 0
        self._curves: list[tuple[str, int, str]] = []  # key, channel and title of each
        self._shown: object = None  # column and selection that the table is of
        self._is_loading = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 8, 20, 12)
        layout.setSpacing(8)
        layout.addWidget(self._build_selection())
        self.problem = quiet()
        self.problem.hide()
        layout.addWidget(self.problem)
        split = QSplitter()
        self.table = ReadOnlyTable("Readings over units")
        self.table.choose_rows()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self._show_picture())
        split.addWidget(self.table)
        split.addWidget(scrolled(self._build_picture()))
        split.setSizes([620, 600])
        layout.addWidget(split, 1)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_PAUSE)
        self._soon.timeout.connect(self.refresh)

    def _build_selection(self) -> QWidget:
        holder = WrappingWidget()
        line = FlowLayout(holder, spacing=8)
        line.setContentsMargins(0, 0, 0, 0)
        self.column = QComboBox()
        self.column.setAccessibleName("Column")
        self.column.activated.connect(lambda _: self.refresh())
        line.addWidget(self.column)
        self.fields: dict[str, QLineEdit] = {}
        for name, words, tip in (
            ("serial", "Serial number", "Only these units; * and ? are wildcards"),
            ("since", "Since, YYYY-MM-DD", "Only units measured since this day"),
            ("until", "Until, YYYY-MM-DD", "Only units measured until this day"),
            ("firmware", "Firmware", "Only units with this firmware"),
            ("operator", "Operator", "Only units measured by this operator"),
        ):
            field = QLineEdit()
            field.setPlaceholderText(words)
            field.setAccessibleName(words)
            field.setToolTip(plain_tip(tip))
            field.textEdited.connect(lambda _: self._soon.start())
            line.addWidget(field)
            self.fields[name] = field
        return holder

    def _build_picture(self) -> QWidget:
        right = WrappingWidget()
        layout = QVBoxLayout(right)
        layout.setContentsMargins(12, 0, 0, 0)
        self.heading = Label()
        self.heading.setProperty("heading", True)
        self.pictures = SegmentedButtons()
        options = [(picture.key, picture.title) for picture in PICTURES.values()]
        self.pictures.set_options(options, [options[0][0]])
        self.pictures.chosen.connect(lambda _: self._show_picture())
        self.other, self.curve = QComboBox(), QComboBox()
        self.other.setAccessibleName("Other reading")
        self.curve.setAccessibleName("Curve")
        for box in (self.other, self.curve):
            box.activated.connect(lambda _: self._show_picture())
        self.plot = StatisticsPlot(self.theme)
        self.plot.unit_picked.connect(self._picked)
        self.words = quiet()
        for part in (self.heading, self.pictures, self.other, self.curve, self.plot, self.words):
            layout.addWidget(part, 1 if part is self.plot else 0)
        return right

    def set_theme(self, theme: Theme) -> None:
        """Show everything in another theme."""
        self.theme = theme
        self.plot.set_theme(theme)
        self._fill()

    # -- asking --------------------------------------------------------------------------------------

    def forget(self) -> None:
        """Another study is open: its columns have the same numbers."""
        self._columns, self._curves, self._shown = (), [], None
        self.column.clear()
        self.curve.clear()
        for field in self.fields.values():
            field.clear()
        self._show([])

    def refresh(self) -> None:
        """Compute the statistics of the selected column anew, off the interface's thread."""
        overview = self.session.overview
        if overview is None:
            return
        columns = tuple(overview.columns)
        if [c.id for c in columns] != [c.id for c in self._columns]:
            present = self.column.currentData()
            self.column.clear()
            for column in columns:
                self.column.addItem(f"{column.title}, {column.summary}", column.id)
            self.column.setCurrentIndex(max(0, self.column.findData(present)))
            self._columns = columns
        chosen = next((c for c in columns if c.id == self.column.currentData()), None)
        if chosen is None:
            self._show([])
            return
        texts = self._texts()
        self._asked += 1
        number = self._asked
        if (chosen.id, texts) != self._shown:  # what is in view is of another selection
            self._shown = (chosen.id, texts)
            self._is_loading = True
            self.problem.setText(LOADING)
            self.problem.show()
            self._show_curves([])
            self._show([])

        def show(found: ListedColumn | str) -> None:
            if number != self._asked:
                return
            self._is_loading = False
            self.problem.setText(found if isinstance(found, str) else "")
            self.problem.setVisible(isinstance(found, str))
            self._show_curves([] if isinstance(found, str) else found.curves)
            self._show([] if isinstance(found, str) else found.readings)

        study = self.session.study
        if study is not None:
            self.session.compute(lambda: _listed(study, chosen, texts), show, self.failed.emit)

    def _show_curves(self, curves: list[tuple[str, int, str]]) -> None:
        """List the curves of the column: key, channel, title."""
        self._curves = curves
        present = self.curve.currentText()
        self.curve.clear()
        self.curve.addItems([title for _, _, title in curves])
        self.curve.setCurrentIndex(max(0, self.curve.findText(present)))

    def _ask_for_curve(self) -> None:
        """Compute the selected curve over the selected units, off the interface's thread."""
        row, study = self.curve.currentIndex(), self.session.study
        column = next((c for c in self._columns if c.id == self.column.currentData()), None)
        picture = self._picture
        self.plot.show_plotted(None, picture.key, LOADING)
        if study is None or column is None or not 0 <= row < len(self._curves):
            return
        key, channel, title = self._curves[row]
        texts = self._texts()
        self._asked_curve += 1
        number = self._asked_curve

        def show(found: BandStatistics | str) -> None:
            if number != self._asked_curve or self._picture is not picture:
                return
            if isinstance(found, str):
                self.plot.show_plotted(None, picture.key)
                self.words.setText(found)
                return
            self.plot.show_plotted(PlottedBands(title, found), picture.key)
            self.words.setText(self.plot.words())

        self.session.compute(lambda: _curve_over_units(study, column, (key, channel), texts), show, self.failed.emit)

    def _texts(self) -> dict[str, str]:
        return {name: field.text().strip() for name, field in self.fields.items()}

    def _show(self, readings: list[ListedReading]) -> None:
        selected = max(0, self.table.current_cell()[0])
        self.readings = readings
        self._fill()
        present = self.other.currentText()
        self.other.clear()
        self.other.addItems([reading.title for reading in readings])
        self.other.setCurrentText(present)
        if readings:
            self.table.selectRow(min(selected, len(readings) - 1))
        self._show_picture()

    # -- showing -------------------------------------------------------------------------------------

    def _fill(self) -> None:
        heads = [TableCell(words, font(0.9), _TIPS.get(words, ""), right=words != "Reading") for words in _HEADS]
        self.table.show_cells(heads, [self._cells(reading) for reading in self.readings])

    def _cells(self, reading: ListedReading) -> list[TableCell]:
        found, unit = reading.statistics, reading.values.unit
        caution = self.theme.colour("caution")
        able, within = found.capability, found.within
        cpk = share = ""
        if able is not None:
            cpk = f"{able.cpk:.2f} (≥ {able.cpk_interval[0]:.2f})"
        if within is not None:
            share = f"{100 * within.share:.1f} %"
        outliers = len(found.outliers.places)
        signals = len({s.place for s in found.chart.signals}) if found.chart is not None else 0
        return [
            TableCell(reading.title, font(), right=False),
            TableCell(str(found.values.size), font()),
            TableCell(format_quantity(found.mean, unit, digits=4), font()),
            TableCell(format_quantity(found.s, unit, digits=2) if found.s is not None else "", font()),
            TableCell(cpk, font(), colour=caution if able is not None and able.cpk < 1 else None),
            TableCell(share, font(), colour=caution if within is not None and within.share < 1 else None),
            TableCell(str(outliers or ""), font(), colour=caution),
            TableCell(str(signals or ""), font(), colour=caution),
        ]

    def _current(self) -> ListedReading | None:
        row = self.table.current_cell()[0]
        return self.readings[row] if 0 <= row < len(self.readings) else None

    @property
    def _picture(self) -> Picture:
        """The picture that is selected."""
        return PICTURES[self.pictures.on()[0]]

    def _show_picture(self) -> None:
        """Show the selected reading in the selected picture."""
        reading, picture = self._current(), self._picture
        self.other.setVisible(picture.needs_other)
        self.curve.setVisible(picture.needs_curve)
        if picture.needs_curve:
            self.heading.setText(self.curve.currentText())
            self.words.setText("")
            self._ask_for_curve()
            return
        self.heading.setText(reading.title if reading is not None else "")
        if reading is None:
            self.plot.show_plotted(None, picture.key, LOADING if self._is_loading else "")
            self.words.setText("")
            return
        names = [value.serial or f"run {value.run_id}" for value in reading.values.values]
        other, words = self._paired(reading) if picture.needs_other else (None, _words(reading, names))
        plotted = PlottedReading(reading.title, reading.values.unit, reading.statistics, names, other)
        self.plot.show_plotted(plotted, picture.key)
        told = [picture.words(plotted)] if picture.tells_more else []
        self.words.setText(". ".join(dict.fromkeys([*told, *words])))  # a drift that is shown may be said already

    def _paired(self, reading: ListedReading) -> tuple[PairedReading | None, list[str]]:
        from epidote.measurement.unit_statistics import paired_values

        row = self.other.currentIndex()
        if not 0 <= row < len(self.readings):
            return None, []
        other = self.readings[row]
        pairs = paired_values(other.values, reading.values)
        words = "No correlation: too few units have both readings, or one does not vary."
        related = pairs.correlation
        if related is not None:
            low, high = related.interval
            words = f"Correlation r = {related.r:.3f}, 95 % interval {low:.3f} to {high:.3f}, {related.count} units"
        return PairedReading(other.title, other.values.unit, pairs.x, pairs.y, pairs.places), [words]

    def _picked(self, place: int) -> None:
        """Narrow the statistics to nothing, but name the unit that was clicked."""
        reading = self._current()
        if reading is not None and 0 <= place < len(reading.values.values):
            value = reading.values.values[place]
            shown = format_quantity(value.value, reading.values.unit, digits=4)
            self.words.setText(f"{value.serial}: {shown}, measured {value.when.astimezone():%d %b %Y %H:%M}")

    def keyPressEvent(self, event: object) -> None:
        """Leave keys to the page."""
        event.ignore()  # type: ignore[attr-defined]


def _words(reading: ListedReading, names: list[str]) -> list[str]:
    """Return limits, drift and outliers in a few sentences."""
    found, unit, limits = reading.statistics, reading.values.unit, reading.limits
    parts = []
    limit = _limit_words(limits, unit)
    if limit:
        parts.append(f"Limits: {limit} ({limits.source})")
    if found.outliers.places:
        named = ", ".join(names[place] for place in found.outliers.places[:6])
        parts.append(f"Outliers: {named}")
    if found.long_drift is not None and found.long_drift.significant:
        parts.append(drift_words(found.long_drift, unit, found.span))
    if reading.values.left_out:
        parts.append(f"{reading.values.left_out} units without a value are not included")
    return parts


def _limit_words(limits: ReadingLimits, unit: str) -> str:
    """Return the limits of a reading; "" where there are none."""
    lower, upper = (format_quantity(v, unit, digits=4) for v in (limits.lower, limits.upper))
    if limits.lower is not None and limits.upper is not None:
        return f"{lower} to {upper}"
    if limits.upper is not None:
        return f"at most {upper}"
    return f"at least {lower}" if limits.lower is not None else ""


@dataclass(frozen=True, eq=False)
class ListedColumn:
    """curves: key, channel and title of each."""

    readings: list[ListedReading]
    curves: list[tuple[str, int, str]]


def _selection(texts: dict[str, str]) -> UnitSelection:
    """Return the selection that is entered. Raises SettingError for a day that is none."""
    from epidote.measurement import unit_statistics as service

    return service.UnitSelection(
        service.day_of(texts["since"]),
        service.day_of(texts["until"]),
        texts["serial"],
        texts["firmware"],
        texts["operator"],
    )


def _listed(study: Study, column: Column, texts: dict[str, str]) -> ListedColumn | str:
    """Return the statistics of every reading of a column and its curves, or why there are none."""
    from epidote.core.procedures.registry import procedure
    from epidote.measurement import unit_statistics as service

    try:
        found = []
        for values in service.every_reading(study, column, _selection(texts)):
            limits = service.limits_for(study, column, values.key, values.channel)
            found.append(ListedReading(values, limits, service.statistics_of(values, limits)))
    except EpidoteError as error:
        return in_window(error)
    # what has limits first, for these decide
    found.sort(key=lambda one: one.limits.lower is None and one.limits.upper is None)
    axes = {view.key: view.axis for view in procedure(column.procedure).views}
    keys = [(key, channel) for key, channel in study.queries.curve_keys(column.id) if key in axes]
    return ListedColumn(found, [(key, n, f"{axes[key]}, {short_channel_name(n)}") for key, n in keys])


def _curve_over_units(study: Study, column: Column, of: tuple[str, int], texts: dict[str, str]) -> BandStatistics | str:
    """Return mean and scatter of a curve (key, channel) over the selected units, or why there is none."""
    from epidote.measurement import unit_statistics as service

    try:
        return service.curve_statistics(study, column, of[0], channel=of[1], selection=_selection(texts))
    except EpidoteError as error:
        return in_window(error)
