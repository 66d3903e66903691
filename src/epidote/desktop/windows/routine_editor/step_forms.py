"""Forms of the four kinds of steps: fields in, a step out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from pydantic import ValidationError
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QFormLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_quantity
from epidote.core.results.channels import channel_name
from epidote.core.routine.model import AnswerKind, CommandStep, MeasureStep, PromptStep, Step, WaitStep
from epidote.core.routine.step_limit import StepLimit
from epidote.core.settings import unusual_settings, validation_words
from epidote.desktop.theme import font
from epidote.desktop.widgets.dialogs import conditions_text, parse_conditions
from epidote.desktop.widgets.plain import heading, plain_tip, quiet
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.settings_form import SettingsForm

_ON_FAILURE = ("go on", "stop", "ask", "repeat 1 time", "repeat 2 times", "repeat 3 times")
_LABELS = {
    "go on": "Continue",
    "stop": "Stop",
    "ask": "Ask operator",
    "done": "Done",
    "yes or no": "Yes or no",
    "value": "Value",
}


class StepForm(QWidget):
    """changed: something was edited. ``step`` makes the step of what is entered; raises SettingError in words."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.layout_ = QVBoxLayout(self)
        self.layout_.setContentsMargins(0, 0, 0, 0)
        self.form = QFormLayout()
        self.layout_.addLayout(self.form)

    def field(self, label: str, text: str, tip: str = "", hint: str = "") -> QLineEdit:
        """Add a line."""
        edit = QLineEdit(text)
        edit.setAccessibleName(label)
        edit.setToolTip(plain_tip(tip))
        edit.setPlaceholderText(hint)
        edit.textEdited.connect(lambda _: self.changed.emit())
        self.form.addRow(label, edit)
        return edit

    def choice(self, label: str, options: Sequence[str], present: str) -> QComboBox:
        """Add a list to select from."""
        box = QComboBox()
        box.setAccessibleName(label)
        for option in options if present in options else (*options, present):
            box.addItem(_LABELS.get(option, option.capitalize()), option)
        box.setCurrentIndex(box.findData(present))
        box.activated.connect(lambda _: self.changed.emit())
        self.form.addRow(label, box)
        return box

    def step(self) -> Step:
        """Return the step."""
        raise NotImplementedError

    def made(self, kind: type[Any], values: dict[str, Any]) -> Any:
        """Return a step of a kind. Raises SettingError with what is wrong."""
        try:
            return kind.model_validate(values)
        except ValidationError as error:
            raise SettingError(f"{validation_words(error)}. Correct it.") from error


def _number(text: str, label: str) -> float | None:
    if not text.strip():
        return None
    try:
        return float(text.replace(",", "."))
    except ValueError as error:
        raise SettingError(f"{label}: “{text}” is not a number. Enter one, or leave it empty.") from error


class MeasureForm(StepForm):
    """limits_wanted: limits are to be taken from rows."""

    limits_wanted = Signal()

    def __init__(self, step: MeasureStep) -> None:
        super().__init__()
        self._step, self.limits = step, list(step.limit)
        proc = procedure(step.procedure)
        self.title = self.field("Title", step.title, "Shown on the Routine page", str(proc.title))
        self.conditions = self.field(
            "Conditions",
            conditions_text(dict(step.conditions)),
            "Conditions of the unit during this step only",
            "gain = low",
        )
        self.repeats = self.field("Repeats", str(step.repeats), "Number of runs of this step; each run is judged")
        self.on_failure = self.choice("On failure", _ON_FAILURE, step.on_failure)
        self.layout_.addWidget(heading("Limits"))
        self.table = ReadOnlyTable("Limits of the step")
        self.table.choose_rows()
        self.table.setMinimumHeight(110)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.layout_.addWidget(self.table)
        line = QHBoxLayout()
        self.take, self.remove = QPushButton("Create limits…"), QPushButton("Remove limit")
        self.take.setToolTip("From good units, as tolerance about a row, or relative to the golden unit")
        self.remove.setToolTip("Remove the selected limit")
        self.take.clicked.connect(lambda _: self.limits_wanted.emit())
        self.remove.clicked.connect(lambda _: self._remove())
        line.addWidget(self.take)
        line.addWidget(self.remove)
        line.addStretch(1)
        self.layout_.addLayout(line)
        self.layout_.addWidget(heading("Settings"))
        self.settings = SettingsForm(proc.Settings, dict(step.settings))
        self.settings.changed.connect(self.changed)
        self.layout_.addWidget(self.settings)
        self._fill()

    def step(self) -> MeasureStep:
        problem = self.settings.problem()
        if problem:
            raise SettingError(problem)
        try:
            conditions = parse_conditions(self.conditions.text())
        except ValueError as error:
            raise SettingError(str(error)) from error
        model = procedure(self._step.procedure).Settings
        made: MeasureStep = self.made(
            MeasureStep,
            {
                "procedure": self._step.procedure,
                "title": self.title.text().strip(),
                "settings": unusual_settings(model, self.settings.values()),
                "conditions": conditions,
                "repeats": self.repeats.text().strip(),
                "on_failure": self.on_failure.currentData(),
                "limit": self.limits,
            },
        )
        return made

    def add_limits(self, limits: Sequence[StepLimit]) -> None:
        """Add limits in place of those of the same reading or curve and channel."""
        places = {(one.key, one.channel, one.x_unit) for one in limits}
        self.limits = [one for one in self.limits if (one.key, one.channel, one.x_unit) not in places] + list(limits)
        self._fill()
        self.changed.emit()

    def _remove(self) -> None:
        row = self.table.current_cell()[0]
        if 0 <= row < len(self.limits):
            del self.limits[row]
            self._fill()
            self.changed.emit()

    def _fill(self) -> None:
        heads = [
            TableCell(words, font(0.9), right=False) for words in ("Quantity", "Channel", "Lower", "Upper", "Source")
        ]
        rows = []
        for one in self.limits:
            source = one.source or (f"relative to {one.golden}" if one.golden else "")
            texts = (
                _title(self._step.procedure, one),
                channel_name(one.channel) if one.channel else "all",
                _end(one.lower, one.unit),
                _end(one.upper, one.unit),
                f"{source}{', shape only' if one.floating else ''}",
            )
            rows.append([TableCell(text, font(), right=False) for text in texts])
        self.table.show_cells(heads, rows)
        self.table.resizeColumnsToContents()
        self.remove.setEnabled(bool(self.limits))


def _title(key: str, limit: StepLimit) -> str:
    proc = procedure(key)
    titles = {kind.key: kind.title for kind in proc.readings}
    if limit.x_unit:
        titles = {view.key: f"{view.axis} (curve)" for view in proc.views}
    return str(titles.get(limit.key, limit.key))


def _end(corners: Sequence[tuple[float, float]], unit: str) -> str:
    """Return one side of a limit in words."""
    if not corners:
        return ""
    values = [y for _, y in corners]
    if max(values) == min(values):
        return str(format_quantity(values[0], unit, digits=4))
    low, high = (format_quantity(v, unit, digits=3) for v in (min(values), max(values)))
    return f"{low} to {high}"


class PromptForm(StepForm):
    """picture_wanted: a picture is to be selected."""

    picture_wanted = Signal()

    def __init__(self, step: PromptStep) -> None:
        super().__init__()
        self.prompt = self.field("Prompt", step.prompt, "Text for the operator, shown in large type")
        self.title = self.field("Title", step.title, "Shown in the list of steps")
        self.picture = self.field("Picture", step.picture, "File name of a picture saved in the study")
        button = QPushButton("Select picture…")
        button.setToolTip("Save a copy of a picture in the study")
        button.clicked.connect(lambda _: self.picture_wanted.emit())
        self.form.addRow("", button)
        self.answer = self.choice("Answer", [str(kind) for kind in AnswerKind], str(step.answer))
        self.unit = self.field("Unit", step.unit, "Unit of the value; for the answer “Value” only")
        self.lowest = self.field(
            "Lower limit", "" if step.lower is None else f"{step.lower:g}", "For the answer “Value” only"
        )
        self.highest = self.field(
            "Upper limit", "" if step.upper is None else f"{step.upper:g}", "For the answer “Value” only"
        )
        self.on_failure = self.choice("On failure", ("go on", "stop"), step.on_failure)

    def step(self) -> PromptStep:
        made: PromptStep = self.made(
            PromptStep,
            {
                "prompt": self.prompt.text().strip(),
                "title": self.title.text().strip(),
                "picture": self.picture.text().strip(),
                "answer": self.answer.currentData(),
                "unit": self.unit.text().strip(),
                "lower": _number(self.lowest.text(), "Lower limit"),
                "upper": _number(self.highest.text(), "Upper limit"),
                "on_failure": self.on_failure.currentData(),
            },
        )
        return made


class WaitForm(StepForm):
    """A time, “steady” or “warm”."""

    def __init__(self, step: WaitStep) -> None:
        super().__init__()
        self._step = step
        self.wait = self.field("Wait", step.wait, "A time such as 5 s; “steady” or “warm”", "5 s")
        self.title = self.field("Title", step.title, "Shown in the list of steps")
        self.within = self.field(
            "Maximum change",
            f"{step.within:g}",
            "Steady: maximum change in dB between two readings; warm: maximum change per minute",
        )
        self.longest = self.field(
            "Time limit, s", f"{step.longest:g}", "After this time the routine continues with a note"
        )
        self.level = self.field("Level, dBFS", f"{step.level:g}", "Level of the test tone")
        self.procedure = self.field("Procedure", step.procedure, "Warm: procedure that is repeated, e.g. tone")
        self.key = self.field("Reading", step.key, "Warm: the reading that must settle, e.g. level")

    def step(self) -> WaitStep:
        made: WaitStep = self.made(
            WaitStep,
            {
                "wait": self.wait.text().strip(),
                "title": self.title.text().strip(),
                "within": _number(self.within.text(), "Within"),
                "longest": _number(self.longest.text(), "At most"),
                "level": _number(self.level.text(), "Level"),
                "procedure": self.procedure.text().strip(),
                "settings": dict(self._step.settings),
                "key": self.key.text().strip(),
            },
        )
        return made


class CommandForm(StepForm):
    """A program with its arguments, one in each line of text separated by blanks; quotes keep blanks."""

    def __init__(self, step: CommandStep) -> None:
        super().__init__()
        import shlex

        self.layout_.insertWidget(
            0, quiet("The command is run without a shell, after the operator has allowed it for this routine.")
        )
        self.command = self.field("Command", shlex.join(step.command), "Program and arguments", "relay --on 3")
        self.title = self.field("Title", step.title, "Shown in the list of steps")
        self.longest = self.field("Time limit, s", f"{step.longest:g}", "The command is stopped after this time")

    def step(self) -> CommandStep:
        import shlex

        try:
            parts = shlex.split(self.command.text())
        except ValueError as error:
            raise SettingError(f"Command: {error}. Correct the quotation marks.") from error
        made: CommandStep = self.made(
            CommandStep,
            {
                "command": parts,
                "title": self.title.text().strip(),
                "longest": _number(self.longest.text(), "At most"),
            },
        )
        return made


def form_of(step: Step) -> StepForm:
    """Return the form of a step."""
    if isinstance(step, MeasureStep):
        return MeasureForm(step)
    if isinstance(step, PromptStep):
        return PromptForm(step)
    if isinstance(step, WaitStep):
        return WaitForm(step)
    return CommandForm(step)
