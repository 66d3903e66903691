"""What was understood of a text file before it is imported.

Where it can be read in several ways, the user says which is meant.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QWidget

from epidote.core.quantities.formatting import format_plain
from epidote.desktop.widgets.dialogs import FormDialog
from epidote.desktop.widgets.plain import Label

if TYPE_CHECKING:
    from epidote.study.interchange.curve_text import TextOptions, TextReading

_SHOWN = 5  # points


class CurvePreview(FormDialog):
    """``options()``: those of the reading that is selected."""

    def __init__(self, parent: QWidget | None, name: str, interpretations: list[TextReading]) -> None:
        super().__init__(parent, "Import curve", "Import")
        self._found = interpretations
        self.lines.addRow("File", Label(name))
        self.ways = QComboBox()
        self.ways.setAccessibleName("Read as")
        self.ways.setToolTip("How the numbers in the file are written")
        if len(interpretations) > 1:
            self.ways.addItem("Select…", None)
        for reading in interpretations:
            self.ways.addItem(reading.words, reading)
        self.lines.addRow("Read as", self.ways)
        self.points = Label()
        self.points.setAccessibleName("Points as read")
        self.points.setWordWrap(True)
        self.lines.addRow("Points", self.points)
        self.ways.currentIndexChanged.connect(lambda _: self.check())
        self.check()

    def check(self) -> None:
        reading: TextReading | None = self.ways.currentData()
        if reading is None:
            self.points.setText("\n".join(f"{r.words}: {r.preview}" for r in self._found))
            self.say(f"This file can be read in {len(self._found)} ways. Select the one that is meant.")
            return
        level, phase = reading.level, reading.phase
        rows = [
            f"{format_plain(x, 'Hz')}: {y:g} {level.y_unit}"
            for x, y in zip(level.x[:_SHOWN].tolist(), level.y[:_SHOWN].tolist(), strict=True)
        ]
        if phase is not None:
            rows = [f"{row}, {p:g}°" for row, p in zip(rows, phase.y[:_SHOWN].tolist(), strict=True)]
        more = level.x.size - len(rows)
        self.points.setText(
            "\n".join([*rows, f"{more} more, to {format_plain(float(level.x[-1]), 'Hz')}"] if more else rows)
        )
        self.say("")

    def options(self) -> TextOptions | None:
        reading: TextReading | None = self.ways.currentData()
        if reading is None:
            return None
        return reading.options


def ask_reading(parent: QWidget, name: str, interpretations: list[TextReading]) -> TextOptions | None:
    """Show the preview; the options of the reading that the user imports, None when it is cancelled."""
    dialog = CurvePreview(parent, name, interpretations)
    if dialog.exec():
        return dialog.options()
    return None
