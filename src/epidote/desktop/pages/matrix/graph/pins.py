"""Setting and clearing pins on what the Matrix page shows."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from epidote.desktop.state import edits

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.page import MatrixPage


class Pins:
    def __init__(self, page: MatrixPage) -> None:
        self._page, self._session = page, page.session

    def add(self, x: float) -> None:
        column, view = self._page.current_column(), self._page.look.pin_key
        if column is not None and view is not None:
            edits.add_pins(self._session, column.id, view, [x])

    def corners(self) -> None:
        """Pins at the -3 dB points of the current run."""
        page = self._page
        column, run = page.current_column(), page.model.run(page.table.currentIndex())
        if column is None or run is None:
            return
        channel = min(page.look.channels)
        wanted = [
            r["value"] for r in run.readings if r["key"] in ("bandwidth_low", "bandwidth_high") and r["channel"] == channel and r["value"]
        ]
        if wanted:
            page.look.show_view("level")
            overview = self._session.overview
            there = [p.x for p in overview.pins_of(column.id, "level")] if overview is not None else []
            missing = [x for x in wanted if not any(math.isclose(x, old, rel_tol=1e-6) for old in there)]
            if missing:
                edits.add_pins(self._session, column.id, "level", missing)
        else:
            page.failed.emit("This run has no -3 dB point in the measured band. No pin was added.")

    def clear(self) -> None:
        column, view, overview = self._page.current_column(), self._page.look.pin_key, self._session.overview
        if column is not None and view is not None and overview is not None and overview.pins_of(column.id, view):
            edits.remove_pins(self._session, list(overview.pins_of(column.id, view)))
