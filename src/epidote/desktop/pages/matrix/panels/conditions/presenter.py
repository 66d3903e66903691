"""The panel of conditions: a reading over the settings in which rows differ."""

from __future__ import annotations

from typing import TYPE_CHECKING

from epidote.core.results.kinds import CurveRole, curve_kind

if TYPE_CHECKING:
    from epidote.core.results.result import Curve
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.panels.conditions.panel import ConditionsPanel
    from epidote.desktop.pages.matrix.panels.host import PanelHost
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.study.models import Column, Overview, RunSummary, Subject


_MOST_BANDS = 400
_ANGLE = "angle"  # the condition whose values are angles from the axis
# no readings' keys: those have no spaces
_UNIFORMITY, _MAP = "uniformity by band", "map over condition"


class ConditionsPresenter:
    """Spreads the chosen rows' readings over their conditions."""

    def __init__(self, selection: MatrixSelection, host: PanelHost, view: GraphViewState) -> None:
        self._selection, self._session, self._host = selection, selection.session, host
        self._view = view
        self.panel: ConditionsPanel | None = None
        self._reading = ""
        self._wanted = ""  # what is shown instead of a reading
        self._normalised_to: float | None = None  # value of the condition whose row of a map is 0 dB
        self._session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another study is open."""
        self._reading = self._wanted = ""
        self._normalised_to = None

    def make(self) -> ConditionsPanel:
        from epidote.desktop.pages.matrix.panels.conditions.panel import ConditionsPanel

        panel = ConditionsPanel(self._host.theme)
        panel.reading_chosen.connect(self._choose_reading)
        panel.normalised_chosen.connect(self._normalise)
        self.panel = panel
        return panel

    def _choose_reading(self, key: str) -> None:
        self._reading = key
        self._wanted = key if key in (_UNIFORMITY, _MAP) else ""
        self._host.refresh()

    def _normalise(self, value: float | None) -> None:
        self._normalised_to = value
        self._host.refresh()

    def show(self) -> None:
        """Show the chosen reading over the conditions of the chosen rows, or how much their levels differ."""
        panel, overview, column = self.panel, self._session.overview, self._selection.current_column()
        assert panel is not None
        if overview is None or column is None:
            return
        chosen = self._chosen(overview, column.id)
        channel = self._view.first_channel
        levels = self._levels(chosen, channel)
        titles = self._titles(chosen, column, channel)
        if len(levels) > 1:
            titles[_UNIFORMITY] = "Uniformity by band"
        condition = self._numeric_condition(chosen)
        if condition and self._view.key is not None:
            titles[_MAP] = f"Map over {condition}"
        if self._wanted in titles:
            self._reading = self._wanted
        panel.offer(list(titles.items()), self._reading)
        if self._reading == _UNIFORMITY:
            self._show_uniformity(panel, [s for s, _ in chosen if s.full_name in levels], levels)
        elif self._reading == _MAP:
            self._show_map(panel, chosen, channel, condition)
        else:
            self._show_table(panel, chosen, channel)

    def _chosen(self, overview: Overview, column_id: int) -> list[tuple[Subject, RunSummary]]:
        """Return the selected rows with their runs; one row stands for all of its unit."""
        chosen = [(s, r) for s, r in self._selection.selected_runs() if not s.is_baseline]
        if len(chosen) != 1:
            return chosen
        unit = chosen[0][0].unit
        return [
            (s, overview.runs[s.id, column_id])
            for s in overview.subjects
            if s.unit == unit and (s.id, column_id) in overview.runs
        ]

    def _titles(self, chosen: list[tuple[Subject, RunSummary]], column: Column, channel: int) -> dict[str, str]:
        """Return the titles of the readings that there are, and keep one of them chosen."""
        from epidote.core.procedures.registry import reading_titles
        from epidote.desktop.pages.matrix.graph.view_state import procedure_named

        there = {r.key for _, run in chosen for r in run.readings if r.channel == channel and r.value is not None}
        titles = {k: t for k, t in reading_titles(procedure_named(column.procedure)).items() if k in there}
        head = next((r.headline.reading.key for _, r in chosen if r.headline), "")
        if self._reading not in titles:
            self._reading = head if head in titles else next(iter(titles), "")
        return titles

    def _show_table(self, panel: ConditionsPanel, chosen: list[tuple[Subject, RunSummary]], channel: int) -> None:
        """Show a reading over one or two conditions."""
        from epidote.core.comparison.conditions.condition_table import ConditionReading, equivalent_settings, grid
        from epidote.core.errors import UnusableInputError, in_window
        from epidote.core.wording.differences import equivalence_words

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

    def _levels(self, chosen: list[tuple[Subject, RunSummary]], channel: int) -> dict[str, Curve]:
        """Return the curves of levels of a sound that are in view, as far as they are loaded, by the row's name."""
        key = self._view.key
        if key is None or curve_kind(key).role is not CurveRole.SPECTRUM:
            return {}
        found = {}
        for subject, run in chosen:
            curve = self._curve_in_view(run, channel)
            if curve is not None and curve.x.size <= _MOST_BANDS:
                found[subject.full_name] = curve
        return found

    def _curve_in_view(self, run: RunSummary, channel: int) -> Curve | None:
        """Return a run's curve over frequency that the graph shows, as far as it is loaded."""
        curves = (c for c in self._selection.curves_of(run.id) if c.key == self._view.key and c.x_unit == "Hz")
        return next((c for c in curves if c.channel == channel), None)

    def _show_uniformity(self, panel: ConditionsPanel, rows: list[Subject], levels: dict[str, Curve]) -> None:
        from epidote.core.comparison.conditions.uniformity import uniformity
        from epidote.core.errors import UnusableInputError, in_window
        from epidote.desktop.pages.matrix.graph.chosen import short_names

        names = {n for s in rows for n in s.conditions}
        over = [n for n in sorted(names) if len({s.conditions.get(n, "") for s in rows}) > 1]
        short = short_names(rows)
        try:
            found = uniformity({short[s.id]: levels[s.full_name] for s in rows})
        except UnusableInputError as error:
            panel.show_words(in_window(error))
            return
        panel.show_uniformity(found, ", ".join(over) or "the selected rows")

    def _numeric_condition(self, chosen: list[tuple[Subject, RunSummary]]) -> str:
        """Return the one condition in which the rows differ, if all its values are numbers; else ""."""
        from epidote.core.comparison.conditions.condition_table import number_in

        names = {n for s, _ in chosen for n in s.conditions}
        differing = [n for n in names if len({s.conditions.get(n, "") for s, _ in chosen}) > 1]
        if len(differing) != 1:
            return ""
        if all(number_in(s.conditions.get(differing[0], "")) is not None for s, _ in chosen):
            return differing[0]
        return ""

    def _show_map(
        self, panel: ConditionsPanel, chosen: list[tuple[Subject, RunSummary]], channel: int, condition: str
    ) -> None:
        from epidote.core.comparison.conditions.condition_table import number_in
        from epidote.core.comparison.conditions.curve_map import beamwidth, directivity_index, make_map
        from epidote.core.errors import UnusableInputError, in_window

        curves = []
        for subject, run in chosen:
            curve = self._curve_in_view(run, channel)
            if curve is not None:
                curves.append((subject.conditions[condition], curve))
        try:
            values = [number_in(text) for text, _ in curves]
            if self._normalised_to not in values:
                self._normalised_to = None
            plain = make_map(curves, condition)
            made = make_map(curves, condition, self._normalised_to)
        except UnusableInputError as error:
            panel.show_words(in_window(error))
            return
        figures = []
        width, index = beamwidth(plain), directivity_index(plain)
        if width is not None and condition == _ANGLE:
            figures.append(("Beamwidth, -6 dB", f"{width.y.min():.0f}° to {width.y.max():.0f}°"))
        if index is not None and condition == _ANGLE:
            figures.append(("Directivity index", f"{index.y.min():.1f} dB to {index.y.max():.1f} dB"))
        panel.show_map(made, figures, self._normalised_to)
