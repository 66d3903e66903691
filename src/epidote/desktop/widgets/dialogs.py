"""The few dialogs: a row and its unit, the chain, a new column, preferences."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from epidote.desktop.theme import TEXT_SIZES, THEMES, preferences
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.settings_form import SettingsForm
from epidote.study.models import Subject, Unit

_CONDITIONS_HINT = "gain = low; load = 8 Ω"


def conditions_text(conditions: dict[str, str]) -> str:
    """Return conditions as they are typed, "name = value" separated by semicolons."""
    return "; ".join(f"{k} = {v}" for k, v in conditions.items())


def parse_conditions(text: str) -> dict[str, str]:
    """ "gain = low; load = 8 Ω" as names and values. Raises ValueError with words."""
    result: dict[str, str] = {}
    for part in filter(None, (p.strip() for p in text.replace("\n", ";").split(";"))):
        name, equals, value = (s.strip() for s in part.partition("="))
        if not equals or not name or not value:
            raise ValueError(f"“{part}” is not a condition. Enter name = value; separate several with semicolons.")
        result[name] = value
    return result


class FormDialog(QDialog):
    """A dialog of lines with a sentence of what is wrong, and OK only when nothing is."""

    def __init__(self, parent: QWidget | None, title: str, ok: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(440)
        self._outer = QVBoxLayout(self)
        self._outer.setSpacing(10)
        self.lines = QFormLayout()
        self._outer.addLayout(self.lines)
        self.problem = Label()
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        self._outer.addWidget(self.problem)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setText(ok)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        self._outer.addWidget(self.buttons)

    def line(self, label: str, text: str = "", hint: str = "") -> QLineEdit:
        edit = QLineEdit(text)
        edit.setPlaceholderText(hint)
        edit.setAccessibleName(label)
        edit.textChanged.connect(lambda _: self.check())
        self.lines.addRow(label, edit)
        return edit

    def say(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.setVisible(bool(words))
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not words)

    def check(self) -> None:
        """Say what is wrong."""


class RowDialog(FormDialog):
    """A row: a unit (new, or one there is) under conditions, and what it is wired to."""

    def __init__(
        self,
        parent: QWidget | None,
        units: tuple[Unit, ...],
        devices: list[tuple[str, str]],
        start: Subject | None = None,
        *,
        duplicate: bool = False,
    ) -> None:
        if duplicate and start:
            title = f"Duplicate {start.full_name}"
        elif start:
            title = "Edit row"
        else:
            title = "Add row"
        super().__init__(parent, title, "Apply" if start and not duplicate else "Add")
        self._start, self._duplicate = start, duplicate
        self.units = QComboBox()
        self.units.setAccessibleName("Unit")
        for unit in units:
            self.units.addItem(f"{unit.name} {unit.serial}".strip(), unit)
        if start is None:
            self.units.addItem("New unit", None)
        self.lines.addRow("Unit", self.units)
        self.maker, self.model, self.serial = self.line("Manufacturer"), self.line("Model"), self.line("Serial number")
        self.firmware, self.notes = self.line("Firmware"), self.line("Notes")
        self.conditions = self.line(
            "Conditions", conditions_text(dict(start.conditions)) if start else "", _CONDITIONS_HINT
        )
        self.device = QComboBox()
        self.device.setAccessibleName("Device")
        self.device.addItem("Not set", "")
        for name, words in devices:
            self.device.addItem(words, name)
        self.lines.addRow("Device", self.device)
        if start is not None:
            self.units.setCurrentIndex(
                next((i for i, u in enumerate(units) if start.unit and u.id == start.unit.id), 0)
            )
            self.units.setEnabled(False)
            self.device.setCurrentIndex(max(0, self.device.findData(start.device)))
        else:
            self.units.setCurrentIndex(self.units.count() - 1)
        self.units.currentIndexChanged.connect(self._unit_chosen)
        self._unit_chosen()
        if duplicate:
            self.conditions.setFocus()
            self.conditions.selectAll()

    def unit(self) -> Unit | None:
        unit: Unit | None = self.units.currentData()
        return unit

    def _unit_chosen(self) -> None:
        unit = self.unit()
        known = unit is not None and (self._start is None or self._duplicate)
        for edit, name in (
            (self.maker, "maker"),
            (self.model, "model"),
            (self.serial, "serial"),
            (self.firmware, "firmware"),
            (self.notes, "notes"),
        ):
            if unit is not None:
                edit.setText(getattr(unit, name))
            edit.setReadOnly(known)
            edit.setEnabled(not known)
        self.check()

    def check(self) -> None:
        try:
            conditions = parse_conditions(self.conditions.text())
        except ValueError as error:
            self.say(str(error))
            return
        if self.unit() is None and not (self.maker.text().strip() or self.model.text().strip()):
            self.say("Enter a manufacturer or a model.")
        elif self._duplicate and self._start is not None and conditions == dict(self._start.conditions):
            self.say("Change at least one condition: the new row must differ from the original.")
        else:
            self.say("")

    def values(self) -> dict[str, Any]:
        return {
            "maker": self.maker.text().strip(),
            "model": self.model.text().strip(),
            "serial": self.serial.text().strip(),
            "firmware": self.firmware.text().strip(),
            "notes": self.notes.text(),
            "conditions": parse_conditions(self.conditions.text()),
            "device": str(self.device.currentData() or ""),
        }


class ModelDialog(FormDialog):
    """Any settings model as a dialog: the chain, the settings of a new column."""

    def __init__(
        self, parent: QWidget | None, title: str, ok: str, model: Any, values: dict[str, Any], *, note: str = ""
    ) -> None:
        super().__init__(parent, title, ok)
        self.form = SettingsForm(model, values)
        if note:
            words = Label(note)
            words.setWordWrap(True)
            words.setProperty("quiet", True)
            self._outer.insertWidget(0, words)
        self._outer.insertWidget(1 if note else 0, self.form)
        self.form.changed.connect(self.check)
        self.check()

    def check(self) -> None:
        self.say(self.form.problem())
        if self.form.said_at_field:
            self.problem.hide()


class PreferencesDialog(FormDialog):
    """Theme and text size; both show at once in the window behind."""

    def __init__(self, parent: QWidget | None) -> None:
        super().__init__(parent, "Preferences", "Apply")
        self.theme, self.text = QComboBox(), QComboBox()
        for combo, values, usual in ((self.theme, THEMES, "dark"), (self.text, TEXT_SIZES, "normal")):
            for value in values:
                combo.addItem(value.capitalize(), value)
            if combo is self.theme:
                name = "theme"
            else:
                name = "text"
            combo.setCurrentIndex(max(0, combo.findData(str(preferences().value(name, usual)))))
        self.theme.setAccessibleName("Theme")
        self.text.setAccessibleName("Text size")
        self.lines.addRow("Theme", self.theme)
        self.lines.addRow("Text size", self.text)
        self.say("")

    def store(self) -> None:
        preferences().setValue("theme", self.theme.currentData())
        preferences().setValue("text", self.text.currentData())
