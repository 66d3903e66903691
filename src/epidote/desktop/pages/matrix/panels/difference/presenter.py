"""The panel of differences: a row against the reference, repeats, channels swapped."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from epidote.desktop.state import edits
from epidote.desktop.state.run_queue import RunRequest
from epidote.desktop.widgets.wording import LOADING

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.panels.difference.panel import DifferencePanel
    from epidote.desktop.pages.matrix.panels.host import PanelHost
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.measurement.assessment import DifferenceReport
    from epidote.study.models import RunSummary, Subject
    from epidote.study.store import Study

_KNOWN = "acknowledged"


class DifferencePresenter:
    """Holds a row against the reference, and measures what that takes."""

    def __init__(self, selection: MatrixSelection, host: PanelHost, view: GraphViewState) -> None:
        self._selection, self._session, self._host = selection, selection.session, host
        self._view = view
        self.panel: DifferencePanel | None = None
        self._compared: int | None = None  # the row that is compared with the reference
        self._shown: object = None  # what the report in view, or the one on its way, is of
        self._session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another study is open."""
        self._compared = self._shown = None

    def make(self) -> DifferencePanel:
        from epidote.desktop.pages.matrix.panels.difference.panel import DifferencePanel

        panel = DifferencePanel(self._host.theme)
        panel.repeat_wanted.connect(self.repeat)
        panel.reference_wanted.connect(self._set_reference)
        panel.swap_wanted.connect(self.swap_channels)
        panel.row_chosen.connect(self._compare_row)
        panel.acknowledged.connect(self._acknowledge)
        self.panel = panel
        return panel

    def _set_reference(self) -> None:
        subject = self._selection.current_subject()
        if subject is not None:
            edits.set_reference(self._session, subject)

    def _compare_row(self, subject_id: int) -> None:
        self._compared = subject_id
        self._host.refresh()

    def _pair(self) -> tuple[tuple[Subject, RunSummary], tuple[Subject, RunSummary], list[tuple[int, str]]] | str:
        """Return the row compared, the reference, and all rows there are to compare; or words that say what is
        missing.
        """
        from epidote.desktop.pages.matrix.graph.chosen import short_names

        overview, column = self._session.overview, self._selection.current_column()
        if overview is None or column is None:
            return ""
        if overview.reference:
            base = overview.subject(overview.reference)
        else:
            base = None
        if base is not None:
            reference = overview.runs.get((base.id, column.id))
        else:
            reference = None
        if base is None:
            return "No reference row. Select a row and set it as reference (Ctrl+B)."
        if reference is None:
            return (
                f"The reference, {base.full_name}, is not measured in this column. Measure it or set another reference."
            )
        rows = [(s, r) for s, r in self._selection.selected_runs() if s.id != base.id and not s.is_baseline]
        if not rows:
            return f"Select a measured cell of another row in this column to compare it with {base.full_name}."
        ours = next(((s, r) for s, r in rows if s.id == self._compared), rows[0])
        short = short_names([s for s, _ in rows] + [base])
        return ours, (base, reference), [(s.id, short[s.id]) for s, _ in rows]

    def show(self) -> None:
        panel, pair, number = self.panel, self._pair(), self._host.asked
        assert panel is not None
        figure = self._view.figure()
        if isinstance(pair, str):
            self._shown = None
            overview, subject = self._session.overview, self._selection.current_subject()
            lacking = overview is not None and overview.reference is None
            panel.show_nothing(pair, offer_reference=lacking and subject is not None and self._session.writable)
            panel.show_crossings(())
            return
        ours, theirs, rows = pair
        channel = self._view.first_channel
        overview = self._session.overview
        assert overview is not None
        view = self._view
        if figure is not None and view.key is not None:
            curve = (view.key, view.axis.source if view.axis is not None else figure.x_unit)
        else:
            curve = None
        known = self._pair_key(ours[1], theirs[1]) in self._known()
        asked = (ours[1].id, theirs[1].id, channel, curve)
        if asked != self._shown:
            self._shown = asked
            panel.show_nothing(LOADING, offer_reference=False)

        def ask(study: Study) -> DifferenceReport:
            from epidote.measurement.assessment import difference_report

            return difference_report(study, overview, ours, theirs, channel, curve=curve)

        def done(report: DifferenceReport) -> None:
            from epidote.core.procedures.registry import reading_titles
            from epidote.core.wording.differences import repeated_curves_words
            from epidote.desktop.pages.matrix.graph.view_state import procedure_named

            if number == self._host.asked:
                panel.show_report(
                    report,
                    theirs[0].full_name,
                    reading_titles(procedure_named(ours[1].procedure)),
                    rows,
                    ours[0].id,
                    known=known,
                )
                repeated: tuple[str, ...] = ()
                if report.repeated is not None:
                    curves = report.repeated
                    repeated = (
                        repeated_curves_words(
                            curves.name, curves.reference, curves.difference, curves.interval, curves.repeats
                        ),
                    )
                panel.show_crossings(repeated + (figure.crossings if figure is not None else ()))

        self._session.ask(ask, done)

    def _pair_key(self, ours: RunSummary, theirs: RunSummary) -> str:
        return f"{ours.id}:{theirs.id}"

    def _known(self) -> list[str]:
        return list(json.loads(self._session.setting(_KNOWN) or "[]"))

    def _acknowledge(self, known: bool) -> None:
        """Acknowledge the listed differences for this pair of runs, or withdraw that."""
        pair = self._pair()
        if isinstance(pair, str):
            return
        key, before = self._pair_key(pair[0][1], pair[1][1]), self._known()
        if known:
            after = [*before, key]
        else:
            after = [k for k in before if k != key]
        edits.set_setting(self._session, "Acknowledge differences", _KNOWN, json.dumps(before), json.dumps(after))

    def repeat(self, *, times: int | None = None) -> None:
        """Measure the chosen rows, and the reference, several times more, one row after the other."""
        overview, column = self._session.overview, self._selection.current_column()
        if overview is None or column is None:
            return
        if times is None:
            from PySide6.QtWidgets import QInputDialog

            times, go = QInputDialog.getInt(
                self._host.widget,
                "Repeat measurements",
                "Number of repeats of each selected row and of the reference",
                5,
                1,
                100,
            )
            if not go:
                return
        rows = {s.id: r for s, r in self._selection.selected_runs()}
        if overview.reference:
            reference = overview.runs.get((overview.reference, column.id))
        else:
            reference = None
        if reference is not None and len(rows) == 1 and overview.reference not in rows:
            rows[reference.subject_id] = reference
        self._session.runs.measure([RunRequest((s, column.id), r.settings, times=times) for s, r in rows.items()])

    def swap_channels(self, *, ask: bool = True) -> None:
        """Measure a twin of the current row with its channels' wires swapped, by the same procedure.

        The two show whether a difference goes with the unit.
        """
        subject, column, run = (
            self._selection.current_subject(),
            self._selection.current_column(),
            self._selection.current_run(),
        )
        if subject is None or subject.unit is None or column is None or run is None or "wiring" in subject.conditions:
            self._selection.failed.emit("Select a measured cell of a row without swapped channels first.")
            return
        if ask:
            from epidote.desktop.widgets.question import ask_whether

            words = (
                "Connect output 1 to the unit's second input and output 2 to its first input, and swap the unit's"
                " outputs in the same way. A new row with the condition “wiring = swapped” is then measured with the"
                " same settings."
            )
            ask_whether(
                self._host.widget,
                "Measure with channels swapped",
                words,
                "Measure",
                lambda go: self.swap_channels(ask=False) if go else None,
            )
            return
        conditions = {**subject.conditions, "wiring": "swapped"}
        overview = self._session.overview
        if overview:
            there = next(
                (s for s in overview.subjects if s.unit == subject.unit and dict(s.conditions) == conditions), None
            )
        else:
            there = None
        if there is not None:
            self._session.runs.measure([RunRequest((there.id, column.id), run.settings)])
            return

        def made(_: Any, new: int) -> None:
            from PySide6.QtCore import QTimer

            QTimer.singleShot(
                0, self._selection, lambda: self._session.runs.measure([RunRequest((new, column.id), run.settings)])
            )

        edits.add_row(self._session, subject.unit, conditions, subject.device, subject.id, then=made)
