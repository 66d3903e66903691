"""The few dialogs: a row and its unit, preferences."""

from __future__ import annotations

import itertools
from typing import Any

from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QVBoxLayout, QWidget

from epidote.core.text import quoted, split_unquoted, unquoted
from epidote.desktop.preferences import preferences
from epidote.desktop.theme import TEXT_SIZES, THEMES
from epidote.desktop.widgets.help_key import listen_for_help
from epidote.desktop.widgets.plain import Label, plain_tip, quiet
from epidote.study.models import Subject, Unit

_CONDITIONS_HINT = "gain = low; load = 8 Ω"
_MARKS = ";=|\n"  # that mean something in the field of conditions
_MOST_LISTED = 4
_SEVERAL = "Several rows at once: separate values with |, as in buffer = 32 | 64 | 128"


def conditions_text(conditions: dict[str, str]) -> str:
    """Return conditions as they are typed, "name = value" separated by semicolons."""
    return "; ".join(f"{quoted(k, _MARKS)} = {quoted(v, _MARKS)}" for k, v in conditions.items())


def parse_conditions(text: str) -> dict[str, str]:
    """ "gain = low; load = 8 Ω" as names and values. Raises ValueError with words."""
    return {unquoted(name): unquoted(value) for name, value in _named_values(text).items()}


def _named_values(text: str) -> dict[str, str]:
    """Return the names and values of a text, in quotation marks where they were. Raises ValueError with words."""
    result: dict[str, str] = {}
    for part in filter(None, split_unquoted(text, ";\n")):
        name, *values = split_unquoted(part, "=")
        if not name or len(values) != 1 or not values[0]:
            raise ValueError(
                f"“{part}” is not a condition. Enter name = value; separate several with semicolons, and put a value"
                " that contains one of them in quotation marks."
            )
        result[name] = values[0]
    return result


def parse_condition_sets(text: str) -> list[dict[str, str]]:
    """ "buffer = 32 | 64; load = 8 Ω" as the conditions of one or more rows: one for each combination.

    Raises ValueError with words.
    """
    choices = []
    for name, value in _named_values(text).items():
        values = split_unquoted(value, "|")
        if not all(values):
            raise ValueError(f"“{name} = {value}” has an empty value. Enter a value on each side of |.")
        choices.append([(unquoted(name), unquoted(part)) for part in dict.fromkeys(values)])
    return [dict(combination) for combination in itertools.product(*choices)]


class FormDialog(QDialog):
    """A dialog of lines with a sentence of what is wrong, and OK only when nothing is."""

    def __init__(self, parent: QWidget | None, title: str, ok: str) -> None:
        super().__init__(parent)
        self._begun = False  # something was entered
        listen_for_help(self)
        self.setProperty("help", "matrix")
        self.setWindowTitle(title)
        self.setMinimumWidth(self.fontMetrics().averageCharWidth() * 60)
        self._outer = QVBoxLayout(self)
        self._outer.setSpacing(10)
        self.lines = QFormLayout()
        self._outer.addLayout(self.lines)
        self.problem = Label()
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        self._outer.addWidget(self.problem)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        go = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        go.setText(ok)
        go.setProperty("main", True)
        go.setDefault(True)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        self._outer.addWidget(self.buttons)

    def event(self, event: QEvent) -> bool:
        """Grow with words that need more lines."""
        done = super().event(event)
        if event.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Show):
            least = self._outer.minimumHeightForWidth(self.width())
            if self.height() < least:
                self.resize(self.width(), least)
        return done

    def explain(self, words: str) -> None:
        """Say above the lines that follow what they are for."""
        self.lines.addRow(quiet(words))

    def line(self, label: str, text: str = "", hint: str = "") -> QLineEdit:
        edit = QLineEdit(text)
        edit.setPlaceholderText(hint)
        edit.setAccessibleName(label)
        edit.textEdited.connect(lambda _: self._begin())
        edit.textChanged.connect(lambda _: self.check())
        self.lines.addRow(label, edit)
        return edit

    def _begin(self) -> None:
        self._begun = True

    def say(self, words: str) -> None:
        """Say what is missing or wrong. Before anything is entered only the button says it, by its tooltip."""
        go = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        go.setEnabled(not words)
        go.setToolTip(plain_tip(words))
        self.problem.setText(words)
        self.problem.setVisible(bool(words) and self._begun)

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
        self._as_given: dict[str, tuple[str, str]] = {}  # text of a field as it was filled, and what it shows
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
        self.conditions.setToolTip("What is set at the unit, as name = value")
        self.rows_words = Label()
        self.rows_words.setProperty("quiet", True)
        self.rows_words.setWordWrap(True)
        self.lines.addRow(self.rows_words)
        self.device = QComboBox()
        self.device.setAccessibleName("Device")
        self.device.addItem("Not set", "")
        for name, words in devices:
            self.device.addItem(words, name)
        if start is not None and start.device and self.device.findData(start.device) < 0:
            self.device.addItem(f"{start.device} (not connected)", start.device)
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
                self._as_given[name] = (edit.text(), getattr(unit, name))
            edit.setReadOnly(known)
            edit.setEnabled(not known)
        self.check()

    def check(self) -> None:
        try:
            sets = parse_condition_sets(self.conditions.text())
        except ValueError as error:
            self.say(str(error))
            return
        self._say_rows(sets)
        editing = self._start is not None and not self._duplicate
        if editing and len(sets) > 1:
            self.say("One row has one value for each condition. Remove the other values.")
            return
        if self.unit() is None and not (self.maker.text().strip() or self.model.text().strip()):
            self.say("Enter a manufacturer or a model.")
        elif self._duplicate and self._start is not None and dict(self._start.conditions) in sets:
            self.say("Change at least one condition: the new row must differ from the original.")
        else:
            self.say("")

    def _say_rows(self, sets: list[dict[str, str]]) -> None:
        """Say which rows will be added; of one alone, how there can be more."""
        if len(sets) == 1:
            words = _SEVERAL if self._start is None or self._duplicate else ""
        else:
            listed = "; ".join(", ".join(f"{k} {v}" for k, v in one.items()) for one in sets[:_MOST_LISTED])
            more = f"; and {len(sets) - _MOST_LISTED} more" if len(sets) > _MOST_LISTED else ""
            words = f"{len(sets)} rows: {listed}{more}"
        self.rows_words.setText(words)
        self.rows_words.setVisible(bool(words))

    def condition_sets(self) -> list[dict[str, str]]:
        """Return the conditions of each row to be added."""
        return parse_condition_sets(self.conditions.text())

    def _entered(self, name: str, edit: QLineEdit) -> str:
        """Return the text of a field; where it was not changed, all that it was given: notes may have several lines."""
        shown, given = self._as_given.get(name, ("", ""))
        return given if edit.text() == shown else edit.text().strip()

    def values(self) -> dict[str, Any]:
        return {
            "maker": self._entered("maker", self.maker),
            "model": self._entered("model", self.model),
            "serial": self._entered("serial", self.serial),
            "firmware": self._entered("firmware", self.firmware),
            "notes": self._entered("notes", self.notes),
            "conditions": self.condition_sets()[0],
            "device": str(self.device.currentData() or ""),
        }


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
