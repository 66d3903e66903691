"""The last units, and how many there were."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QVBoxLayout, QWidget

from epidote.core.quantities.formatting import format_quantity
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import Label, heading, plain_tip, quiet
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.wording import LOADING

if TYPE_CHECKING:
    from epidote.core.statistics.proportion import Yield
    from epidote.study.passes import PassCounts, RoutinePass

SHOWN = 30


class LastUnits(QWidget):
    """unit_wanted: the row of the pass that was clicked."""

    unit_wanted = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._passes: tuple[RoutinePass, ...] = ()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        layout.addWidget(heading("Last units"))
        self.table = ReadOnlyTable("Last units")
        self.table.choose_rows()
        self.table.horizontalHeader().hide()
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.table.setWordWrap(False)
        self.table.doubleClicked.connect(lambda index: self.unit_wanted.emit(self._passes[index.row()].subject_id))
        self.table.setToolTip("Double-click a unit to select its row on the Matrix page")
        layout.addWidget(self.table, 1)
        self.none = quiet(LOADING)
        layout.addWidget(self.none)
        line = QHBoxLayout()
        line.setSpacing(28)
        self.count, self.passed = Label("0"), Label("")
        self.count_words, self.passed_words = quiet("units"), quiet("")
        for number, words in ((self.count, self.count_words), (self.passed, self.passed_words)):
            column = QVBoxLayout()
            column.setSpacing(0)
            number.setFont(font(2.0, bold=True))
            column.addWidget(number)
            column.addWidget(words)
            line.addLayout(column)
        line.addStretch(1)
        layout.addLayout(line)

    def clear(self) -> None:
        """Show no units until they are read."""
        self._passes = ()
        self.none.setText(LOADING)
        self._fill()
        self.count.setText("0")
        self.passed.hide()
        self.passed_words.hide()

    def set_theme(self, theme: Theme) -> None:
        """Show the same in another theme."""
        self.theme = theme
        self._fill()

    def show_passes(self, passes: Sequence[RoutinePass], counts: PassCounts, share: Yield | None) -> None:
        """Show the last passes, latest first, and the counts; share: of units that passed at their first pass."""
        self._passes = tuple(passes[:SHOWN])
        self.none.setText("No units measured with this routine.")
        self._fill()
        self.count.setText(str(counts.units))
        self.count_words.setText("unit" if counts.units == 1 else "units")
        self.passed.setVisible(share is not None)
        self.passed_words.setVisible(share is not None)
        if share is not None:
            self.passed.setText(f"{100 * share.share:.1f} %")
            low, high = share.interval
            at_last = f"; {counts.last_passed} at their last pass" if counts.last_passed != counts.first_passed else ""
            self.passed_words.setText(f"first-pass yield, 95 % interval {100 * low:.1f} to {100 * high:.1f} %{at_last}")

    def _fill(self) -> None:
        heads = [TableCell(words, font(0.9), right=False) for words in ("Serial number", "Verdict", "Margin")]
        self.table.show_cells(heads, [self._cells(one) for one in self._passes])
        header = self.table.horizontalHeader()
        if self._passes:
            for section in (0, 1):
                header.setSectionResizeMode(section, QHeaderView.ResizeMode.ResizeToContents)
            header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.none.setVisible(not self._passes)
        self.table.setVisible(bool(self._passes))

    def _cells(self, one: RoutinePass) -> list[TableCell]:
        colour = self.theme.colour({"passed": "accent", "failed": "caution"}.get(one.verdict, "quiet"))
        when = f"{one.begun.astimezone():%d %b %Y %H:%M}, {one.operator}"
        tip = plain_tip(". ".join(part for part in (when, detail_words(one), one.words) if part))
        return [
            TableCell(one.serial, font(), tip, right=False),
            TableCell(one.verdict.capitalize(), font(bold=True), tip, colour, right=False),
            TableCell(detail_words(one), font(0.9), tip, right=False),
        ]


def detail_words(one: RoutinePass) -> str:
    """Return what says most of a pass: the step that decided, or the smallest margin."""
    step = one.failed_step
    if step is not None:
        margin = step.get("margin")
        said = str(step.get("title", ""))
        if margin is not None:
            said = f"{format_quantity(margin, str(step.get('unit', '')), digits=2)}, {said}"
        return said
    if one.verdict != "passed":
        return one.words
    margins = [(s["share"], s) for s in one.steps if isinstance(s.get("share"), (int, float))]
    if not margins:
        return ""
    _, nearest = min(margins, key=lambda pair: pair[0])
    return str(format_quantity(nearest["margin"], str(nearest.get("unit", "")), digits=2))
