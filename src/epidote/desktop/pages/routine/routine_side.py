"""The left of the Routine page: which routine, what it consists of, how far it is."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout

from epidote.desktop.pages.routine.steps_view import StepsView
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import quiet
from epidote.desktop.widgets.scrolled import WrappingWidget

if TYPE_CHECKING:
    from epidote.core.routine.checking import RoutineCheck
    from epidote.core.routine.model import Routine


class RoutineSide(WrappingWidget):
    """``routines`` selects one, ``steps`` shows it; without any, it says how to get one."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 12, 16, 12)
        layout.setSpacing(8)
        self.routines = QComboBox()
        self.routines.setAccessibleName("Routine")
        self.routines.setFont(font(1.3, bold=True))
        self.about = quiet()
        self.steps = StepsView(theme)
        self.edit = QPushButton("Edit routine…")
        self.edit.setToolTip("Change steps, prompts and limits of this routine")
        self.empty = quiet(
            "This study has no routine. Select a measured row on the Matrix page and use Matrix > Create"
            " routine from row,"
            " or import a routine file."
        )
        self.import_button = QPushButton("Import routine…")
        for part in (self.routines, self.about, self.empty, self.import_button, self.steps):
            layout.addWidget(part)
        line = QHBoxLayout()
        line.addWidget(self.edit)
        line.addStretch(1)
        layout.addLayout(line)
        layout.addStretch(1)

    def show_names(self, names: Sequence[str]) -> None:
        """Offer routines by name; the one that is selected stays so while it is among them."""
        if list(names) == [self.routines.itemText(i) for i in range(self.routines.count())]:
            return
        present = self.routines.currentText()
        self.routines.clear()
        self.routines.addItems(names)
        if present in names:
            self.routines.setCurrentText(present)

    def show_whether_there_is_one(self, there: bool) -> None:
        for part in (self.routines, self.about, self.steps, self.edit):
            part.setVisible(there)
        self.empty.setVisible(not there)
        self.import_button.setVisible(not there)

    def show_check(self, routine: Routine, check: RoutineCheck) -> None:
        """Say how long a routine takes, and what is wrong with it on this chain."""
        prompts = ""
        if check.prompts:
            plural = "s" if check.prompts != 1 else ""
            prompts = f", {check.prompts} prompt{plural}"
        words = f"{len(routine.step)} steps, about {check.seconds:.0f} s{prompts}"
        if check.problems:
            words += ". " + " ".join(str(problem) for problem in check.problems)
        self.about.setText(words)
