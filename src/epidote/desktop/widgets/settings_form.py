"""A form made from a settings model: one line per field, with its unit, its meaning, and what is wrong with what was
typed.
"""

from __future__ import annotations

from typing import Any, get_args, get_origin

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLineEdit, QWidget

from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.units import QuantityError, parse_as
from epidote.core.settings import LabelledEnum, label_of, make_settings, unit_of
from epidote.desktop.widgets.plain import Label, plain_tip


class SettingsForm(QWidget):
    """``values()`` gives what is typed, by field; ``problem`` is empty when a model can be made of it."""

    changed = Signal()
    committed = Signal()  # a field was left, or a choice made

    def __init__(
        self,
        model: Any,
        values: dict[str, Any],
        only: tuple[str, ...] | None = None,
        choices: dict[str, list[tuple[str, str]]] | None = None,
    ) -> None:
        """``choices``: for text fields with a list to choose from, (value, words) each."""
        super().__init__()
        self._model, self._given = model, dict(values)
        self._choices = choices or {}
        self.editors: dict[str, QLineEdit | QComboBox | QCheckBox] = {}
        layout = QFormLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setVerticalSpacing(5)
        for name, field in model.model_fields.items():
            if only is not None and name not in only:
                continue
            editor = self._editor(name, field, values.get(name, field.default))
            editor.setToolTip(plain_tip(str(field.description or "")))
            editor.setAccessibleName(label_of(model, name))
            label = Label(label_of(model, name))
            label.setBuddy(editor)
            label.setToolTip(plain_tip(str(field.description or "")))
            label.setProperty("quiet", True)
            layout.addRow(label, editor)
            self.editors[name] = editor

    def _editor(self, name: str, field: Any, value: Any) -> QLineEdit | QComboBox | QCheckBox:
        if isinstance(field.annotation, type) and issubclass(field.annotation, LabelledEnum):
            combo = QComboBox()
            for member in field.annotation:
                combo.addItem(member.label, str(member))
            combo.setCurrentIndex(max(0, combo.findData(str(value))))
            combo.currentIndexChanged.connect(lambda _: self.changed.emit())
            combo.activated.connect(lambda _: self.committed.emit())
            return combo
        if name in self._choices:
            return self._chooser(self._choices[name], str(value or ""))
        if field.annotation is bool:
            box = QCheckBox()
            box.setChecked(bool(value))
            box.toggled.connect(lambda _: self.changed.emit())
            box.clicked.connect(lambda _: self.committed.emit())
            return box
        line = QLineEdit("" if value is None else self._shown(value, unit_of(field)))
        line.textChanged.connect(lambda _: self.changed.emit())
        line.editingFinished.connect(self.committed.emit)
        return line

    def _chooser(self, choices: list[tuple[str, str]], value: str) -> QComboBox:
        combo = QComboBox()
        combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        combo.setMinimumContentsLength(24)
        combo.addItem("Not set", "")
        for key, words in choices:
            combo.addItem(words, key)
        if value and combo.findData(value) < 0:
            combo.addItem(f"{value} (not connected)", value)
        combo.setCurrentIndex(max(0, combo.findData(value)))
        combo.currentIndexChanged.connect(lambda _: self.changed.emit())
        combo.activated.connect(lambda _: self.committed.emit())
        return combo

    @staticmethod
    def _shown(value: Any, unit: str) -> str:
        if isinstance(value, (tuple, list)):
            return ", ".join(f"{v:.6g}" if isinstance(v, float) else str(v) for v in value)
        if not unit or not isinstance(value, (int, float)):
            return str(value)
        plain = format_plain(value, unit)
        exact = SettingsForm._number(plain, unit) == value  # no digit may be lost on the way through the field
        if exact:
            return plain
        return f"{float(value):.7g} {unit}"

    def set_text(self, name: str, text: str) -> None:
        """Type into a field."""
        editor = self.editors[name]
        if isinstance(editor, QLineEdit):
            editor.setText(text)
        elif isinstance(editor, QComboBox):
            index = editor.findData(text)
            editor.setCurrentIndex(index if index >= 0 else editor.findText(text))
        else:
            editor.setChecked(text == "yes")

    def values(self) -> dict[str, Any]:
        """Return what is typed; a field that cannot be read is left as text, for the model to refuse."""
        result = dict(self._given)
        for name, editor in self.editors.items():
            field = self._model.model_fields[name]
            if isinstance(editor, QComboBox):
                result[name] = editor.currentData()
            elif isinstance(editor, QCheckBox):
                result[name] = editor.isChecked()
            else:
                result[name] = self._typed(editor.text().strip(), field)
        return result

    @staticmethod
    def _typed(text: str, field: Any) -> Any:
        if not text and not field.is_required() and field.default is None:
            return None
        unit = unit_of(field)
        if get_origin(field.annotation) is tuple:
            item = get_args(field.annotation)[0]
            parts = [p.strip() for p in text.split(";" if ";" in text else ",") if p.strip()]
            if item is float and unit:
                return tuple(SettingsForm._number(p, unit) for p in parts)
            return tuple(int(p) if item is int and p.isdecimal() and p.isascii() else p for p in parts)
        if unit:
            return SettingsForm._number(text, unit)
        return text

    @staticmethod
    def _number(text: str, unit: str) -> Any:
        try:
            return parse_as(text, unit)
        except QuantityError:
            return text

    def problem(self) -> str:
        """Return what is wrong, in words, and which field is marked; empty when nothing is."""
        wrong, words = "", ""
        try:
            make_settings(self._model, self.values())
        except SettingError as error:
            words = error.in_window
            wrong = next((n for n in error.settings if n in self.editors), "")
        for name, editor in self.editors.items():
            if editor.property("wrong") != (name == wrong):
                editor.setProperty("wrong", name == wrong)
                editor.style().unpolish(editor)
                editor.style().polish(editor)
        return words
