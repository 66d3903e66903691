"""Why a command cannot be carried out now: "" where it can, else a sentence for the status line."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.desktop.state.session import Session
    from epidote.study.models import Overview


class Availability:
    """Asks the session and the selection; each method is a requirement that commands name in their ``needs``."""

    def __init__(self, session: Session, matrix: MatrixPage) -> None:
        self._session, self._matrix = session, matrix

    @property
    def _overview(self) -> Overview | None:
        return self._session.overview

    def study(self) -> str:
        if self._session.study is None:
            return "No study is open. Create or open one first."
        return ""

    def writable(self) -> str:
        """Ask for an open study that may be changed."""
        missing = self.study()
        if missing or self._session.writable:
            return missing
        return f"The study is read-only ({self._session.study.why_read_only if self._session.study else ''})."

    def row(self) -> str:
        if self._matrix.selection.current_subject() is None:
            return "Select a row first."
        return ""

    def unit_row(self) -> str:
        """Ask for a row of a unit, not the baseline."""
        subject = self._matrix.selection.current_subject()
        if subject is None or subject.unit is None:
            return "Select a unit's row first. The baseline row cannot be edited, duplicated or deleted."
        return ""

    def column(self) -> str:
        if self._matrix.selection.current_column() is None:
            return "Select a cell of a column first."
        return ""

    def run(self) -> str:
        if self._matrix.selection.current_run() is None:
            return "Select a measured cell first."
        return ""

    def runs(self) -> str:
        if not self._matrix.selection.selected_runs():
            return "Select one or more measured cells first."
        return ""

    def empty_cells(self) -> str:
        if all(run is not None for _, run in self._matrix.selection.selected_cells()):
            return "Select one or more cells that are not measured yet."
        return ""

    def like_reference(self) -> str:
        """Ask for a reference row, and another one that is selected."""
        overview, subject = self._overview, self._matrix.selection.current_subject()
        if overview is None or overview.reference is None:
            return "No reference row. Set one first, then select the row to measure like it."
        if subject is None or subject.id == overview.reference:
            return "This row is the reference. Select the row to measure like it."
        return ""

    def graph(self) -> str:
        """Ask for a graph with curves, or with some that are being loaded."""
        matrix = self._matrix
        if not matrix.built or (matrix.graph_panel.graph.figure() is None and not matrix.look.outdated):
            return "No curve in view. Select one or more measured cells first."
        return ""

    def pins(self) -> str:
        overview, column = self._overview, self._matrix.selection.current_column()
        if overview is None or column is None or not any(pin.column_id == column.id for pin in overview.pins):
            return "There are no pins in this column."
        return ""

    def undo(self) -> str:
        if not self._session.undo.canUndo():
            return "Nothing to undo."
        return ""

    def redo(self) -> str:
        if not self._session.undo.canRedo():
            return "Nothing to redo."
        return ""
