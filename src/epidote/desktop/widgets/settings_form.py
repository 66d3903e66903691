"""A form made from a settings model: one line per field, with its unit, its meaning, and what is wrong with what was
typed.

It shows what matters now: a setting that depends on another comes and goes with it, and the seldom changed ones stay
behind “More settings” unless they were changed or are wrong.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, get_args, get_origin

from pydantic_core import PydanticUndefined
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLineEdit, QPushButton, QWidget

from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.units import QuantityError, parse_as
from epidote.core.settings import LabelledEnum, applies, is_secondary, label_of, make_settings, range_in_words, unit_of
from epidote.core.text import list_items, list_text
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.wording import LOADING

Choices = dict[str, list[tuple[str, str]] | None]  # (value, words) to choose from by field; None while they are read
_LEVEL = "level"  # the setting that a sound level may stand for


class SettingsForm(QWidget):
    """``values()`` gives what is typed, by field; ``problem`` is empty when a model can be made of it."""

    changed = Signal()
    committed = Signal()  # a field was left, or a choice made

    def __init__(
        self,
        model: Any,
        values: dict[str, Any],
        only: tuple[str, ...] | None = None,
        choices: Choices | None = None,
        *,
        expanded: bool = False,
        sound_levels: bool = False,
    ) -> None:
        """``only``: the fields to show, all of them at once; ``choices``: for text fields with a list to choose from;
        ``expanded``: whether the seldom changed settings are shown from the start; ``sound_levels``: whether a sound
        level such as 80 dB(A) may stand in the field of the generator level.
        """
        super().__init__()
        self._model, self._given = model, dict(values)
        self._choices = choices or {}
        self._sound_levels = sound_levels
        self.editors: dict[str, QLineEdit | QComboBox | QCheckBox] = {}
        self._as_given: dict[str, tuple[str, Any]] = {}  # text of each line as it was filled, and the value it shows
        self.errors: dict[str, Label] = {}  # below each field, shown while its value is wrong
        self.said_at_field = False
        self._layout = QFormLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setVerticalSpacing(4)
        names = [name for name in model.model_fields if only is None or name in only]
        self._secondary: list[str] = []
        if only is None:
            self._secondary = [name for name in names if is_secondary(model, name)]
        # what was changed from the default stays in sight: it is why a result differs from another
        self._changed_before = {name for name in self._secondary if self._differs_from_default(name)}
        for name in names:
            if name not in self._secondary:
                self._add_row(name)
        self.more = self._build_more(expanded)
        self._layout.addRow(self.more)
        for name in self._secondary:
            self._add_row(name)
        self._problem, self._wrong = "", ""
        self.changed.connect(self._check)
        self._check()

    def _differs_from_default(self, name: str) -> bool:
        default = self._model.model_fields[name].default
        return bool(self._given.get(name, default) != default)

    def _build_more(self, expanded: bool) -> QPushButton:
        more = QPushButton()
        more.setCheckable(True)
        more.setChecked(expanded)
        more.setProperty("link", True)
        more.setAutoDefault(False)  # Return in a dialog is for its own button
        more.setToolTip("Show or hide rarely changed settings")
        more.toggled.connect(lambda _: self._show_what_matters())
        return more

    def _add_row(self, name: str) -> None:
        field = self._model.model_fields[name]
        editor = self._editor(name, field, self._given.get(name, field.default))
        parts = [field.description, range_in_words(self._model, name)]
        if name == _LEVEL and self._sound_levels:
            parts.append(
                "Or the sound level at the microphones, such as 80 dB(A): short bursts find the generator level."
            )
        meaning = "\n".join(part for part in parts if part)
        editor.setToolTip(plain_tip(meaning))
        editor.setAccessibleName(label_of(self._model, name))
        label = Label(label_of(self._model, name))
        label.setBuddy(editor)
        label.setToolTip(plain_tip(meaning))
        label.setProperty("quiet", True)
        self._layout.addRow(label, editor)
        self.editors[name] = editor
        error = Label()
        error.setProperty("error", True)
        error.setWordWrap(True)
        self._layout.addRow(error)
        self._layout.setRowVisible(error, False)
        self.errors[name] = error

    def _show_what_matters(self) -> None:
        values = self.values()
        hidden_by_choice = 0
        for name, editor in self.editors.items():
            matters = applies(self._model, name, values)
            stays = name not in self._secondary or name in self._changed_before
            hidden_by_choice += matters and not stays
            # a wrong value is shown wherever it is, or it could not be mended
            shown = (matters and (stays or self.more.isChecked())) or name == self._wrong
            self._layout.setRowVisible(editor, shown)
        self._layout.setRowVisible(self.more, hidden_by_choice > 0)
        if self.more.isChecked():
            self.more.setText("Fewer settings")
        else:
            self.more.setText(f"More settings ({hidden_by_choice})")

    def shown(self) -> tuple[str, ...]:
        """Names of the settings in sight, in the order of the model."""
        return tuple(
            n for n in self._model.model_fields if n in self.editors and self._layout.isRowVisible(self.editors[n])
        )

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
        line = QLineEdit()
        line.setText("" if value is None else self._shown(value, unit_of(field)))
        self._as_given[name] = (line.text(), value)
        line.textChanged.connect(lambda _: self.changed.emit())
        line.editingFinished.connect(self.committed.emit)
        return line

    def _chooser(self, choices: list[tuple[str, str]] | None, value: str) -> QComboBox:
        combo = QComboBox()
        combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        combo.setMinimumContentsLength(24)
        combo.addItem("Not set", "")
        for key, words in choices or ():
            combo.addItem(words, key)
        if value and combo.findData(value) < 0:
            combo.addItem(value if choices is None else f"{value} (not connected)", value)
        if choices is None:
            combo.addItem(LOADING, value)
        combo.setCurrentIndex(max(0, combo.findData(value)))
        combo.currentIndexChanged.connect(lambda _: self.changed.emit())
        combo.activated.connect(lambda _: self.committed.emit())
        return combo

    @staticmethod
    def _shown(value: Any, unit: str) -> str:
        if isinstance(value, (tuple, list)):
            return list_text([f"{v:.6g}" if isinstance(v, float) else str(v) for v in value])
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

    def fill(self, values: Mapping[str, Any]) -> None:
        """Put values into the fields that have a name among them, as a preset does."""
        for name, value in values.items():
            if name in self.editors:
                field = self._model.model_fields[name]
                self._given[name] = value
                editor = self.editors[name]
                self.set_text(name, self._text_of(value, field))
                if isinstance(editor, QLineEdit):
                    self._as_given[name] = (editor.text(), value)

    def _text_of(self, value: Any, field: Any) -> str:
        if isinstance(value, bool):
            return "yes" if value else "no"
        if value is None:
            return ""
        if isinstance(field.annotation, type) and issubclass(field.annotation, LabelledEnum):
            return str(value)
        return self._shown(value, unit_of(field))

    def values(self) -> dict[str, Any]:
        """Return what is entered; a field that cannot be read is left as text, for the model to refuse.

        A field that was not changed gives back the very value it was given, whatever of it its text can show.
        """
        result = dict(self._given)
        for name, editor in self.editors.items():
            field = self._model.model_fields[name]
            if isinstance(editor, QComboBox):
                result[name] = editor.currentData()
            elif isinstance(editor, QCheckBox):
                result[name] = editor.isChecked()
            elif name != _LEVEL or not self.sound_level():
                shown, given = self._as_given[name]
                unchanged = editor.text() == shown and given is not PydanticUndefined
                result[name] = given if unchanged else self._typed(editor.text().strip(), field)
        return result

    def sound_level(self) -> str:
        """Return the sound level that stands in the field of the generator level, such as "80 dB(A)"; else ""."""
        editor = self.editors.get(_LEVEL)
        if not self._sound_levels or not isinstance(editor, QLineEdit):
            return ""
        text = editor.text().strip()
        # a level in dB SPL without a weighting may be one that the unit's output is held at
        if self._model.model_fields[_LEVEL].annotation is not float and not text.endswith(")"):
            return ""
        from epidote.measurement.sound_level import parse_sound_level

        try:
            wanted = parse_sound_level(text)
        except SettingError:
            return ""
        return str(wanted or "")

    @staticmethod
    def _typed(text: str, field: Any) -> Any:
        if not text and not field.is_required() and field.default is None:
            return None
        unit = unit_of(field)
        if get_origin(field.annotation) is tuple:
            item = get_args(field.annotation)[0]
            parts = list_items(text)
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

    def _check(self) -> None:
        """Find what is wrong and the field it is about, both empty when nothing is, and show what matters now."""
        self._problem, self._wrong = "", ""
        try:
            make_settings(self._model, self.values())
        except SettingError as error:
            self._problem = error.in_window
            self._wrong = next((n for n in error.settings if n in self.editors), "")
        self._show_what_matters()

    def problem(self) -> str:
        """Return what is wrong, in words; empty when nothing is. The field it is about is marked and says it too."""
        self.show_problem(self._problem, (self._wrong,))
        return self._problem

    def show_problem(self, words: str, names: tuple[str, ...]) -> None:
        """Say what is wrong below the first of the named fields, and mark it; ``said_at_field``: whether there was one.

        For the user of the form too, who knows what the model does not, such as the sample rate.
        """
        wrong = next((name for name in names if name in self.editors), "")
        self.said_at_field = bool(words and wrong)
        for name, editor in self.editors.items():
            is_wrong = name == wrong and self.said_at_field
            if is_wrong:
                self.errors[name].setText(words)
                self._layout.setRowVisible(editor, True)
            self._layout.setRowVisible(self.errors[name], is_wrong)
            if editor.property("wrong") != is_wrong:
                editor.setProperty("wrong", is_wrong)
                editor.style().unpolish(editor)
                editor.style().polish(editor)
