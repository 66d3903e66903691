"""The right of the Routine page: the last units, and what this bench enters with each of them."""

from __future__ import annotations

from PySide6.QtWidgets import QLineEdit, QVBoxLayout

from epidote.desktop.pages.routine.last_units import LastUnits
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.plain import heading
from epidote.desktop.widgets.scrolled import WrappingWidget
from epidote.measurement.routine.runner import UnitRequest


class BenchSide(WrappingWidget):
    """``last`` lists units; operator, shift and firmware hold for the units that follow."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 12, 14, 12)
        layout.setSpacing(10)
        self.last = LastUnits(theme)
        layout.addWidget(self.last, 1)
        layout.addWidget(heading("Station"))
        self.operator, self.shift, self.firmware = QLineEdit(), QLineEdit(), QLineEdit()
        for field, words in (
            (self.operator, "Operator"),
            (self.shift, "Shift or bench"),
            (self.firmware, "Firmware of the units"),
        ):
            field.setPlaceholderText(words)
            field.setAccessibleName(words)
            layout.addWidget(field)

    def request(self, serial: str) -> UnitRequest:
        """Return the wish to measure a unit here."""
        return UnitRequest(
            serial, self.operator.text().strip(), self.shift.text().strip(), self.firmware.text().strip()
        )
