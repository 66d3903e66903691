"""Setting and clearing pins on what the Matrix page shows."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from epidote.core.results.kinds import reading_kind
from epidote.desktop.state import edits

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.selection import MatrixSelection


class Pins:
    """Pins of the curves in view."""

    def __init__(self, selection: MatrixSelection, view: GraphViewState) -> None:
        self._selection, self._view, self._session = selection, view, selection.session

    def add(self, x: float) -> None:
        column, key = self._selection.current_column(), self._view.pin_key
        if column is not None and key is not None:
            edits.add_pins(self._session, column.id, key, [x])

    def corners(self) -> None:
        """Pins at the -3 dB points of the current run."""
        column, run = self._selection.current_column(), self._selection.current_run()
        if column is None or run is None:
            return
        channel = self._view.first_channel
        corners = {
            r.value: reading_kind(r.key).corner_of
            for r in run.readings
            if reading_kind(r.key).corner_of and r.channel == channel and r.value
        }
        if corners:
            curve = next(iter(corners.values()))
            self._view.show_view(curve)
            overview = self._session.overview
            if overview is not None:
                there = [p.x for p in overview.pins_of(column.id, curve)]
            else:
                there = []
            missing = [x for x in corners if not any(math.isclose(x, old, rel_tol=1e-6) for old in there)]
            if missing:
                edits.add_pins(self._session, column.id, curve, missing)
        else:
            self._selection.failed.emit("This run has no -3 dB point in the measured band. No pin was added.")

    def apply(self) -> None:
        """Recompute the selected runs with the setting that these curves place, at the last pin."""
        setting, reason = self._view.placed_setting, self.why_not_applied()
        if reason:
            self._selection.failed.emit(reason)
            return
        column, key, overview = self._selection.current_column(), self._view.pin_key, self._session.overview
        assert column is not None and key is not None and overview is not None
        place = overview.pins_of(column.id, key)[-1].x
        if place <= 0:
            self._selection.failed.emit(
                "The pin lies before the arrival of the sound. Nothing was changed; set it after the arrival."
            )
            return
        for _, run in self._selection.selected_runs():
            self._session.runs.recompute(run, {setting: f"{1000 * place:.4g}ms"})

    def why_not_applied(self) -> str:
        """Why no setting can be placed here; "" where one can."""
        column, key, overview = self._selection.current_column(), self._view.pin_key, self._session.overview
        if not self._view.placed_setting or column is None or key is None or overview is None:
            return "Show the impulse response first, and set a pin where its gate is to end."
        if not overview.pins_of(column.id, key):
            return "Set a pin first: a double-click in the graph."
        return ""

    def clear(self) -> None:
        column, key, overview = self._selection.current_column(), self._view.pin_key, self._session.overview
        if column is not None and key is not None and overview is not None and overview.pins_of(column.id, key):
            edits.remove_pins(self._session, list(overview.pins_of(column.id, key)))
