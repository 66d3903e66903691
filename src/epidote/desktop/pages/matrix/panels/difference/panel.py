"""Whether a row differs from the reference: each reading's verdict, what else differs, and where the curves change
places.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from epidote.core.comparison.repeatability import Significance
from epidote.core.effects import Severity
from epidote.core.wording.differences import comparison_words, mismatch_words, swap_words
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

if TYPE_CHECKING:
    from epidote.core.comparison.conditions.comparability import Mismatch
    from epidote.core.comparison.repeatability import Comparison
    from epidote.measurement.assessment import DifferenceReport

_MOST_CROSSINGS, _MOST_UNLIKE = 2, 5


def _marked_mismatch(mismatch: Mismatch) -> str:
    """Return a mismatch with a mark that tells what forbids a verdict from what does not."""
    mark = "·"
    if mismatch.severity is Severity.BLOCKS:
        mark = "!"
    return f"{mark} {mismatch_words(mismatch)}"


class DifferencePanel(QWidget):
    """The differences of a row from the reference, with their findings."""

    repeat_wanted = Signal()
    swap_wanted = Signal()
    row_chosen = Signal(int)
    acknowledged = Signal(bool)
    reference_wanted = Signal()  # the selected row is to be the reference

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 6, 16, 10)
        layout.setSpacing(6)
        top = QHBoxLayout()
        self.rows = SegmentedButtons()
        self.rows.chosen.connect(lambda on: self.row_chosen.emit(int(on[0])))
        top.addWidget(self.rows)
        top.addStretch(1)
        layout.addLayout(top)
        self.heading = Label()
        self.heading.setWordWrap(True)
        layout.addWidget(self.heading)
        self.set_reference = QPushButton("Set selected row as reference")
        self.set_reference.clicked.connect(lambda _: self.reference_wanted.emit())
        self.set_reference.hide()
        layout.addWidget(self.set_reference, 0, Qt.AlignmentFlag.AlignLeft)
        self.table = ReadOnlyTable("Differences")
        layout.addWidget(self.table, 1)
        self.crossings = Label()
        self.crossings.setWordWrap(True)
        self.crossings.setProperty("quiet", True)
        layout.addWidget(self.crossings)
        self.mismatches = Label()
        self.mismatches.setWordWrap(True)
        layout.addWidget(self.mismatches)
        self.known = QCheckBox("Compare despite these differences")
        self.known.clicked.connect(self.acknowledged)
        layout.addWidget(self.known)
        buttons = QHBoxLayout()
        self.repeat, self.swap = QPushButton("Repeat…"), QPushButton("Swap channels…")
        self.repeat.setToolTip(
            "Repeat the selected measurements. The scatter of the repeats shows which differences are significant."
        )
        self.swap.setToolTip(
            "Measure with swapped channels to see whether a difference belongs to the unit or to the chain"
        )
        self.repeat.setProperty("main", True)
        self.repeat.clicked.connect(self.repeat_wanted)
        self.swap.clicked.connect(self.swap_wanted)
        for button in (self.repeat, self.swap):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout.addLayout(buttons)

    def show_nothing(self, words: str, *, offer_reference: bool) -> None:
        """Why there is nothing to compare, and what to do; offer_reference: the selected row can be made the one."""
        self.set_reference.setVisible(offer_reference)
        self.rows.set_options([], [])
        self.heading.setText(words)
        self.table.show_cells((), ())
        for label in (self.crossings, self.mismatches):
            label.hide()
        self.known.hide()

    def show_report(
        self,
        report: DifferenceReport,
        reference: str,
        titles: dict[str, str],
        rows: list[tuple[int, str]],
        current: int,
        *,
        known: bool,
    ) -> None:
        """rows: (number, name) of the rows that can be held against the reference."""
        self.set_reference.hide()
        self.rows.set_options([(str(n), name) for n, name in rows] if len(rows) > 1 else [], [str(current)])
        blocked = report.blocked and not known
        self.heading.setText(f"{report.name} vs. {reference}" + (": no verdict, see below" if blocked else ""))
        heads = [
            TableCell("Reading", font(0.9), right=False),
            TableCell("Difference (95 %)", font(0.9)),
            TableCell("Finding", font(0.9), right=False),
        ]
        cells = [self._cells_of(titles.get(key, key), found, blocked=blocked) for key, found in report.comparisons]
        self.table.show_cells(heads, cells)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        words = [_marked_mismatch(one) for one in report.mismatches[:_MOST_UNLIKE]]
        swapped = []
        if report.swapped is not None:
            swapped = [swap_words(report.swapped.title, report.swapped.conclusion)]
        more = len(report.mismatches) - _MOST_UNLIKE
        self.mismatches.setText(
            "\n".join(
                [
                    *swapped,
                    *words,
                    *([f"… and {more} minor ones."] if more > 0 else []),
                ]
            )
            or "No other differences in settings, chain or conditions."
        )
        self.mismatches.setProperty("caution", report.blocked)
        self.mismatches.setProperty("quiet", not report.blocked)
        self.mismatches.style().polish(self.mismatches)
        self.mismatches.show()
        self.known.setVisible(report.blocked)
        self.known.setChecked(known)

    def _cells_of(self, title: str, comparison: Comparison, *, blocked: bool) -> list[TableCell]:
        """Return a row of the table: the reading, how far it differs, and whether that is real."""
        different = comparison.finding is Significance.DIFFERENT and not blocked
        finding = str(comparison.finding)
        if different and max(comparison.repeats) == 1:
            finding = f"{finding} (single run)"
        if blocked:
            finding = "not compared"
        ink = "quiet"
        if different:
            ink = "text"
        elif comparison.finding is Significance.CHAIN_LIMITED and not blocked:
            ink = "caution"
        tip, text = plain_tip(comparison_words(comparison)), self.theme.colour("text")
        return [
            TableCell(title, font(0.9), tip, text, right=False),
            TableCell(_difference_words(comparison), font(0.9), tip, text),
            TableCell(finding, font(0.9, bold=different), tip, self.theme.colour(ink), right=False),
        ]

    def show_crossings(self, crossings: tuple[str, ...]) -> None:
        more = len(crossings) - _MOST_CROSSINGS
        self.crossings.setText(
            "\n".join(
                [*crossings[:_MOST_CROSSINGS], *([f"… and {more} more (see exported graph)."] if more > 0 else [])]
            )
        )
        self.crossings.setVisible(bool(crossings))


def _difference_words(comparison: Any) -> str:
    from epidote.core.quantities.formatting import format_quantity

    value = format_quantity(
        comparison.difference, comparison.unit, digits=3, uncertainty=comparison.interval or None, signed=True
    )
    if not comparison.interval:
        return value
    if comparison.unit == "dB" and comparison.interval < 0.0005:
        return f"{value} ±<0.001 dB"
    interval = format_quantity(comparison.interval, comparison.unit, digits=2, uncertainty=comparison.interval / 10)
    return f"{value} ±{interval}"
