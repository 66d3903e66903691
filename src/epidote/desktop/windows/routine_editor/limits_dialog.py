"""Asks where the limits of a step come from."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QListWidget, QListWidgetItem, QWidget

from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.routine.limit_making import parse_bands
from epidote.core.routine.model import MeasureStep
from epidote.core.statistics.tolerance import LEAST_UNITS
from epidote.desktop.widgets.dialogs import FormDialog
from epidote.measurement.routine.making import LimitsFrom, LimitSource
from epidote.study.models import Subject

_WORDS = {
    LimitSource.GOOD_UNITS: "Good units: mean ± k·s",
    LimitSource.ROW: "Row ± margin",
    LimitSource.GOLDEN: "Relative to the golden unit ± margin",
}


class LimitsDialog(FormDialog):
    """``wish`` is None while something is missing."""

    def __init__(self, parent: QWidget | None, step: MeasureStep, rows: Sequence[Subject]) -> None:
        super().__init__(parent, "Create limits", "Create")
        self.setProperty("help", "make-a-routine")
        self._rows = list(rows)
        proc = procedure(step.procedure)
        self.source = QComboBox()
        self.source.setAccessibleName("Source")
        for source, words in _WORDS.items():
            self.source.addItem(words, source)
        self.lines.addRow("Source", self.source)
        self.of = QComboBox()
        self.of.setAccessibleName("Quantity")
        self.of.addItem("Main reading and response", "")
        for kind in proc.readings:
            self.of.addItem(kind.title, kind.key)
        for view in proc.views:
            self.of.addItem(f"{view.axis} (curve)", view.key)
        self.lines.addRow("Quantity", self.of)
        self.list = QListWidget()
        self.list.setAccessibleName("Rows")
        for row in self._rows:
            item = QListWidgetItem(row.full_name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.lines.addRow("Rows", self.list)
        self.margin = self.line("Margin", "1", "In dB, or in the unit of the reading")
        self.bands = self.line("Margin by band", "", "For curves, e.g. 20 Hz 2; 100 Hz 1; 10 kHz 3")
        self.uncertainty = self.line("Uncertainty (k = 2)", "0", "In the unit of the limit; used with guard bands")
        self.floating = QCheckBox("Curves: shape only, ignore level offset")
        self.lines.addRow("", self.floating)
        self.source.activated.connect(lambda _: self.check())
        self.list.itemChanged.connect(lambda _: self.check())
        self.check()

    def chosen(self) -> list[Subject]:
        """Return the rows that are ticked."""
        ticked = Qt.CheckState.Checked
        return [row for n, row in enumerate(self._rows) if self.list.item(n).checkState() == ticked]

    def wish(self) -> LimitsFrom | None:
        """Return what is asked for; None while it cannot be."""
        margin, uncertainty = _value(self.margin.text()), _value(self.uncertainty.text())
        rows = self.chosen()
        source = LimitSource(self.source.currentData())
        enough = len(rows) >= LEAST_UNITS if source is LimitSource.GOOD_UNITS else len(rows) == 1
        if margin is None or uncertainty is None or not enough:
            return None
        try:
            bands = parse_bands(self.bands.text())
        except SettingError:
            return None
        key = str(self.of.currentData())
        return LimitsFrom(source, tuple(rows), margin, key, self.floating.isChecked(), uncertainty, bands)

    def check(self) -> None:
        """Say what is missing."""
        source = LimitSource(self.source.currentData())
        good = source is LimitSource.GOOD_UNITS
        self.margin.setEnabled(not good)
        self.bands.setEnabled(not good)
        try:
            parse_bands(self.bands.text())
        except SettingError as error:
            self.say(str(error))
            return
        if _value(self.margin.text()) is None or _value(self.uncertainty.text()) is None:
            self.say("Enter a margin and an uncertainty of 0 or more.")
        elif good and len(self.chosen()) < LEAST_UNITS:
            self.say(f"Select {LEAST_UNITS} or more good units.")
        elif not good and len(self.chosen()) != 1:
            self.say("Select one row.")
        else:
            self.say("")


def _value(text: str) -> float | None:
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        return None
    return value if value >= 0 else None
