"""What differs, in numbers and to be heard: residual and noise-to-mask ratio over time and by band, worst moment."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QHeaderView, QPushButton, QSplitter, QVBoxLayout, QWidget

from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_reading
from epidote.desktop.pages.listen.playback import ClipPlayback
from epidote.desktop.plotting.figure import Figure, PinMark, Trace
from epidote.desktop.plotting.graph_widget import GraphWidget
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.plain import heading, quiet
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.desktop.widgets.wording import LOADING

if TYPE_CHECKING:
    from epidote.core.procedures.protocol import CurveView
    from epidote.core.results.result import Curve
    from epidote.measurement.listening.preparation import HearableRun
    from epidote.measurement.run_sounds import MadeSound
    from epidote.study.models import RunSummary
    from epidote.study.store import Study

_ABOUT_WORST = 1.0  # s before and after the worst moment that are looped
_CHANNEL = 1
_NO_ROWS = "No rows with programme material. Measure a “Programme material” column on the Matrix page first."
_X_TITLES = {"s": "Time", "Hz": "Frequency"}


class DifferencesView(QWidget):
    """Curves of the chosen rows in one graph, and their readings beside it; row by row the difference can be heard."""

    def __init__(self, session: Session, theme: Theme, playback: ClipPlayback) -> None:
        super().__init__()
        self.session, self.theme, self.playback = session, theme, playback
        self._rows: list[tuple[str, RunSummary]] = []
        self._curves: dict[int, tuple[Curve, ...]] = {}
        self._turn = 0
        self._heard: int | None = None  # the run whose difference is loaded
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 8, 20, 12)
        self.views = SegmentedButtons()
        self.views.chosen.connect(lambda _: self._draw())
        layout.addWidget(self.views)
        split = QSplitter()
        self.graph = GraphWidget(theme)
        self.graph.setMinimumHeight(220)
        split.addWidget(self.graph)
        split.addWidget(self._build_side())
        split.setSizes([560, 700])
        layout.addWidget(split, 1)

    def _build_side(self) -> QWidget:
        side = QWidget()
        layout = QVBoxLayout(side)
        layout.setContentsMargins(12, 0, 0, 0)
        self.table = ReadOnlyTable("Differences from the original, by row")
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        layout.addWidget(self.table, 1)
        layout.addWidget(heading("Difference that is played"))
        line = QHBoxLayout()
        self.row = QComboBox()
        self.row.setAccessibleName("Row whose difference is played")
        self.row.currentIndexChanged.connect(lambda _: self._row_chosen())
        line.addWidget(self.row, 1)
        self.play = QPushButton("Play difference")
        self.play.setToolTip("Play the residual after correction of delay, sample clock and linear response")
        self.worst = QPushButton("Maximum difference")
        self.worst.setToolTip("Loop 1 s before and after the maximum noise-to-mask ratio")
        self.stop = QPushButton("Stop")
        for button in (self.play, self.worst, self.stop):
            line.addWidget(button)
        layout.addLayout(line)
        self.words = quiet()
        layout.addWidget(self.words)
        self.play.clicked.connect(lambda _: self._listen(at_worst=False))
        self.worst.clicked.connect(lambda _: self._listen(at_worst=True))
        self.stop.clicked.connect(lambda _: self.playback.stop())
        return side

    def show_rows(self, runs: Sequence[HearableRun], chosen: Collection[int]) -> None:
        """Show the chosen runs, or all where none is chosen."""
        shown = [one for one in runs if one.run.id in chosen] or runs
        self._rows = [(one.name, one.run) for one in shown]
        self._heard, self._curves = None, {}
        self.row.clear()
        for name, run in self._rows:
            self.row.addItem(name, run.id)
        for button in (self.play, self.worst):
            button.setEnabled(bool(self._rows))
        self._fill_table()
        self._show_views()
        self._turn += 1
        wanted = [run.id for _, run in self._rows]

        def ask(study: Study) -> dict[int, tuple[Curve, ...]]:
            return {run: study.curves(run) for run in wanted}

        self.session.ask(ask, partial(self._take_curves, self._turn))

    def _take_curves(self, turn: int, curves: dict[int, tuple[Curve, ...]]) -> None:
        if turn == self._turn:
            self._curves = curves
            self._draw()

    def _shown_views(self) -> list[CurveView]:
        if not self._rows:
            return []
        return list(procedure(self._rows[0][1].procedure).views)

    def _show_views(self) -> None:
        views = self._shown_views()
        on = self.views.on() or (views[0].key,) if views else ()
        self.views.set_options([(v.key, _words_of(v)) for v in views], on)

    def _draw(self) -> None:
        view = next((v for v in self._shown_views() if v.key in self.views.on()), None)
        if view is None:
            self.graph.set_figure(None, keep_zoom=False, instead=_NO_ROWS)
            return
        if not self._curves:
            self.graph.set_figure(None, keep_zoom=False, instead=LOADING)
            return
        overview = self.session.overview
        traces, unit, x_unit = [], "dB", "s"
        for name, run in self._rows:
            subject = overview.subject(run.subject_id) if overview is not None else None
            for curve in self._curves.get(run.id, ()):
                if curve.key == view.key and curve.channel == _CHANNEL:
                    colour = subject.colour if subject is not None else 0
                    traces.append(Trace(name, curve.channel, colour, curve.x, curve.y, curve.floor))
                    unit, x_unit = curve.y_unit, curve.x_unit
        figure = Figure(
            "", _X_TITLES.get(x_unit, "x"), x_unit, view.axis, unit, view.log_x, tuple(traces), pins=self._marks(x_unit)
        )
        self.graph.set_figure(figure, keep_zoom=False)

    def _marks(self, x_unit: str) -> tuple[PinMark, ...]:
        """Return the worst moment of the row that is chosen, on the axis of time."""
        worst = self._worst_time()
        if x_unit != "s" or worst is None:
            return ()
        return (PinMark(0, 1, worst),)

    def _told(self) -> tuple[str, ...]:
        """Return the readings that say at a glance how far the rows differ from their original."""
        return procedure(self._rows[0][1].procedure).differences if self._rows else ()

    def _fill_table(self) -> None:
        kinds = {kind.key: kind for _, run in self._rows for kind in procedure(run.procedure).readings}
        shown = self._told()
        heads = [TableCell("Row", font(bold=True), right=False)]
        heads += [TableCell(kinds[key].title, font(bold=True)) for key in shown]
        rows = []
        for name, run in self._rows:
            overview = self.session.overview
            subject = overview.subject(run.subject_id) if overview is not None else None
            colour = self.theme.row(subject.colour) if subject is not None else None
            cells = [TableCell(name, font(), colour=colour, right=False)]
            for key in shown:
                reading = run.reading(key, _CHANNEL)
                cells.append(TableCell(format_reading(reading) if reading is not None else "–", font()))
            rows.append(cells)
        self.table.show_cells(heads, rows)

    def _current(self) -> RunSummary | None:
        place = self.row.currentIndex()
        return self._rows[place][1] if 0 <= place < len(self._rows) else None

    def _worst_time(self) -> float | None:
        run = self._current()
        if run is None:
            return None
        reading = run.reading(procedure(run.procedure).worst_moment, _CHANNEL)
        time = reading.at.get("time_s") if reading is not None else None
        return float(time) if isinstance(time, int | float) else None

    def _row_chosen(self) -> None:
        """Say what the estimate means for the row, and mark its worst moment."""
        self.playback.stop()
        run = self._current()
        told = [run.reading(key, _CHANNEL) for key in self._told()] if run is not None else []
        finding = next((str(r.at["finding"]) for r in told if r is not None and "finding" in r.at), "")
        worst = self._worst_time()
        words = [f"The difference rises {finding}." if finding else ""]
        words.append(f"Maximum difference at {worst:.2f} s." if worst is not None else "")
        self.words.setText(" ".join(filter(None, words)))
        self._draw()

    # -- hearing it --------------------------------------------------------------------------------

    def _listen(self, *, at_worst: bool) -> None:
        run = self._current()
        if run is None:
            return
        if self._heard == run.id:
            self._play(at_worst=at_worst)
            return
        study = self.session.study
        if study is None:
            return
        key = procedure(run.procedure).sounds[0].key
        self.words.setText(LOADING)
        turn = self._turn

        def work() -> MadeSound:
            from epidote.measurement.run_sounds import make_run_sound

            return make_run_sound(study, run.id, key, _CHANNEL)

        def ready(sound: MadeSound) -> None:
            if turn != self._turn or not self.isVisible():
                return
            self._heard = run.id
            self.playback.load({"A": sound.samples[:, None]}, sound.rate)
            self.playback.show_labels([("difference", "A")])
            self.words.setText(f"Difference raised by {sound.raised_db:.0f} dB re the recording.")
            self._play(at_worst=at_worst)

        self.session.compute(work, ready, self._failed)

    def _failed(self, words: str) -> None:
        self.words.setText("")
        self.session.failed.emit(words)

    def _play(self, *, at_worst: bool) -> None:
        worst = self._worst_time()
        if at_worst and worst is not None:
            first = max(0.0, worst - _ABOUT_WORST)
            self.playback.set_loop(first, worst + _ABOUT_WORST)
            self.playback.jump(first)
        else:
            self.playback.set_loop(0.0, 0.0)
        self.playback.play()

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.graph.set_theme(theme)
        self._fill_table()


def _words_of(view: CurveView) -> str:
    """Return what a view is called where no group stands above it."""
    if view.title.casefold() == view.group.casefold():
        return view.group
    return f"{view.group} {view.title}"
