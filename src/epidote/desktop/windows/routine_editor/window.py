"""Editing a routine: its steps in their order, each with its form; checked as a whole while it is edited."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path

from pydantic import ValidationError
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, SettingError, in_window
from epidote.core.procedures.registry import procedures
from epidote.core.routine.checking import check_routine
from epidote.core.routine.model import CommandStep, MeasureStep, PromptStep, Routine, Step, WaitStep
from epidote.core.settings import validation_words
from epidote.desktop.state.session import Session
from epidote.desktop.widgets.dialogs import conditions_text, parse_conditions
from epidote.desktop.widgets.help_key import listen_for_help
from epidote.desktop.widgets.plain import Label, button_text, heading, plain_tip
from epidote.desktop.widgets.scrolled import scrolled
from epidote.desktop.windows.routine_editor.limits_dialog import LimitsDialog
from epidote.desktop.windows.routine_editor.step_forms import MeasureForm, PromptForm, StepForm, form_of
from epidote.measurement.routine.making import made_limits
from epidote.measurement.routine.outcome import step_title
from epidote.study.models import Owner

_NEW: Mapping[str, Callable[[], Step]] = {
    "Prompt": lambda: PromptStep(prompt="Connect the unit"),
    "Wait": lambda: WaitStep(wait="5 s"),
    "Command": lambda: CommandStep(command=("program",)),
}
_STUDY = Owner()
_PICTURES = "Pictures (*.png *.jpg *.jpeg *.webp *.gif *.bmp)"


class RoutineEditor(QDialog):
    """``routine`` is what was made, valid once the dialog was accepted."""

    def __init__(self, session: Session, parent: QWidget, routine: Routine, chain: Chain) -> None:
        super().__init__(parent)
        listen_for_help(self)
        self.setProperty("help", "make-a-routine")
        self.setWindowTitle(f"Edit routine: {routine.name}")
        self.resize(980, 680)
        self.session, self._chain = session, chain
        self.routine = routine
        self.steps: list[Step] = list(routine.step)
        self.form: StepForm | None = None
        self._filling = False
        self._build(routine)
        self._list_steps(0)

    def _build(self, routine: Routine) -> None:
        layout = QVBoxLayout(self)
        layout.setSpacing(10)
        layout.addLayout(self._build_head(routine))
        line = QHBoxLayout()
        line.addLayout(self._build_list())
        self.holder = QWidget()
        self._inside = QVBoxLayout(self.holder)
        self._inside.setContentsMargins(12, 0, 4, 0)
        line.addWidget(scrolled(self.holder), 1)
        layout.addLayout(line, 1)
        self.problem = Label()
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        layout.addWidget(self.problem)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Save routine")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        layout.addWidget(self.buttons)

    def _build_head(self, routine: Routine) -> QHBoxLayout:
        line = QHBoxLayout()
        left, right = QFormLayout(), QFormLayout()
        self.fields: dict[str, QLineEdit] = {}
        for name, label, text, tip in (
            ("name", "Name", routine.name, "Name of the routine; results are grouped by it"),
            ("maker", "Manufacturer", routine.maker, "For new units"),
            ("model", "Model", routine.model, "For new units"),
            ("pattern", "Serial numbers", routine.serial_pattern, "Regular expression for a whole serial number"),
            (
                "conditions",
                "Conditions",
                conditions_text(dict(routine.conditions)),
                "Conditions of the row created for each unit",
            ),
        ):
            field = QLineEdit(text)
            field.setAccessibleName(label)
            field.setToolTip(plain_tip(tip))
            field.textEdited.connect(lambda _: self.check())
            (left if name in ("name", "maker", "model") else right).addRow(label, field)
            self.fields[name] = field
        self.fields["pattern"].setPlaceholderText("any, e.g. H20-[0-9]{3}")
        self.guard = QCheckBox("Guard bands: pass or fail only outside the uncertainty (ISO 14253-1)")
        self.guard.setChecked(routine.guard_bands)
        self.look = QCheckBox("Check connections before the first step")
        self.look.setChecked(routine.check_signal)
        for box in (self.guard, self.look):
            box.toggled.connect(lambda _: self.check())
            right.addRow("", box)
        line.addLayout(left, 1)
        line.addLayout(right, 1)
        return line

    def _build_list(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.addWidget(heading("Steps"))
        self.list = QListWidget()
        self.list.setAccessibleName("Steps")
        self.list.setFixedWidth(280)
        self.list.currentRowChanged.connect(self._show_step)
        column.addWidget(self.list, 1)
        line = QHBoxLayout()
        self.add = QPushButton("Add")
        self.add.setMenu(self._add_menu())
        self.up, self.down, self.remove = QPushButton("Up"), QPushButton("Down"), QPushButton("Remove")
        self.add.setToolTip("Add a step after the selected one")
        self.up.setToolTip("Move the step up")
        self.down.setToolTip("Move the step down")
        self.remove.setToolTip("Remove the step from the routine")
        self.up.clicked.connect(lambda _: self.move_step(-1))
        self.down.clicked.connect(lambda _: self.move_step(1))
        self.remove.clicked.connect(lambda _: self.remove_step())
        for button in (self.add, self.up, self.down, self.remove):
            line.addWidget(button)
        column.addLayout(line)
        return column

    def _add_menu(self) -> QMenu:
        menu = QMenu(self)
        for words, make in _NEW.items():
            menu.addAction(words, partial(self._add_new, make))
        menu.addSeparator()
        for key, proc in procedures().items():
            menu.addAction(button_text(str(proc.title)), partial(self._add_procedure, key))
        return menu

    def _add_new(self, make: Callable[[], Step]) -> None:
        self.add_step(make())

    def _add_procedure(self, key: str) -> None:
        self.add_step(MeasureStep(procedure=key))

    # -- steps -----------------------------------------------------------------------------------------

    def _list_steps(self, selected: int) -> None:
        self._filling = True
        self.list.clear()
        self.list.addItems([f"{n}  {step_title(step)}" for n, step in enumerate(self.steps, start=1)])
        self.list.setCurrentRow(min(selected, len(self.steps) - 1))
        self._filling = False
        self._show_step(self.list.currentRow())

    def add_step(self, step: Step) -> None:
        """Add a step after the selected one."""
        self._take_form()
        place = self.list.currentRow() + 1
        self.steps.insert(place, step)
        self._list_steps(place)

    def move_step(self, by: int) -> None:
        """Move the selected step."""
        self._take_form()
        place = self.list.currentRow()
        if 0 <= place < len(self.steps) and 0 <= place + by < len(self.steps):
            self.steps.insert(place + by, self.steps.pop(place))
            self._list_steps(place + by)

    def remove_step(self) -> None:
        """Remove the selected step; one must stay."""
        place = self.list.currentRow()
        if len(self.steps) > 1 and place >= 0:
            self.form = None
            del self.steps[place]
            self._list_steps(min(place, len(self.steps) - 1))

    def _show_step(self, place: int) -> None:
        if self._filling:
            return
        old = self._inside.takeAt(0)
        widget = old.widget() if old is not None else None
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        self.form = None
        if 0 <= place < len(self.steps):
            self.form = form_of(self.steps[place])
            self.form.changed.connect(self._form_changed)
            if isinstance(self.form, MeasureForm):
                self.form.limits_wanted.connect(self.ask_for_limits)
            if isinstance(self.form, PromptForm):
                self.form.picture_wanted.connect(self._ask_for_picture)
            self._inside.addWidget(self.form)
        self.check()

    def _form_changed(self) -> None:
        if self._take_form():
            place = self.list.currentRow()
            self.list.item(place).setText(f"{place + 1}  {step_title(self.steps[place])}")
        self.check()

    def _take_form(self) -> bool:
        """Take what is entered in the form; False while it is no step."""
        place = self.list.currentRow()
        if self.form is None or not 0 <= place < len(self.steps):
            return False
        try:
            self.steps[place] = self.form.step()
        except EpidoteError:
            return False
        return True

    # -- limits and pictures ---------------------------------------------------------------------------

    def ask_for_limits(self) -> None:
        """Ask where the limits of the step come from, and take them."""
        overview, form = self.session.overview, self.form
        if overview is None or not isinstance(form, MeasureForm) or not self._take_form():
            return
        step = self.steps[self.list.currentRow()]
        assert isinstance(step, MeasureStep)
        rows = [s for s in overview.subjects if s.unit is not None]
        dialog = LimitsDialog(self, step, rows)
        if not dialog.exec():
            return
        wish = dialog.wish()
        study = self.session.study
        if wish is None or study is None:
            return
        self.session.aside(lambda: made_limits(study, step, wish), form.add_limits, self.problem.setText)

    def _ask_for_picture(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Select picture", str(Path.home()), _PICTURES)
        form, study = self.form, self.session.study
        if not path or not isinstance(form, PromptForm) or study is None:
            return

        def done(name: str) -> None:
            form.picture.setText(name)
            self._form_changed()

        source = Path(path)
        self.session.aside(lambda: str(study.entries.attach(source, _STUDY).data["name"]), done, self.problem.setText)

    # -- the whole -------------------------------------------------------------------------------------

    def made(self) -> Routine:
        """Return the routine that is entered. Raises SettingError with what is wrong."""
        if self.form is not None:
            self.form.step()  # which says what is wrong with the present step
        try:
            conditions = parse_conditions(self.fields["conditions"].text())
            return Routine(
                name=self.fields["name"].text().strip(),
                maker=self.fields["maker"].text().strip(),
                model=self.fields["model"].text().strip(),
                serial_pattern=self.fields["pattern"].text().strip(),
                conditions=conditions,
                guard_bands=self.guard.isChecked(),
                check_signal=self.look.isChecked(),
                step=tuple(self.steps),
            )
        except ValidationError as error:
            raise SettingError(f"{validation_words(error)}. Correct it.") from error
        except ValueError as error:
            raise SettingError(str(error)) from error

    def check(self) -> None:
        """Say what is wrong with the whole; it can be saved once nothing is."""
        words = ""
        try:
            routine = self.made()
            words = " ".join(str(problem) for problem in check_routine(routine, self._chain).problems)
        except EpidoteError as error:
            words = in_window(error)
        self.problem.setText(words)
        self.problem.setVisible(bool(words))
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(not words)

    def accept(self) -> None:
        self._take_form()
        self.check()
        if self.buttons.button(QDialogButtonBox.StandardButton.Ok).isEnabled():
            self.routine = self.made()
            super().accept()
