"""A new guide: where it stands, its name, its sentence and its source."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QComboBox, QWidget

from epidote.core.comparison.graph_guides import COMMON_PRACTICE, GraphGuide
from epidote.core.errors import in_window
from epidote.core.quantities.units import QuantityError, parse, parse_as
from epidote.desktop.widgets.dialogs import FormDialog


class GuideDialog(FormDialog):
    """``guide``: one that is changed; it stays along its axis."""

    def __init__(self, parent: QWidget | None, x_unit: str, y_unit: str, guide: GraphGuide | None = None) -> None:
        super().__init__(
            parent, "New guide" if guide is None else f"Edit “{guide.name}”", "Add" if guide is None else "Apply"
        )
        self._units = {"value": y_unit, "place": x_unit}
        self.along = QComboBox()
        self.along.setAccessibleName("Direction")
        self.along.addItem(f"Horizontal, at a value in {y_unit}", "value")
        self.along.addItem(f"Vertical, at a position in {x_unit}", "place")
        if guide is not None:
            self.along.setCurrentIndex(1 if guide.x_unit else 0)
            self.along.setEnabled(False)
        self.along.currentIndexChanged.connect(lambda _: self.check())
        self.lines.addRow("Direction", self.along)
        unit = self._units[str(self.along.currentData())]
        self.low = self.line("Value", "" if guide is None else f"{guide.low:.6g} {unit}", "-40 dB, 1 %, 10 kHz")
        self.high = self.line(
            "Second value",
            "" if guide is None or guide.high is None else f"{guide.high:.6g} {unit}",
            "for an area; empty for a line",
        )
        self.name = self.line("Name", "" if guide is None else guide.name)
        self.sentence = self.line("Description", "" if guide is None else guide.sentence)
        self.source = self.line("Source", COMMON_PRACTICE if guide is None else guide.source)
        self.check()

    def _value(self, text: str) -> float:
        unit = self._units[str(self.along.currentData())]
        quantity = parse(text, unit)
        if unit == "dB" and quantity.unit == "%":
            return parse_as(text, "dB")
        return parse_as(text, unit)

    def check(self) -> None:
        if not hasattr(self, "source"):
            return
        try:
            low = self._value(self.low.text())
            if self.high.text().strip():
                high = self._value(self.high.text())
            else:
                high = None
        except QuantityError as error:
            self.say(in_window(error))
            return
        if high is not None and high <= low:
            self.say("The second value must be greater than the first.")
        else:
            self.say("" if self.name.text().strip() else "Enter a name.")

    def values(self) -> dict[str, Any]:
        kind = str(self.along.currentData())
        return {
            "name": self.name.text().strip(),
            "sentence": self.sentence.text().strip(),
            "source": self.source.text().strip() or COMMON_PRACTICE,
            "low": self._value(self.low.text()),
            "high": self._value(self.high.text()) if self.high.text().strip() else None,
            ("y_unit" if kind == "value" else "x_unit"): self._units[kind],
        }
