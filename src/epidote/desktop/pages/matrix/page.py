"""The Matrix page: the matrix above, the graph of what is chosen below, its readings (or a run to make) beside it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex, Qt, QTimer, Signal
from PySide6.QtWidgets import QHeaderView, QMenu, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from epidote.desktop.pages.matrix.graph.overlays import GraphOverlays
from epidote.desktop.pages.matrix.graph.pins import Pins
from epidote.desktop.pages.matrix.graph.view_state import GraphViewState, carried_of
from epidote.desktop.pages.matrix.import_export import Exchange
from epidote.desktop.pages.matrix.matrix_table.delegate import HEAD_WIDTH, ROW_HEIGHT, MatrixDelegate, MatrixHeader
from epidote.desktop.pages.matrix.matrix_table.frozen_columns import MatrixTable
from epidote.desktop.pages.matrix.matrix_table.model import MatrixModel
from epidote.desktop.pages.matrix.panels.side_panel import TABS, SidePanel
from epidote.desktop.state import edits
from epidote.desktop.state.run_queue import RunRequest
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.plain import Label
from epidote.study.models import Column, RunSummary, Subject

_COLUMN, _KEPT_RUNS, _FIRST_ROWS, _JUDGE_AFTER_MS = 112, 48, 12, 300
_WELCOME = "No study open. Create a study, open one, or explore the demo study."


class MatrixPage(QWidget):
    """Owns what is chosen; everything it shows follows from that and the session."""

    failed = Signal(str)
    settled = Signal()  # the first graph of a study is painted, and there is time for other things
    lower_built = Signal()

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.session, self.theme = session, theme
        self._curves: dict[int, tuple[Any, ...]] = {}
        self._asked: set[int] = set()
        self._recomputing: RunSummary | None = None
        self._opened: object = None  # the study whose first choice was made; the focus alone may have set a current cell before
        self._panel_cell: tuple[int, int] | None = None
        self.built = self._shown_once = self._judge_due = False
        self.look, self.pins, self.exchange = GraphViewState(self), Pins(self), Exchange(self)
        self.lines, self.beside = GraphOverlays(self), SidePanel(self)
        self._build()
        session.overview_changed.connect(self._overview_changed)
        session.runs.run_finished.connect(self._run_finished)
        session.runs.progress_changed.connect(lambda _: self._enable())

    def _build(self) -> None:
        layout = self._outer = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.welcome = Label(_WELCOME)
        self.welcome.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.welcome.setProperty("quiet", True)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.setHandleWidth(1)
        self.model = MatrixModel(self.session)
        self.delegate = MatrixDelegate(self.model, self.theme)
        self.header, self.own_header = MatrixHeader(self.theme), MatrixHeader(self.theme)
        self.table = MatrixTable(self.model, self.delegate, self.header, self.own_header, ROW_HEIGHT)
        self.table.setAccessibleName("Matrix")
        self.delegate.covered = self.table  # its second view of the heads lies over them
        self.splitter.addWidget(self.table)
        layout.addWidget(self.welcome)
        layout.addWidget(self.splitter)
        self.splitter.hide()
        self._kept: tuple[list[int], int] | None = None  # what was chosen, while rows or columns come and go
        self.model.modelAboutToBeReset.connect(self._keep_choice)
        self.model.modelReset.connect(self._choose_again)
        self.table.selectionModel().selectionChanged.connect(self._selection_changed)
        self.table.selectionModel().currentChanged.connect(lambda *_: self._enable())

    def build_lower(self) -> None:
        """The graph, the readings and the run to make: after the matrix shows, since they take as long again."""
        if self.built:
            return
        from epidote.desktop.pages.matrix.graph.panel import GraphPanel
        from epidote.desktop.pages.matrix.panels.readings.panel import ReadingsPanel
        from epidote.desktop.pages.matrix.panels.run.panel import RunPanel

        self.built = True
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.setHandleWidth(1)
        self.graph_panel = GraphPanel(self.theme)
        self.side = QStackedWidget()
        self.readings, self.run_panel = ReadingsPanel(self.theme), RunPanel()
        self.side.addWidget(self.readings)
        self.side.addWidget(self.run_panel)
        self.side_whole = self.beside.wrap(self.side)
        self.side_whole.setMinimumWidth(412)
        lower.addWidget(self.graph_panel)
        lower.addWidget(self.side_whole)
        lower.setStretchFactor(0, 63)
        lower.setStretchFactor(1, 37)
        lower.setSizes([800, 480])
        self.splitter.addWidget(lower)
        self.splitter.setStretchFactor(0, 0)
        self.splitter.setStretchFactor(1, 1)
        self.graph_panel.choice_changed.connect(self.look.choice_changed)
        self.graph_panel.step_wanted.connect(self.look.next_step)
        self.readings.units.chosen.connect(lambda on: self.look.set_percent("%" in on))
        self.readings.channel.chosen.connect(lambda _: self.show_chosen())
        self.graph_panel.graph.pin_wanted.connect(self.pins.add)
        self.graph_panel.graph.pin_unwanted.connect(lambda key: edits.remove_pins(self.session, [key]))
        self.graph_panel.graph.band_wanted.connect(self.look.set_band)
        self.graph_panel.graph.line_drawn.connect(self.lines.drawn)
        lines = QMenu(self)
        lines.aboutToShow.connect(lambda: self.lines.fill_menu(lines))
        self.graph_panel.lines.setMenu(lines)
        self.readings.point_wanted.connect(self.look.keep_point)
        self.readings.point_unwanted.connect(lambda key, name: edits.delete_entry(self.session, key, f"point {name}"))
        self.readings.limit_wanted.connect(self.lines.limit_reading)
        self.readings.again.clicked.connect(self.run_again)
        self.readings.recompute.clicked.connect(self.offer_recompute)
        self.run_panel.measure_wanted.connect(self._measure)
        self.run_panel.recompute_wanted.connect(self._recompute)
        self.run_panel.stop_wanted.connect(self.session.runs.cancel)
        self.run_panel.file_wanted.connect(self.exchange.write_file)
        self.run_panel.recording_wanted.connect(self.exchange.take_recording)
        self.lower_built.emit()

    # -- what is chosen -----------------------------------------------------------------------------------------------------

    def current_row(self) -> Subject | None:
        """The current row, one of published figures too."""
        return self.model.subject(self.table.currentIndex().row())

    def current_subject(self) -> Subject | None:
        row = self.current_row()
        return None if row is None or row.is_claims else row

    def current_column(self) -> Column | None:
        return self.model.column(self.table.currentIndex().column())

    def chosen_cells(self) -> list[tuple[Subject, RunSummary | None]]:
        """The chosen cells of the column in view, in the order of rows."""
        column = self.current_column()
        rows = sorted({i.row() for i in self.table.selectionModel().selectedIndexes() if i.column() == self.table.currentIndex().column()})
        if column is None:
            return []
        found = [(self.model.subject(row), self.model.run(self.model.index(row, self.table.currentIndex().column()))) for row in rows]
        return [(s, r) for s, r in found if s is not None and not s.is_claims]

    def _keep_choice(self) -> None:
        row, column = self.current_row(), self.current_column()
        rows = {i.row() for i in self.table.selectionModel().selectedIndexes()}
        chosen = [s.id for r in sorted(rows) if (s := self.model.subject(r)) is not None and (row is None or s.id != row.id)]
        self._kept = ([*chosen, row.id], column.id) if row is not None and column is not None else None

    def _choose_again(self) -> None:
        kept, self._kept = self._kept, None
        if kept is not None:
            self.choose(*kept)

    def choose(self, subject_ids: list[int], column_id: int) -> None:
        """Choose cells of a column, the last one becoming the current."""
        chosen = QItemSelection()
        last = QModelIndex()
        for subject_id in subject_ids:
            last = self.model.index_of(subject_id, column_id)
            if last.isValid():
                chosen.select(last, last)
        if last.isValid():
            model = self.table.selectionModel()
            model.setCurrentIndex(last, QItemSelectionModel.SelectionFlag.NoUpdate)
            model.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def choose_column(self) -> None:
        """Every measured cell of the column in view."""
        column, overview = self.current_column(), self.session.overview
        if overview and (column or overview.columns):
            column = column or overview.columns[0]
            self.choose([s.id for s in overview.subjects if (s.id, column.id) in overview.runs], column.id)

    def _overview_changed(self) -> None:
        overview = self.session.overview
        self.welcome.setVisible(overview is None)
        self.splitter.setVisible(overview is not None)
        if overview is None:
            return
        self._fit_columns()
        if not self.built and not self._shown_once:
            self._shown_once = True
            # the matrix is painted at once, before the workers load what computes and compete for the interpreter
            self.splitter.show()
            self._outer.activate()
            self.repaint()
            QTimer.singleShot(0, self._overview_changed)
            return
        self.build_lower()
        if self.session.study is not self._opened and overview.columns:
            self._opened = self.session.study
            # open on a comparison: every measured cell of the first column, or the first cell there is to measure
            measured = [s.id for s in overview.subjects if not s.is_baseline and (s.id, overview.columns[0].id) in overview.runs]
            self.choose(measured[:_FIRST_ROWS] or [overview.subjects[-1].id], overview.columns[0].id)
        self._judge_due = True  # once the graph shows, which is waited for
        self.show_chosen()

    def _fit_columns(self) -> None:
        self.header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.header.setMinimumSectionSize(max(_COLUMN, self.header.widest_title()))
        if self.model.columnCount():
            self.header.setSectionResizeMode(0, QHeaderView.ResizeMode.Fixed)
            self.header.resizeSection(0, HEAD_WIDTH)
        wanted = (
            self.header.sizeHint().height() + ROW_HEIGHT * min(self.model.rowCount(), max(4, int(0.34 * self.height() / ROW_HEIGHT))) + 2
        )
        sizes = self.splitter.sizes()
        if sum(sizes) and abs(sizes[0] - wanted) > 4 and not self.splitter.property("moved"):
            self.splitter.setSizes([wanted, max(200, sum(sizes) - wanted)])

    def resizeEvent(self, event: object) -> None:
        self._fit_columns()

    def _selection_changed(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        column = self.table.currentIndex().column()
        model = self.table.selectionModel()
        stray = [i for i in model.selectedIndexes() if i.column() != column]
        if stray and len(stray) < len(model.selectedIndexes()):
            model.blockSignals(True)  # curves of different columns cannot lie over each other
            for index in stray:
                model.select(index, QItemSelectionModel.SelectionFlag.Deselect)
            model.blockSignals(False)
            self.table.viewport().update()
        self._recomputing = None
        self.show_chosen()

    # -- showing it ---------------------------------------------------------------------------------------------------------

    def show_chosen(self) -> None:
        """The graph and the readings of the chosen runs, or the run to make when none is measured."""
        if not self.built:
            return
        column, overview = self.current_column(), self.session.overview
        self.header.current = self.table.currentIndex().column()
        self.header.viewport().update()
        if overview is None or column is None:
            self.graph_panel.graph.set_figure(None, keep_zoom=False)
            self.side_whole.hide()
            self._enable()
            return
        self.side_whole.show()
        runs = [r for _, r in self.chosen_cells() if r is not None]
        missing = [r.id for r in runs if r.id not in self._curves and r.id not in self._asked]
        if missing:
            self._ask_for_curves(missing)
        self._show_side(column, bool(runs))
        if all(r.id in self._curves for r in runs):
            self.look.show(column)
        if not runs:
            self.beside.refresh()
        if self._judge_due and (not runs or self.graph_panel.graph.figure() is not None):
            self._judge_due = False
            QTimer.singleShot(_JUDGE_AFTER_MS, self, self._after_first_graph)
        self._enable()

    def _after_first_graph(self) -> None:
        """What can wait until the graph is painted."""
        self.beside.claiming.judge()
        self.settled.emit()

    def _ask_for_curves(self, run_ids: list[int]) -> None:
        self._asked.update(run_ids)

        def done(found: dict[int, tuple[tuple[Any, ...], tuple[str, ...]]]) -> None:
            self._asked.difference_update(found)
            self._curves.update({i: curves for i, (curves, _) in found.items()})
            self.session.mark_damaged({i: damaged for i, (_, damaged) in found.items()})
            # older ones make room, but never those that are in view
            chosen = {r.id for _, r in self.chosen_cells() if r is not None}
            for old in [i for i in self._curves if i not in chosen][: max(0, len(self._curves) - _KEPT_RUNS)]:
                self._curves.pop(old)
            self.show_chosen()

        def ask(study: Any) -> dict[int, tuple[tuple[Any, ...], tuple[str, ...]]]:
            import epidote.core.analysis.spectral.hearing_threshold
            import epidote.core.comparison.claims.graph_lines
            import epidote.core.comparison.graph_guides
            import epidote.core.comparison.limits
            import epidote.core.procedures.protocol
            import epidote.desktop.pages.matrix.graph.figure_builder
            import epidote.desktop.plotting.figure_painter  # what the interface's thread draws with is not loaded on it

            epidote.core.procedures.protocol.procedures()
            return {i: study.checked_curves(i) for i in run_ids}

        self.session.ask(ask, done)

    def _show_side(self, column: Column, measured: bool) -> None:
        subject, row = self.current_subject(), self.current_row()
        panel = self.beside.panel(measured=measured or subject is None) if self._recomputing is None else self.run_panel
        if row is not None and row.is_claims and self.beside.tab not in ("claims", "notes"):
            self.beside.tab = "claims"
            self.beside.tabs.set_options(TABS, ["claims"])
            panel = self.beside.panel(measured=False)
        if panel is not None or subject is None:
            self.side.setCurrentWidget(panel or self.readings)
            self._panel_cell = None
            return
        cell = (subject.id, column.id)
        if self._panel_cell != cell or self.run_panel.form is None:
            self._panel_cell = cell
            self._offer_run(subject, column, column.settings)
        self.side.setCurrentWidget(self.run_panel)

    def _offer_run(self, subject: Subject, column: Column, settings: Mapping[str, Any]) -> None:
        def ask(study: Any) -> tuple[Any, Any]:
            from epidote.core.procedures.protocol import procedure
            from epidote.measurement.runner import chain_for_subject

            return chain_for_subject(study, subject), procedure(column.procedure)

        def done(found: tuple[Any, Any]) -> None:
            def with_devices(devices: list[tuple[str, str]]) -> None:
                if self._panel_cell == (subject.id, column.id):
                    self.run_panel.show_cell(subject, column, found[0], found[1], dict(settings), devices)

            self.session.find_devices(with_devices)

        self.session.ask(ask, done)

    def _enable(self) -> None:
        if not self.built:
            return
        runs = [r for _, r in self.chosen_cells() if r is not None]
        writable = self.session.writable
        self.readings.again.setEnabled(writable and bool(runs))
        self.readings.recompute.setEnabled(
            (writable and len(runs) == 1) or (writable and self.model.run(self.table.currentIndex()) is not None)
        )
        self.run_panel.stop.setEnabled(bool(self.session.runs.under_way))

    # -- runs ---------------------------------------------------------------------------------------------------------------

    def _measure(self, settings: dict[str, Any], device: str) -> None:
        subject, column = self.current_subject(), self.current_column()
        if subject is None or column is None:
            return
        if device and device != subject.device:
            edits.change_row(self.session, subject, f"Set device of {subject.full_name}", device=device)
        self.session.runs.measure([RunRequest((subject.id, column.id), settings, device)])

    def run_again(self) -> None:
        """Measure the chosen cells once more, each with the settings of its latest run."""
        column = self.current_column()
        if column is not None:
            self.session.runs.measure([RunRequest((s.id, column.id), r.settings) for s, r in self.chosen_cells() if r is not None])

    def measure_empty(self) -> None:
        """Measure every chosen cell that is empty, with the column's settings."""
        column = self.current_column()
        if column is not None:
            self.session.runs.measure([RunRequest((s.id, column.id), column.settings) for s, r in self.chosen_cells() if r is None])

    def offer_recompute(self) -> None:
        subject, column, run = self.current_subject(), self.current_column(), self.model.run(self.table.currentIndex())
        if subject is None or column is None or run is None:
            return
        self._recomputing = run
        from epidote.core.chain.chain import Chain

        self.run_panel.show_recompute(subject, column, Chain.model_validate(run.chain), carried_of(run.procedure), run)
        self.side.setCurrentWidget(self.run_panel)

    def _recompute(self, settings: dict[str, Any]) -> None:
        run = self._recomputing
        if run is not None:
            self._recomputing = None
            self.session.runs.recompute(run, settings)
            self.show_chosen()

    def _run_finished(self, cell: tuple[int, int]) -> None:
        self._panel_cell = None

    def repeat_reference_on(self, subject: Subject) -> None:
        """Queue the reference row's procedures, with their settings, for another row."""
        overview = self.session.overview
        if overview is None or overview.reference is None or subject.id == overview.reference:
            return
        runs = [(c, overview.runs[overview.reference, c.id]) for c in overview.columns if (overview.reference, c.id) in overview.runs]
        self.session.runs.measure([RunRequest((subject.id, column.id), run.settings) for column, run in runs])

    def curves_of(self, run_id: int) -> tuple[Any, ...]:
        """A run's curves as far as they are loaded."""
        return self._curves.get(run_id, ())

    def set_theme(self, theme: Theme) -> None:
        self.theme = self.delegate.theme = self.header.theme = self.own_header.theme = theme
        if self.built:
            self.readings.theme = theme
            self.beside.set_theme()
            self.graph_panel.set_theme(theme)
        for view in (self.table, self.table.heads):
            view.viewport().update()
            view.horizontalHeader().viewport().update()
        self.show_chosen()
