"""The Matrix page: the matrix above, the graph of what is chosen below, its readings (or a run to make) beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from importlib import import_module
from typing import Any

from PySide6.QtCore import QItemSelection, QPoint, Qt, QTimer, Signal
from PySide6.QtWidgets import QMenu, QSplitter, QVBoxLayout

from epidote.core.results.caution import Remedy
from epidote.desktop.pages.matrix.arrangement import Arrangement
from epidote.desktop.pages.matrix.graph.overlay_editor import OverlayEditor
from epidote.desktop.pages.matrix.graph.overlays import GraphOverlays
from epidote.desktop.pages.matrix.graph.pins import Pins
from epidote.desktop.pages.matrix.graph.view_state import (
    NOTHING_SELECTED,
    DrawnRuns,
    GraphViewState,
    procedure_named,
)
from epidote.desktop.pages.matrix.import_export import ImportExport
from epidote.desktop.pages.matrix.matrix_table.model import MatrixModel
from epidote.desktop.pages.matrix.matrix_table.pane import MatrixPane
from epidote.desktop.pages.matrix.panels.side_panel import TABS, SidePanel
from epidote.desktop.pages.matrix.selection import MatrixSelection
from epidote.desktop.pages.page import Page
from epidote.desktop.state import edits
from epidote.desktop.state.run_queue import RunRequest
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.scrolled import CurrentStack, scrolled
from epidote.desktop.widgets.wording import LOADING
from epidote.study.models import Column, RunSummary, Subject

_HANDLE = 4
_FIRST_ROWS, _JUDGE_AFTER_MS = 4, 300
_GLANCE_MS = 150  # what is loaded within it needs no word
_MATRIX_SHARE = 0.36  # of the page that the matrix takes at most, until it is dragged


# loaded in the background once the matrix is painted, so that the first graph need not wait for them
_SHOWS_CURVES = (
    "epidote.core.analysis.spectral.hearing_threshold",
    "epidote.core.comparison.claims.graph_lines",
    "epidote.core.comparison.graph_guides",
    "epidote.core.comparison.limits",
    "epidote.desktop.pages.matrix.graph.figure_builder",
    "epidote.desktop.plotting.figure_painter",
)


def _load_what_shows_curves() -> None:
    from epidote.core.procedures.registry import procedures

    for module in _SHOWS_CURVES:
        import_module(module)
    procedures()


class MatrixPage(Page):
    """Everything it shows follows from the selection and the session."""

    settled = Signal()  # the first graph of a study is painted, and there is time for other things
    lower_built = Signal()
    menu_wanted = Signal(str, QPoint)  # the context menu of a place of the page, and where on the screen

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.setProperty("help", "matrix")
        self.session, self.theme = session, theme
        self._recomputing: RunSummary | None = None
        self._remeasuring: RunSummary | None = None  # a measured cell whose settings are offered to be changed
        self._opened: object = (
            None  # the study whose first choice was made; the focus alone may have set a current cell before
        )
        self._panel_cell: tuple[int, int] | None = None
        self._offered: tuple[int, ...] = ()  # the cell and how many empty ones the run form was made for
        session.opened.connect(self._forget)
        self.built = self._shown_once = self._judge_due = False
        self.model = MatrixModel(session)
        self.selection = selection = MatrixSelection(session, self.model, _load_what_shows_curves)
        self.look = GraphViewState(selection)
        self.pins, self.lines = Pins(selection, self.look), GraphOverlays(selection, self.look)
        self.line_editor = OverlayEditor(selection, self.look, self.lines)
        self.exchange = ImportExport(selection, self.look, self, lambda: self.theme)
        self.beside = SidePanel(selection, self.look, theme)
        self.arrangement = Arrangement()
        self._build()
        session.overview_changed.connect(self._overview_changed)
        session.runs.run_finished.connect(self._run_finished)
        session.runs.progress_changed.connect(lambda _: self._enable())

    def _build(self) -> None:
        layout = self._outer = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.setHandleWidth(_HANDLE)
        self.pane = MatrixPane(self.session, self.model, self.selection.cells, self.theme)
        self.table = self.pane.table
        self.table.menu_wanted.connect(self.menu_wanted)
        self.pane.command_wanted.connect(self.action_wanted)
        self.pane.failed.connect(self.failed)
        self.splitter.addWidget(self.pane)
        layout.addWidget(scrolled(self.splitter))
        self.splitter.hide()
        # after the table's own connections: a view that is reset clears its selection
        self.model.modelAboutToBeReset.connect(self.selection.remember)
        self.model.modelReset.connect(self.selection.restore)
        self.selection.cells.selectionChanged.connect(self._selection_changed)
        self.selection.cells.currentChanged.connect(lambda *_: self._enable())
        self.selection.changed.connect(self.show_selected)
        self.selection.failed.connect(self.failed)

    def build_lower(self) -> None:
        """Build the graph, the readings and the run form: after the matrix shows, since they take as long again."""
        if self.built:
            return
        from epidote.desktop.pages.matrix.graph.panel import GraphPanel
        from epidote.desktop.pages.matrix.panels.readings.panel import ReadingsPanel
        from epidote.desktop.pages.matrix.panels.readings.presenter import ReadingsPresenter
        from epidote.desktop.pages.matrix.panels.run.panel import RunPanel

        self.built = True
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.setHandleWidth(_HANDLE)
        self.graph_panel = GraphPanel(self.theme)
        self.side = CurrentStack()
        self.readings, self.run_panel = ReadingsPanel(self.theme), RunPanel()
        self.side.addWidget(self.readings)
        self.side.addWidget(self.run_panel)
        self.side_whole = self.beside.wrap(self.side, self.readings)
        self._readings_presenter = ReadingsPresenter(self.selection, self.look, self.readings)
        self.look.attach(self.graph_panel, self.lines.of, self._show_readings, self._wait_for_curves)
        lower.addWidget(self.graph_panel)
        lower.addWidget(self.side_whole)
        lower.setStretchFactor(0, 63)
        lower.setStretchFactor(1, 37)
        self.arrangement.attach(self.splitter, lower, self.pane, self.side_whole, self.graph_panel)
        self.graph_panel.choice_changed.connect(self.look.choice_changed)
        self.graph_panel.view_wanted.connect(self.look.show_view)
        self.graph_panel.action_wanted.connect(self.action_wanted)
        self.graph_panel.graph.menu_wanted.connect(lambda where: self.menu_wanted.emit("graph", where))
        self.graph_panel.step_wanted.connect(self.look.next_step)
        self.readings.units.chosen.connect(lambda on: self.look.set_percent("%" in on))
        self.readings.channel.chosen.connect(lambda _: self.show_selected())
        self.graph_panel.graph.pin_wanted.connect(self.pins.add)
        self.graph_panel.graph.pin_unwanted.connect(lambda key: edits.remove_pins(self.session, [key]))
        self.graph_panel.graph.band_wanted.connect(self.look.set_band)
        self.graph_panel.graph.line_drawn.connect(self.line_editor.drawn)
        lines = QMenu(self)
        lines.aboutToShow.connect(lambda: self.line_editor.fill_menu(lines))
        self.graph_panel.lines.setMenu(lines)
        self.readings.point_wanted.connect(self.look.keep_point)
        self.readings.point_unwanted.connect(lambda key, name: edits.delete_entry(self.session, key, f"point {name}"))
        self.readings.limit_wanted.connect(self.line_editor.limit_reading)
        self.readings.remedy_wanted.connect(self._remedy)
        self.readings.again.clicked.connect(lambda _: self.action_wanted.emit("again"))
        self.readings.recompute.clicked.connect(lambda _: self.action_wanted.emit("recompute"))
        self._connect_run_panel()
        self.lower_built.emit()

    def _connect_run_panel(self) -> None:
        self.run_panel.presets.failed.connect(self.failed)
        self.run_panel.measure_wanted.connect(self._measure)
        self.run_panel.command_wanted.connect(self.measure_after_command)
        self.run_panel.recompute_wanted.connect(self._recompute)
        self.run_panel.stop_wanted.connect(self.session.runs.cancel)
        self.run_panel.file_wanted.connect(self.exchange.write_file)
        self.run_panel.recording_wanted.connect(self.exchange.take_recording)
        self.run_panel.later_wanted.connect(self.exchange.write_and_wait)

    def _forget(self) -> None:
        """Another study is open, whose cells and runs have the same numbers."""
        self._recomputing = self._remeasuring = self._panel_cell = None
        self._offered = ()

    def _overview_changed(self) -> None:
        overview = self.session.overview
        self.splitter.setVisible(overview is not None)
        if overview is None:
            return
        self.pane.refresh()
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
            measured = [
                s.id for s in overview.subjects if not s.is_baseline and (s.id, overview.columns[0].id) in overview.runs
            ]
            units = [s.id for s in overview.subjects if not s.is_baseline] or [overview.subjects[0].id]
            self.selection.select(measured[:_FIRST_ROWS] or units[:1], overview.columns[0].id)
            self.table.scrollToTop()
        self._judge_due = True  # once the graph shows, which is waited for
        self.show_selected()

    def _fit_columns(self) -> None:
        self.pane.fit_columns()
        height = self.pane.wanted_height(round(_MATRIX_SHARE * self.height()))
        sizes = self.splitter.sizes()
        if sum(sizes) and abs(sizes[0] - height) > 4 and not self.arrangement.set_by_hand:
            self.splitter.setSizes([height, max(200, sum(sizes) - height)])

    @property
    def graph_is_large(self) -> bool:
        """Whether the graph has the whole page."""
        return self.arrangement.large

    def toggle_large_graph(self) -> None:
        """Give the graph the whole page, or put the matrix and the panel back."""
        if self.built:
            self.arrangement.show_large(not self.arrangement.large)
            if self.arrangement.large:
                self.graph_panel.graph.setFocus()
            else:
                self.table.setFocus()
                self.show_selected()

    @property
    def four_graphs(self) -> bool:
        """Whether four graphs are shown at once."""
        return self.built and self.graph_panel.four_shown

    def toggle_four_graphs(self) -> None:
        """Show level, phase, distortion and the like at once, or one of them."""
        if self.built:
            self.look.show_four(not self.graph_panel.four_shown)

    @property
    def panel_is_below(self) -> bool:
        """Whether the side panel is below the graph, not beside it."""
        return self.arrangement.below

    def toggle_panel_below(self) -> None:
        if self.built:
            self.arrangement.put_below(not self.arrangement.below)

    def resizeEvent(self, event: object) -> None:
        self._fit_columns()

    def _selection_changed(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        self.table.viewport().update()
        self._recomputing = self._remeasuring = None
        self.show_selected()

    # -- showing it --------------------------------------------------------------------------------

    def show_selected(self) -> None:
        """Show the graph and the readings of the chosen runs, or the run form when none is measured."""
        if not self.built:
            return
        column, overview = self.selection.current_column(), self.session.overview
        self.pane.header.current = self.table.currentIndex().column()
        self.pane.header.viewport().update()
        if overview is None or column is None:
            self.look.outdated = False  # nothing is waited for any more
            self.graph_panel.graph.set_figure(None, keep_zoom=False, instead=NOTHING_SELECTED)
            self.side_whole.hide()
            self._enable()
            return
        self.side_whole.setVisible(not self.arrangement.large)
        runs = self.selection.selected_runs()
        ready = self.selection.curves_ready()
        self._show_side(column, bool(runs))
        measured = {row for row, of in overview.runs if of == column.id}
        self.graph_panel.offer_cells(not runs and bool(measured))
        if ready:
            self.look.show(column)
        else:
            self._wait_for_curves()
        if not runs:
            self.beside.refresh()
        if self._judge_due and (not runs or self.graph_panel.graph.figure() is not None):
            self._judge_due = False
            QTimer.singleShot(_JUDGE_AFTER_MS, self, self._after_first_graph)
        self._enable()

    def _wait_for_curves(self) -> None:
        """Say that curves are being loaded: at once over an empty graph, else where it takes longer than a glance."""
        self.look.outdated = True
        if self.graph_panel.graph.figure() is None:
            self._say_loading()
        else:
            QTimer.singleShot(_GLANCE_MS, self, self._say_loading)

    def _say_loading(self) -> None:
        if self.look.outdated:
            self.graph_panel.graph.set_figure(None, keep_zoom=False, instead=LOADING)
            self.readings.show_loading()

    def _after_first_graph(self) -> None:
        """Do what can wait until the graph is painted."""
        self.beside.claiming.judge()
        self.settled.emit()

    def _show_readings(self, drawn: DrawnRuns) -> None:
        self._readings_presenter.show(drawn)
        self.beside.refresh()

    def _show_side(self, column: Column, measured: bool) -> None:
        subject, row = self.selection.current_subject(), self.selection.current_row()
        if self._recomputing is None and self._remeasuring is None:
            panel = self.beside.panel(measured=measured or subject is None)
        else:
            panel = self.run_panel
        if row is not None and row.is_claims and self.beside.tab not in ("claims", "notes"):
            self.beside.tab = "claims"
            self.beside.tabs.set_options(TABS, ["claims"])
            panel = self.beside.panel(measured=False)
        if panel is not None or subject is None:
            self.side.setCurrentWidget(panel or self.readings)
            if self._remeasuring is None:  # else the form for it is on its way
                self._panel_cell = None
            return
        cell = (subject.id, column.id)
        offered = (*cell, len(self._empty_cells()))
        if self._offered != offered or self._panel_cell != cell:
            if self._panel_cell != cell:
                self.run_panel.show_loading(subject, column)
            self._panel_cell, self._offered = cell, offered
            self._offer_run(subject, column, column.settings)
        self.side.setCurrentWidget(self.run_panel)

    def _offer_run(self, subject: Subject, column: Column, settings: Mapping[str, Any]) -> None:
        def ask(study: Any) -> tuple[Any, Any]:
            from epidote.core.procedures.registry import procedure
            from epidote.measurement.chain_for_row import chain_for_subject

            return chain_for_subject(study, subject), procedure(column.procedure)

        def done(prepared: tuple[Any, Any]) -> None:
            def with_devices(devices: list[tuple[str, str]]) -> None:
                if self._panel_cell == (subject.id, column.id):
                    self.run_panel.show_cell(
                        subject,
                        column,
                        prepared[0],
                        prepared[1],
                        dict(settings),
                        devices=devices,
                        reference=self.selection.reference_settings(column),
                        cells=len(self._empty_cells()),
                    )

            self.session.find_devices(with_devices)

        self.session.ask(ask, done)

    def _enable(self) -> None:
        if not self.built:
            return
        runs = self.selection.selected_runs()
        writable = self.session.writable
        one_run = len(runs) == 1 or self.selection.current_run() is not None
        self.readings.again.setEnabled(writable and bool(runs))
        self.readings.recompute.setEnabled(writable and one_run)
        self.run_panel.stop.setEnabled(bool(self.session.runs.under_way))

    def _empty_cells(self) -> list[Subject]:
        """Return the rows of the selected cells that are not measured."""
        return [subject for subject, run in self.selection.selected_cells() if run is None]

    # -- runs --------------------------------------------------------------------------------------

    def _measure(self, settings: dict[str, Any], device: str, sound_level: str) -> None:
        subject, column = self.selection.current_subject(), self.selection.current_column()
        if subject is None or column is None:
            return
        if device and device != subject.device:
            edits.change_row(self.session, subject, f"Set device of {subject.full_name}", device=device)
        others = [s for s in self._empty_cells() if s.id != subject.id and self._remeasuring is None]
        request = RunRequest((subject.id, column.id), settings, device, sound_level=sound_level)
        also = [replace(request, cell=(s.id, column.id), device="") for s in others]
        self.session.runs.measure([request, *also])
        self._remeasuring = None
        self.show_selected()

    def measure_after_command(self, settings: dict[str, Any], device: str) -> None:
        """Ask for the command that makes the current cell's unit play its stimulus file, and measure with it."""
        subject, column = self.selection.current_subject(), self.selection.current_column()
        if subject is None or column is None:
            return
        from epidote.desktop.windows.command_dialog import CommandDialog

        dialog = CommandDialog(self)

        def go() -> None:
            request = RunRequest((subject.id, column.id), settings, device, command=dialog.command())
            self.session.runs.measure([request])
            self._remeasuring = None
            self.show_selected()

        dialog.accepted.connect(go)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def run_again(self) -> None:
        """Measure the chosen cells once more, each with the settings of its latest run."""
        column = self.selection.current_column()
        if column is not None:
            self.session.runs.measure(
                [RunRequest((s.id, column.id), r.settings) for s, r in self.selection.selected_runs()]
            )

    def select_first_rows(self) -> None:
        """Select the first rows in the first column, measured or not, to watch them come."""
        overview = self.session.overview
        if overview is not None and overview.columns:
            units = [s.id for s in overview.subjects if not s.is_baseline]
            self.selection.select(units[:_FIRST_ROWS], overview.columns[0].id)
            self.table.scrollToTop()

    def measure_first_row(self) -> None:
        """Measure every empty cell of the first unit's row, and select its first cell."""
        overview = self.session.overview
        subject = next((s for s in overview.subjects if not s.is_baseline), None) if overview is not None else None
        if overview is None or subject is None or not overview.columns:
            self.failed.emit("No row to measure. Add a row first.")
            return
        self.selection.select([subject.id], overview.columns[0].id)
        empty = [c for c in overview.columns if (subject.id, c.id) not in overview.runs]
        self.session.runs.measure([RunRequest((subject.id, column.id), column.settings) for column in empty])

    def measure_empty(self) -> None:
        """Measure every chosen cell that is empty, with the column's settings."""
        column = self.selection.current_column()
        if column is not None:
            self.session.runs.measure(
                [
                    RunRequest((s.id, column.id), column.settings)
                    for s, r in self.selection.selected_cells()
                    if r is None
                ]
            )

    def _remedy(self, remedy: Remedy) -> None:
        """Go to where the matter that a caution names is put right."""
        commands = {
            Remedy.MEASURE_AGAIN: "again",
            Remedy.SETTINGS: "other settings",
            Remedy.BASELINE: "baseline",
            Remedy.CALIBRATION: "chain input",
            Remedy.LOAD: "chain load",
            Remedy.CONNECTIONS: "chain source",
            Remedy.ATTACH: "recording in",
        }
        self.action_wanted.emit(commands[remedy])

    def offer_measure(self) -> None:
        """Offer to measure the current cell again with other settings."""
        cell = self.selection.current_cell()
        if cell is None:
            return
        subject, column, run = cell
        self._remeasuring = run
        self._panel_cell = (subject.id, column.id)
        self._offer_run(subject, column, run.settings)
        self.side.setCurrentWidget(self.run_panel)

    def offer_recompute(self) -> None:
        cell = self.selection.current_cell()
        if cell is None:
            return
        subject, column, run = cell
        self._recomputing = run
        self.run_panel.show_recompute(subject, column, run.chain, procedure_named(run.procedure), run)
        self.side.setCurrentWidget(self.run_panel)

    def _recompute(self, settings: dict[str, Any]) -> None:
        run = self._recomputing
        if run is not None:
            self._recomputing = None
            self.session.runs.recompute(run, settings)
            self.show_selected()

    def _run_finished(self, cell: tuple[int, int]) -> None:
        self._panel_cell = self._remeasuring = None

    def repeat_reference_on(self, subject: Subject) -> None:
        """Queue the reference row's procedures, with their settings, for another row."""
        overview = self.session.overview
        if overview is None or overview.reference is None or subject.id == overview.reference:
            return
        runs = [
            (c, overview.runs[overview.reference, c.id])
            for c in overview.columns
            if (overview.reference, c.id) in overview.runs
        ]
        self.session.runs.measure([RunRequest((subject.id, column.id), run.settings) for column, run in runs])

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.pane.set_theme(theme)
        if self.built:
            self.readings.theme = theme
            self.beside.set_theme(theme)
            self.graph_panel.set_theme(theme)
        self.show_selected()
