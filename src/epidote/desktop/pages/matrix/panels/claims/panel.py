"""A unit's published figures: typed as people write them, with what was understood shown at once, and the verdict on
each.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.wording import LOADING
from epidote.study.annotations import valid

if TYPE_CHECKING:
    from epidote.core.comparison.claims.parser import ParsedClaim
    from epidote.core.comparison.claims.verdict import Verdict
    from epidote.study.models import Entry, Unit

_INKS = {"not met": "caution", "inconclusive": "quiet"}
_MARKS = {"met": "✓", "not met": "✗", "inconclusive": "?"}


class ClaimsPanel(QWidget):
    """The claims of a unit with their verdicts, and a line to enter another."""

    added = Signal(list)  # claims as data, each with its words
    deleted = Signal(int, str)
    measure_wanted = Signal(int)  # of this entry

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.unit: Unit | None = None
        self._entries: list[Entry] = []
        self._verdicts: dict[int, Verdict] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 6, 16, 10)
        layout.setSpacing(6)
        self.heading = Label()
        self.heading.setProperty("heading", True)
        layout.addWidget(self.heading)
        self.table = ReadOnlyTable("Claims")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setWordWrap(True)
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._chosen())
        layout.addWidget(self.table, 1)
        self.verdict = Label()
        self.verdict.setWordWrap(True)
        layout.addWidget(self.verdict)
        self.typed = QLineEdit()
        self.typed.setPlaceholderText("Claim, e.g. THD+N < 0.005 %, 1 kHz, 1 W, 8 Ω, 20 kHz bandwidth")
        self.typed.setAccessibleName("Claim")
        self.typed.textChanged.connect(self._understand)
        self.typed.returnPressed.connect(self.add_typed)
        layout.addWidget(self.typed)
        self.understood = Label()
        self.understood.setWordWrap(True)
        self.understood.setProperty("quiet", True)
        layout.addWidget(self.understood)
        self.source = QLineEdit()
        self.source.setPlaceholderText("Source, e.g. data sheet 2025")
        self.source.setAccessibleName("Source of the claim")
        buttons = QHBoxLayout()
        self.add, self.take, self.measure, self.delete = (
            QPushButton(t) for t in ("Add", "Import CSV…", "Measure", "Delete")
        )
        self.add.setProperty("main", True)
        self.add.clicked.connect(self.add_typed)
        self.take.clicked.connect(lambda _: self.import_csv())
        self.measure.clicked.connect(lambda _: self._on_current(lambda e: self.measure_wanted.emit(e.id)))
        self.delete.clicked.connect(
            lambda _: self._on_current(lambda e: self.deleted.emit(e.id, str(e.data.get("text", ""))))
        )
        layout.addWidget(self.source)
        for button in (self.add, self.take, self.measure, self.delete):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout.addLayout(buttons)
        self._understand("")

    def show_unit(
        self, unit: Unit | None, entries: list[Entry], verdicts: dict[int, Verdict], *, writable: bool
    ) -> None:
        current = self._current()
        self.unit, self._entries, self._verdicts = unit, entries, verdicts
        self.heading.setText(f"Claims for {unit.name}" if unit is not None else "Select a row to see its claims.")
        for widget in (self.typed, self.source, self.take):
            widget.setEnabled(writable and unit is not None)
        heads = [
            TableCell("Claim", font(0.9), right=False),
            TableCell("Measured", font(0.9)),
            TableCell("Verdict", font(0.9), right=False),
        ]
        self.table.show_cells(heads, [self._cells_of(entry, verdicts.get(entry.id)) for entry in entries])
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for c in (1, 2):
            header.setSectionResizeMode(c, QHeaderView.ResizeMode.ResizeToContents)
        self.table.resizeRowsToContents()
        again = next(
            (i for i, e in enumerate(entries) if current is not None and e.id == current.id), 0 if entries else -1
        )
        if again >= 0:
            self.table.selectRow(again)
        self._chosen()
        self._offer_adding(self._understood(self.typed.text()))

    def _cells_of(self, entry: Entry, verdict: Verdict | None) -> list[TableCell]:
        """Return a row of the table: the claim, the measured figure, and the verdict."""
        from epidote.core.claims.claim import Claim

        claim = next((c for _, c in valid([entry], Claim)), None)
        if claim is None:
            words = f"Unreadable claim (entry {entry.id}): damaged, or of a procedure that is not installed"
            return [TableCell(words, font(0.9), right=False), TableCell("", font(0.9)), TableCell("", font(0.9))]
        outcome = LOADING
        if verdict is not None:
            outcome = str(verdict.outcome)
        source = f" ({claim.source})" if claim.source else ""
        tip, text = plain_tip(f"{claim.text}{source}"), self.theme.colour("text")
        mark, ink = _MARKS.get(outcome, ""), self.theme.colour(_INKS.get(outcome, "text"))
        return [
            TableCell(claim.words, font(0.9), tip, text, right=False),
            TableCell(_measured(verdict), font(0.9), tip, text),
            TableCell(f"{mark} {outcome}".strip(), font(0.9, bold=outcome == "not met"), tip, ink, right=False),
        ]

    def _current(self) -> Entry | None:
        row, _ = self.table.current_cell()
        if 0 <= row < len(self._entries):
            return self._entries[row]
        return None

    def _on_current(self, do: Any) -> None:
        entry = self._current()
        if entry is not None:
            do(entry)

    def _chosen(self) -> None:
        from epidote.core.wording.verdicts import verdict_words

        entry = self._current()
        if entry is not None:
            verdict = self._verdicts.get(entry.id)
        else:
            verdict = None
        self.verdict.setText(verdict_words(verdict) if verdict is not None else "")
        self.verdict.setVisible(verdict is not None)
        self.verdict.setProperty("caution", verdict is not None and verdict.outcome == "not met")
        self.verdict.style().polish(self.verdict)
        self.measure.setEnabled(verdict is not None and verdict.proposal is not None)
        self.delete.setEnabled(entry is not None and self.typed.isEnabled())

    # -- adding ------------------------------------------------------------------------------------

    def _understood(self, text: str) -> ParsedClaim | None:
        from epidote.core.comparison.claims.parser import parse_claim

        if text.strip():
            return parse_claim(text, self.source.text().strip())
        return None

    def _understand(self, text: str) -> None:
        """Show what was understood under the line while it is typed."""
        parsed = self._understood(text)
        self._offer_adding(parsed)
        words = parsed.words if parsed is not None else ""
        self.understood.setText(f"Read as: {words}" if parsed is not None and parsed.claim is not None else words)
        self.understood.setVisible(parsed is not None)

    def _offer_adding(self, parsed: ParsedClaim | None) -> None:
        self.add.setEnabled(
            parsed is not None and parsed.claim is not None and self.unit is not None and self.typed.isEnabled()
        )

    def add_typed(self) -> None:
        parsed = self._understood(self.typed.text())
        if parsed is not None and parsed.claim is not None and self.unit is not None:
            self.added.emit([parsed.claim.model_dump(mode="json", exclude_none=True)])
            self.typed.clear()

    def import_csv(self, path: Path | None = None) -> None:
        """Figures from a CSV file.

        Those that are not clear are put into the line, one after the other, with the question.
        """
        from epidote.core.comparison.claims.parser import parse_claim
        from epidote.core.errors import EpidoteError, in_window
        from epidote.study.interchange.claims_csv import read_claims

        if path is None:
            from PySide6.QtWidgets import QFileDialog

            name, _ = QFileDialog.getOpenFileName(
                self, "Import claims", str(Path.home()), "Text files (*.csv *.txt *.tsv);;All files (*)"
            )
            if not name:
                return
            path = Path(name)
        try:
            parsed_claims = [(text, parse_claim(text, source or path.name)) for text, source in read_claims(path)]
        except EpidoteError as error:
            self.understood.setText(in_window(error))
            self.understood.show()
            return
        clear = [u.claim.model_dump(mode="json", exclude_none=True) for _, u in parsed_claims if u.claim is not None]
        if clear:
            self.added.emit(clear)
        unclear = [text for text, u in parsed_claims if u.claim is None]
        if unclear:
            self.typed.setText(unclear[0])
            self.understood.setText(
                f"{len(clear)} of {len(parsed_claims)} claims added; {len(unclear)} need editing."
                f" {self.understood.text()}"
            )


def _measured(verdict: Verdict | None) -> str:
    from epidote.core.quantities.formatting import format_quantity

    if verdict is None or verdict.value is None:
        return ""
    return format_quantity(verdict.value, verdict.claim.unit, digits=3, uncertainty=verdict.uncertainty or None)
