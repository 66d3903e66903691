"""The panel of conditions: a reading over the settings in which rows differ."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.panels.conditions.panel import ConditionsPanel
    from epidote.desktop.pages.matrix.panels.host import PanelHost
    from epidote.desktop.pages.matrix.selection import MatrixSelection


class ConditionsPresenter:
    """Spreads the chosen rows' readings over their conditions."""

    def __init__(self, selection: MatrixSelection, host: PanelHost, view: GraphViewState) -> None:
        self._selection, self._session, self._host = selection, selection.session, host
        self._view = view
        self.panel: ConditionsPanel | None = None
        self._reading = ""

    def make(self) -> ConditionsPanel:
        from epidote.desktop.pages.matrix.panels.conditions.panel import ConditionsPanel

        panel = ConditionsPanel(self._host.theme)
        panel.reading_chosen.connect(self._choose_reading)
        self.panel = panel
        return panel

    def _choose_reading(self, key: str) -> None:
        self._reading = key
        self._host.refresh()

    def show(self) -> None:
        from epidote.core.comparison.conditions.condition_table import ConditionReading, equivalent_settings, grid
        from epidote.core.errors import UnusableInputError, in_window
        from epidote.core.procedures.registry import reading_titles
        from epidote.core.wording.differences import equivalence_words
        from epidote.desktop.pages.matrix.graph.view_state import procedure_named

        panel, overview, column = self.panel, self._session.overview, self._selection.current_column()
        assert panel is not None
        if overview is None or column is None:
            return
        chosen = [(s, r) for s, r in self._selection.selected_runs() if not s.is_baseline]
        if len(chosen) < 2:  # one row stands for all of its unit
            if chosen:
                unit = chosen[0][0].unit
            else:
                unit = None
            chosen = [
                (s, overview.runs[s.id, column.id])
                for s in overview.subjects
                if s.unit == unit and unit is not None and (s.id, column.id) in overview.runs
            ]
        channel = self._view.first_channel
        there = {r.key for _, run in chosen for r in run.readings if r.channel == channel and r.value is not None}
        titles = {k: t for k, t in reading_titles(procedure_named(column.procedure)).items() if k in there}
        head = next((r.headline.reading.key for _, r in chosen if r.headline), "")
        if self._reading not in titles:
            if head in titles:
                self._reading = head
            else:
                self._reading = next(iter(titles), "")
        panel.offer(list(titles.items()), self._reading)
        several = len({s.unit.id for s, _ in chosen if s.unit}) > 1
        readings = []
        for subject, run in chosen:
            reading = run.reading(self._reading, channel)
            if reading is not None and reading.value is not None:
                conditions = dict(subject.conditions)
                if several:
                    conditions = {"unit": subject.name, **conditions}
                readings.append(
                    ConditionReading(subject.full_name, conditions, reading.value, reading.unit, reading.spread or 0.0)
                )
        try:
            table = grid(readings)
        except UnusableInputError as error:
            panel.show_words(in_window(error))
            return
        panel.show_grid(table, [equivalence_words(one) for one in equivalent_settings(table)])
