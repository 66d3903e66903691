"""The Matrix page: the matrix above, the graph of what is chosen below, its readings (or a run to make) beside it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex, Qt, QTimer, Signal
from PySide6.QtWidgets import QAbstractItemView, QFrame, QHeaderView, QLabel, QSplitter, QStackedWidget, QTableView, QVBoxLayout, QWidget

from epidote.desktop import edits
from epidote.desktop.matrix.cells import HEAD_WIDTH, ROW_HEIGHT, MatrixDelegate, MatrixHeader
from epidote.desktop.matrix.exchange import Exchange
from epidote.desktop.matrix.pins import Pins
from epidote.desktop.matrix.table import MatrixModel
from epidote.desktop.session import Session, Wanted
from epidote.desktop.theme import Theme
from epidote.study.models import Column, RunSummary, Subject

_WELCOME = "No study is open. Make a new one with Ctrl+N, open one with Ctrl+O, or look at the demo study from the menu."


class MatrixPage(QWidget):
    """Owns what is chosen; everything it shows follows from that and the session."""

    failed = Signal(str)
    lower_built = Signal()

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.session, self.theme = session, theme
        self._curves: dict[int, tuple[Any, ...]] = {}
        self._asked: set[int] = set()
        self._shown_view: tuple[int, str, str] | None = None
        self._view_of: dict[str, str] = {}
        self._views: tuple[Any, ...] = ()
        self._shown_key: str | None = None
        self._percent = False
        self._channels = {1}
        self._recomputing: RunSummary | None = None
        self._opened: object = None  # the study whose first choice was made; the focus alone may have set a current cell before
        self._panel_cell: tuple[int, int] | None = None
        self.built = self._shown_once = False
        self.pins, self.exchange = Pins(self), Exchange(self)
        self._build()
        session.overview_changed.connect(self._overview_changed)
        session.run_finished.connect(self._run_finished)
        session.progress_changed.connect(lambda _: self._enable())

    def _build(self) -> None:
        layout = self._outer = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.welcome = QLabel(_WELCOME)
        self.welcome.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.welcome.setProperty("quiet", True)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.setHandleWidth(1)
        self.model = MatrixModel(self.session)
        self.table = QTableView()
        self.table.setAccessibleName("matrix")
        self.table.setModel(self.model)
        self.delegate = MatrixDelegate(self.model, self.theme)
        self.table.setItemDelegate(self.delegate)
        self.header = MatrixHeader(self.theme, self.table)
        self.table.setHorizontalHeader(self.header)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(ROW_HEIGHT)
        self.table.setShowGrid(False)
        self.table.setFrameShape(QFrame.Shape.NoFrame)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.table.setTabKeyNavigation(False)
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        self.splitter.addWidget(self.table)
        layout.addWidget(self.welcome)
        layout.addWidget(self.splitter)
        self.splitter.hide()
        self.table.selectionModel().selectionChanged.connect(self._selection_changed)
        self.table.selectionModel().currentChanged.connect(lambda *_: self._enable())

    def build_lower(self) -> None:
        """The graph, the readings and the run to make: after the matrix shows, since they take as long again."""
        if self.built:
            return
        from epidote.desktop.matrix.graph_panel import GraphPanel
        from epidote.desktop.matrix.readings import ReadingsPanel
        from epidote.desktop.matrix.run_panel import RunPanel

        self.built = True
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.setHandleWidth(1)
        self.graph_panel = GraphPanel(self.theme)
        self.side = QStackedWidget()
        self.readings, self.run_panel = ReadingsPanel(self.theme), RunPanel()
        self.side.addWidget(self.readings)
        self.side.addWidget(self.run_panel)
        self.side.setMinimumWidth(400)
        lower.addWidget(self.graph_panel)
        lower.addWidget(self.side)
        lower.setStretchFactor(0, 63)
        lower.setStretchFactor(1, 37)
        lower.setSizes([800, 480])
        self.splitter.addWidget(lower)
        self.splitter.setStretchFactor(0, 0)
        self.splitter.setStretchFactor(1, 1)
        self.graph_panel.choice_changed.connect(self._choice_changed)
        self.readings.units.chosen.connect(lambda on: self.set_percent("%" in on))
        self.readings.channel.chosen.connect(lambda _: self.show_chosen())
        self.graph_panel.graph.pin_wanted.connect(self.pins.add)
        self.graph_panel.graph.pin_unwanted.connect(lambda key: edits.remove_pins(self.session, [key]))
        self.readings.again.clicked.connect(self.run_again)
        self.readings.recompute.clicked.connect(self.offer_recompute)
        self.run_panel.measure_wanted.connect(self._measure)
        self.run_panel.recompute_wanted.connect(self._recompute)
        self.run_panel.stop_wanted.connect(self.session.cancel)
        self.run_panel.file_wanted.connect(self.exchange.write_file)
        self.run_panel.recording_wanted.connect(self.exchange.take_recording)
        self.lower_built.emit()

    # -- what is chosen -----------------------------------------------------------------------------------------------------

    def current_subject(self) -> Subject | None:
        return self.model.subject(self.table.currentIndex().row())

    def current_column(self) -> Column | None:
        return self.model.column(self.table.currentIndex().column())

    def chosen_cells(self) -> list[tuple[Subject, RunSummary | None]]:
        """The chosen cells of the column in view, in the order of rows."""
        column = self.current_column()
        rows = sorted({i.row() for i in self.table.selectionModel().selectedIndexes() if i.column() == self.table.currentIndex().column()})
        if column is None:
            return []
        found = [(self.model.subject(row), self.model.run(self.model.index(row, self.table.currentIndex().column()))) for row in rows]
        return [(s, r) for s, r in found if s is not None]

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
            self.choose(measured or [overview.subjects[-1].id], overview.columns[0].id)
        self.show_chosen()

    def _fit_columns(self) -> None:
        self.header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.header.setMinimumSectionSize(118)
        if self.model.columnCount():
            self.header.setSectionResizeMode(0, QHeaderView.ResizeMode.Fixed)
            self.header.resizeSection(0, HEAD_WIDTH if self.width() > 1100 else HEAD_WIDTH - 32)
        wanted = self.header.sizeHint().height() + ROW_HEIGHT * min(self.model.rowCount(), 7) + 2
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
            self.side.hide()
            self._enable()
            return
        self.side.show()
        runs = [r for _, r in self.chosen_cells() if r is not None]
        missing = [r.id for r in runs if r.id not in self._curves and r.id not in self._asked]
        if missing:
            self._ask_for_curves(missing)
        self._show_side(column, bool(runs))
        if all(r.id in self._curves for r in runs):
            self._show_graph(column)
        self._enable()

    def _ask_for_curves(self, run_ids: list[int]) -> None:
        self._asked.update(run_ids)

        def done(found: dict[int, tuple[Any, ...]]) -> None:
            self._asked.difference_update(found)
            self._curves.update(found)
            while len(self._curves) > 48:
                self._curves.pop(next(iter(self._curves)))
            self.show_chosen()

        def ask(study: Any) -> dict[int, tuple[Any, ...]]:
            import epidote.core.procedures.base
            import epidote.desktop.matrix.compose

            epidote.core.procedures.base.procedures()
            return {i: study.curves(i) for i in run_ids}

        self.session.ask(ask, done)

    def _show_side(self, column: Column, measured: bool) -> None:
        subject = self.current_subject()
        if self._recomputing is not None or measured or subject is None:
            self.side.setCurrentWidget(self.run_panel if self._recomputing is not None else self.readings)
            self._panel_cell = None
            return
        cell = (subject.id, column.id)
        if self._panel_cell != cell or self.run_panel.form is None:
            self._panel_cell = cell
            self._offer_run(subject, column, column.settings)
        self.side.setCurrentWidget(self.run_panel)

    def _offer_run(self, subject: Subject, column: Column, settings: Mapping[str, Any]) -> None:
        def ask(study: Any) -> tuple[Any, Any]:
            from epidote.conductor import study_chain
            from epidote.core.procedures.base import procedure

            return study_chain(study, subject), procedure(column.procedure)

        def done(found: tuple[Any, Any]) -> None:
            def with_devices(devices: list[tuple[str, str]]) -> None:
                if self._panel_cell == (subject.id, column.id):
                    self.run_panel.show_cell(subject, column, found[0], found[1], dict(settings), devices)

            self.session.find_devices(with_devices)

        self.session.ask(ask, done)

    def _show_graph(self, column: Column) -> None:
        from epidote.core.procedures.base import titles_of
        from epidote.desktop.matrix.compose import RATIO_VIEWS, Chosen, make_figure, make_table

        carried = _procedure(column.procedure)
        overview = self.session.overview
        assert overview is not None
        cells = [(s, r) for s, r in self.chosen_cells() if r is not None]
        available = {c.key for _, r in cells for c in self._curves[r.id]}
        views = [v for v in carried.views if v.key in available]
        panel = self.graph_panel
        panel.heading.setText(column.title)
        if not views:
            self._views, self._shown_key = (), None
            panel.views.set_options([], [])
            panel.variants.set_options([], [])
            panel.channels.set_options([], [])
            panel.units.set_options([], [])
            panel.graph.set_figure(None, keep_zoom=False)
            if cells:
                self.readings.show_table(
                    make_table(
                        titles_of(carried),
                        [Chosen(s, r, (), s.id == overview.reference) for s, r in cells],
                        1,
                        self._percent,
                        [],
                        "",
                    )
                )
            return
        view = next((v for v in views if v.key == self._view_of.get(column.procedure)), views[0])
        self._views = tuple(views)
        self._shown_key = view.key
        channels = sorted({c.channel for _, r in cells for c in self._curves[r.id]})
        self._channels = {c for c in self._channels if c in channels} or {channels[0]}
        siblings = [v for v in views if v.group == view.group]
        panel.views.set_options([(g, g) for g in dict.fromkeys(v.group for v in views)], [view.group])
        panel.variants.set_options([(v.key, v.title) for v in siblings] if len(siblings) > 1 else [], [view.key])
        panel.channels.set_options([(str(c), f"ch {c}") for c in channels], [str(c) for c in self._channels])
        percent_on = "%" if self._percent else "dB"
        panel.units.set_options([("%", "%"), ("dB", "dB")] if view.key in RATIO_VIEWS else [], [percent_on])
        self.readings.units.set_options([("%", "%"), ("dB", "dB")], [percent_on])
        chosen = [Chosen(s, r, tuple(c for c in self._curves[r.id] if c.key == view.key), s.id == overview.reference) for s, r in cells]
        pins = overview.pins_of(column.id, view.key)
        figure = make_figure(column, view, chosen, self._channels, self._percent, pins)
        shown = (column.id, view.key, figure.y_unit)
        panel.graph.set_figure(figure, keep_zoom=shown == self._shown_view)
        self._shown_view = shown
        reading_channels = [str(c) for c in sorted({r["channel"] for _, run in cells for r in run.readings})]
        on = [c for c in self.readings.channel.on() if c in reading_channels] or [str(min(self._channels))]
        self.readings.channel.set_options([(c, f"ch {c}") for c in reading_channels] if len(reading_channels) > 1 else [], on)
        self.readings.show_table(make_table(titles_of(carried), chosen, int(on[0]), self._percent, pins, view.axis))

    def _choice_changed(self) -> None:
        column = self.current_column()
        panel = self.graph_panel
        if column is not None and panel.views.on():
            group = [v for v in self._views if v.group == panel.views.on()[0]]
            chosen = panel.variants.on()
            self._view_of[column.procedure] = next((v.key for v in group if v.key in chosen), group[0].key)
        if panel.units.on():
            self._percent = "%" in panel.units.on()
        self._channels = {int(c) for c in panel.channels.on()} or self._channels
        self.show_chosen()

    def show_view(self, key: str) -> None:
        """Show the curves of that key."""
        column = self.current_column()
        if column is not None:
            self._view_of[column.procedure] = key
            self.show_chosen()

    def set_percent(self, percent: bool) -> None:
        """Show ratios in % or in dB, everywhere."""
        self._percent = percent
        self.show_chosen()

    def toggle_percent(self) -> None:
        self.set_percent(not self._percent)

    def toggle_channel(self, channel: int) -> None:
        changed = self._channels ^ {channel}
        self._channels = changed or self._channels
        self.show_chosen()

    def next_view(self, step: int = 1) -> None:
        keys = [v.key for v in self._views]
        if self._shown_key in keys:
            self.show_view(keys[(keys.index(self._shown_key) + step) % len(keys)])

    def _enable(self) -> None:
        if not self.built:
            return
        runs = [r for _, r in self.chosen_cells() if r is not None]
        writable = self.session.writable
        self.readings.again.setEnabled(writable and bool(runs))
        self.readings.recompute.setEnabled(
            (writable and len(runs) == 1) or (writable and self.model.run(self.table.currentIndex()) is not None)
        )
        self.run_panel.stop.setEnabled(bool(self.session.under_way))

    # -- runs ---------------------------------------------------------------------------------------------------------------

    def _measure(self, settings: dict[str, Any], device: str) -> None:
        subject, column = self.current_subject(), self.current_column()
        if subject is None or column is None:
            return
        if device and device != subject.device:
            edits.change_row(self.session, subject, f"Wire {subject.full_name}", device=device)
        self.session.measure([Wanted((subject.id, column.id), settings, device)])

    def run_again(self) -> None:
        """Measure the chosen cells once more, each with the settings of its latest run."""
        column = self.current_column()
        if column is not None:
            self.session.measure([Wanted((s.id, column.id), r.settings) for s, r in self.chosen_cells() if r is not None])

    def measure_empty(self) -> None:
        """Measure every chosen cell that is empty, with the column's settings."""
        column = self.current_column()
        if column is not None:
            self.session.measure([Wanted((s.id, column.id), column.settings) for s, r in self.chosen_cells() if r is None])

    def offer_recompute(self) -> None:
        subject, column, run = self.current_subject(), self.current_column(), self.model.run(self.table.currentIndex())
        if subject is None or column is None or run is None:
            return
        self._recomputing = run
        from epidote.core.chain import Chain

        self.run_panel.show_recompute(subject, column, Chain.model_validate(run.chain), _procedure(run.procedure), run)
        self.side.setCurrentWidget(self.run_panel)

    def _recompute(self, settings: dict[str, Any]) -> None:
        run = self._recomputing
        if run is not None:
            self._recomputing = None
            self.session.recompute(run, settings)
            self.show_chosen()

    def _run_finished(self, cell: tuple[int, int]) -> None:
        self._panel_cell = None

    def repeat_reference_on(self, subject: Subject) -> None:
        """Queue the reference row's procedures, with their settings, for another row."""
        overview = self.session.overview
        if overview is None or overview.reference is None or subject.id == overview.reference:
            return
        runs = [(c, overview.runs[overview.reference, c.id]) for c in overview.columns if (overview.reference, c.id) in overview.runs]
        self.session.measure([Wanted((subject.id, column.id), run.settings) for column, run in runs])

    def shown_key(self) -> str | None:
        """Key of the curves in view."""
        return self._shown_key

    def curves_of(self, run_id: int) -> tuple[Any, ...]:
        """A run's curves as far as they are loaded."""
        return self._curves.get(run_id, ())

    def channels(self) -> set[int]:
        """The channels in view."""
        return set(self._channels)

    def view_levels(self, procedure: str) -> None:
        """Turn to the level curves of a procedure."""
        self._view_of[procedure] = "level"

    def set_theme(self, theme: Theme) -> None:
        self.theme = self.delegate.theme = self.header.theme = theme
        if self.built:
            self.readings.theme = theme
            self.graph_panel.set_theme(theme)
        self.table.viewport().update()
        self.header.viewport().update()
        self.show_chosen()


def _procedure(key: str) -> Any:
    from epidote.core.procedures.base import procedure

    return procedure(key)
