"""What is selected in the matrix, and the curves of the selected runs: a model without widgets."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex, QObject, Signal

from epidote.desktop.pages.matrix.matrix_table.model import MatrixModel
from epidote.desktop.state.session import Session
from epidote.study.models import Column, RunSummary, Subject

_MOST_RUNS = 48  # whose curves stay loaded
_EARLIER = -1_000_000  # numbers of rows that stand for earlier runs lie below it
_COLOURS = 8  # after which the hues come again, nearer to text or background


class MatrixSelection(QObject):
    """The selected cells of one column; ``cells`` is the selection model that the table shows.

    changed: cells were selected, or their curves were loaded, so that what depends on them is to be shown again.
    failed: a sentence for the user about a command that could not be carried out.
    """

    changed = Signal()
    failed = Signal(str)

    def __init__(self, session: Session, model: MatrixModel, preload: Callable[[], None]) -> None:
        """``preload`` loads the modules that show curves.

        It is called on the study's thread, not on the interface's.
        """
        super().__init__()
        self._preload = preload
        self.session, self.model = session, model
        self.cells = QItemSelectionModel(model)
        self._curves: dict[int, tuple[Any, ...]] = {}
        self._asked: set[int] = set()
        self._before_reset: tuple[list[int], int] | None = None
        self._earlier: list[RunSummary] = []  # of the current cell, shown beside its latest
        self.cells.selectionChanged.connect(self._keep_to_one_column)
        self.cells.currentChanged.connect(lambda *_: self._earlier.clear())
        session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another study is open, whose runs have the same numbers."""
        self._curves, self._asked = {}, set()
        self._before_reset, self._earlier = None, []

    # -- what is selected --------------------------------------------------------------------------

    def current_row(self) -> Subject | None:
        """Return the current row, one of published figures too."""
        return self.model.subject(self.cells.currentIndex().row())

    def current_subject(self) -> Subject | None:
        row = self.current_row()
        if row is None or row.is_claims:
            return None
        return row

    def current_column(self) -> Column | None:
        return self.model.column(self.cells.currentIndex().column())

    def current_run(self) -> RunSummary | None:
        """Return the latest run of the current cell."""
        return self.model.run(self.cells.currentIndex())

    def reference_settings(self, column: Column) -> dict[str, Any] | None:
        """Return the settings of the reference row's run in a column; None where it has none."""
        overview = self.session.overview
        if overview is None or overview.reference is None:
            return None
        run = overview.runs.get((overview.reference, column.id))
        if run is None:
            return None
        return dict(run.settings)

    def selected_cells(self) -> list[tuple[Subject, RunSummary | None]]:
        """Return the selected cells of the current column, in the order of rows."""
        if self.current_column() is None:
            return []
        column = self.cells.currentIndex().column()
        rows = sorted({i.row() for i in self.cells.selectedIndexes() if i.column() == column})
        cells = [(self.model.subject(row), self.model.run(self.model.index(row, column))) for row in rows]
        return [(subject, run) for subject, run in cells if subject is not None and not subject.is_claims]

    def current_cell(self) -> tuple[Subject, Column, RunSummary] | None:
        """Return row, column and latest run of the current cell; None where it is not measured."""
        subject, column, run = self.current_subject(), self.current_column(), self.current_run()
        if subject is None or column is None or run is None:
            return None
        return subject, column, run

    def selected_subjects(self) -> list[Subject]:
        """Return the rows of the selected cells, the current one among them."""
        subjects = [subject for subject, _ in self.selected_cells()]
        current = self.current_subject()
        if current is not None and all(s.id != current.id for s in subjects):
            subjects = [current]
        return subjects

    def selected_runs(self) -> list[tuple[Subject, RunSummary]]:
        """Those of the selected cells that are measured."""
        return [(subject, run) for subject, run in self.selected_cells() if run is not None]

    def shown_runs(self) -> list[tuple[Subject, RunSummary]]:
        """Return the selected runs and, of the current cell, the earlier ones that were asked for beside them."""
        latest, current = self.selected_runs(), self.current_run()
        here = next((s for s, r in latest if current is not None and r.id == current.id), None)
        if here is None:
            return latest
        return latest + [(_as_row_of_its_own(here, run), run) for run in self._earlier]

    def earlier_runs(self) -> tuple[int, ...]:
        """Return the numbers of the earlier runs that are shown."""
        return tuple(run.id for run in self._earlier)

    def toggle_earlier(self, run: RunSummary) -> None:
        """Show an earlier run of the current cell beside the latest one, or no longer."""
        others = [one for one in self._earlier if one.id != run.id]
        self._earlier = others if len(others) < len(self._earlier) else [*self._earlier, run]
        self.changed.emit()

    # -- selecting ---------------------------------------------------------------------------------

    def select(self, subject_ids: list[int], column_id: int) -> None:
        """Select cells of a column, the last one becoming the current."""
        selected = QItemSelection()
        last = QModelIndex()
        for subject_id in subject_ids:
            last = self.model.index_of(subject_id, column_id)
            if last.isValid():
                selected.select(last, last)
        if last.isValid():
            self.cells.setCurrentIndex(last, QItemSelectionModel.SelectionFlag.NoUpdate)
            self.cells.select(selected, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def select_column(self) -> None:
        """Select every measured cell of the current column."""
        column, overview = self.current_column(), self.session.overview
        if overview and (column or overview.columns):
            column = column or overview.columns[0]
            self.select([s.id for s in overview.subjects if (s.id, column.id) in overview.runs], column.id)

    def refresh(self) -> None:
        """Show again what depends on the selection."""
        self.changed.emit()

    def remember(self) -> None:
        """Keep the selection while rows or columns come and go."""
        row, column = self.current_row(), self.current_column()
        self._before_reset = None
        if row is None or column is None:
            return
        rows = sorted({i.row() for i in self.cells.selectedIndexes()})
        subjects = [subject for r in rows if (subject := self.model.subject(r)) is not None]
        self._before_reset = ([*(s.id for s in subjects if s.id != row.id), row.id], column.id)

    def restore(self) -> None:
        """Select again what ``remember`` found, as far as it is still there."""
        before, self._before_reset = self._before_reset, None
        if before is not None:
            self.select(*before)

    def _keep_to_one_column(self, *_: QItemSelection) -> None:
        """Curves of different columns cannot be drawn over each other."""
        column = self.cells.currentIndex().column()
        others = [i for i in self.cells.selectedIndexes() if i.column() != column]
        if others and len(others) < len(self.cells.selectedIndexes()):
            self.cells.blockSignals(True)
            for index in others:
                self.cells.select(index, QItemSelectionModel.SelectionFlag.Deselect)
            self.cells.blockSignals(False)

    # -- their curves ------------------------------------------------------------------------------

    def curves_of(self, run_id: int) -> tuple[Any, ...]:
        """Return a run's curves as far as they are loaded."""
        return self._curves.get(run_id, ())

    def curves_ready(self) -> bool:
        """Whether the curves of every selected run are loaded; loads those that are not, and emits ``changed`` then."""
        runs = [run for _, run in self.shown_runs()]
        missing = [r.id for r in runs if r.id not in self._curves and r.id not in self._asked]
        if missing:
            self._load(missing)
        return all(r.id in self._curves for r in runs)

    def _load(self, run_ids: list[int]) -> None:
        self._asked.update(run_ids)

        def done(curves_by_run: dict[int, tuple[tuple[Any, ...], tuple[str, ...]]]) -> None:
            self._asked.difference_update(curves_by_run)
            self._curves.update({i: curves for i, (curves, _) in curves_by_run.items()})
            self.session.mark_damaged({i: damaged for i, (_, damaged) in curves_by_run.items()})
            # older ones make room, but never those that are in view
            in_view = {run.id for _, run in self.shown_runs()}
            for old in [i for i in self._curves if i not in in_view][: max(0, len(self._curves) - _MOST_RUNS)]:
                self._curves.pop(old)
            self.changed.emit()

        def ask(study: Any) -> dict[int, tuple[tuple[Any, ...], tuple[str, ...]]]:
            self._preload()
            return {i: study.checked_curves(i) for i in run_ids}

        self.session.ask(ask, done)


def _as_row_of_its_own(subject: Subject, run: RunSummary) -> Subject:
    """Return a row as which an earlier run is drawn: told apart by when it was made, in a related colour."""
    made = f"{run.made.astimezone():%d %b %H:%M:%S}"
    number = _EARLIER - run.id
    conditions = {**subject.conditions, "run": made}
    return replace(subject, id=number, conditions=conditions, colour=subject.colour + _COLOURS * (1 + run.id % 2))
