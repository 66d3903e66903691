"""Shows the readings of the runs in the graph."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from epidote.core.results.channels import default_channel
from epidote.core.results.kinds import CurveRole, curve_kind
from epidote.desktop.pages.matrix.graph.view_state import DrawnRuns, GraphViewState, procedure_named
from epidote.desktop.pages.matrix.panels.readings.panel import ReadingsPanel
from epidote.desktop.widgets.tips import UNIT_TIPS, channel_options, channel_tips, common_names

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.selection import MatrixSelection


class ReadingsPresenter:
    """One table: a row for each reading, a column for each selected run."""

    def __init__(self, selection: MatrixSelection, view: GraphViewState, panel: ReadingsPanel) -> None:
        self._selection, self._view, self.panel = selection, view, panel
        self._chosen: int | None = None  # channel that was chosen in the panel; else the graph's is shown
        panel.channel.chosen.connect(self._choose)
        selection.session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another study is open."""
        self._chosen = None

    def _choose(self, on: object) -> None:
        chosen = [int(c) for c in self.panel.channel.on()]
        self._chosen = chosen[0] if chosen else None

    def show(self, drawn: DrawnRuns) -> None:
        """Show the readings of a figure's runs."""
        from epidote.core.procedures.registry import reading_titles
        from epidote.desktop.pages.matrix.graph.reading_table import make_table

        view, panel = self._view, self.panel
        panel.units.set_options([("%", "%"), ("dB", "dB")], ["%" if view.percent else "dB"], UNIT_TIPS)
        channel = self._offer_channels(drawn)
        curves = {one.run.id: self._selection.curves_of(one.run.id) for one in drawn.chosen}
        titles = reading_titles(procedure_named(drawn.column.procedure))
        points = view.points(drawn.column)
        table = make_table(
            titles, drawn.chosen, channel, view.percent, drawn.pins, view_title=drawn.title, points=points, whole=curves
        )
        table = replace(table, summary="\n".join([table.summary, *self._waited_for(drawn)]).strip())
        figure = view.figure()
        self._show_map(drawn, channel)
        panel.show_table(table, figure.held if figure is not None else (), writable=self._selection.session.writable)

    def _show_map(self, drawn: DrawnRuns, channel: int) -> None:
        """Draw the map of the current run, or of the first in view that has one, such as of time within a period."""
        from epidote.core.comparison.conditions.curve_map import map_of_run
        from epidote.core.errors import UnusableInputError

        current = self._selection.current_run()
        runs = sorted((one.run.id for one in drawn.chosen), key=lambda n: current is None or n != current.id)
        every = [c for run in runs for c in self._selection.curves_of(run)]
        maps = [c for c in every if curve_kind(c.key).role is CurveRole.MAP and c.channel == channel]
        self.panel.map.theme = self.panel.theme
        try:
            self.panel.map.show_map(map_of_run(maps[0]) if maps else None)
        except UnusableInputError:  # of an earlier version, which kept no frequencies
            self.panel.map.show_map(None)

    def _waited_for(self, drawn: DrawnRuns) -> list[str]:
        """Return what the runs in view that have no recording yet wait for, in words."""
        from epidote.measurement.waiting import KIND, Awaited
        from epidote.study.annotations import valid

        overview = self._selection.session.overview
        runs = {one.run.id for one in drawn.chosen}
        if overview is None:
            return []
        return [awaited.words for entry, awaited in valid(overview.of_kind(KIND), Awaited) if entry.owner.run in runs]

    def _offer_channels(self, drawn: DrawnRuns) -> int:
        """Offer the channels that have readings.

        Returns the one that is shown: the one chosen here, else the graph's first.
        """
        channels = sorted({reading.channel for one in drawn.chosen for reading in one.run.readings})
        first_shown = self._view.first_channel
        if self._chosen in channels:
            selected = [self._chosen]
        elif first_shown in channels:
            selected = [first_shown]
        else:
            selected = [default_channel(channels)]
        options = channel_options(channels, common_names(one.run.chain.input_names for one in drawn.chosen))
        self.panel.channel.set_options(
            options if len(channels) > 1 else [], [str(c) for c in selected], channel_tips(channels)
        )
        return selected[0]
