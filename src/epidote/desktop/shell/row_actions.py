"""The commands on rows, columns and runs that ask something first, or that need more than one edit."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt

from epidote.desktop.state import edits
from epidote.desktop.state.run_queue import RunRequest
from epidote.study.models import Subject

if TYPE_CHECKING:
    from epidote.desktop.shell.window_port import WindowPort
    from epidote.study.store import Study


class RowActions:
    """Works on what is chosen on the Matrix page of its window."""

    def __init__(self, window: WindowPort) -> None:
        self.window, self.session, self.matrix = window, window.session, window.matrix

    def _row_dialog(self, start: Subject | None, *, duplicate: bool, then: Any) -> None:
        from epidote.desktop.widgets.dialogs import RowDialog

        def show(units: Any) -> None:
            def with_devices(devices: list[tuple[str, str]]) -> None:
                dialog = RowDialog(self.window.widget, units, devices, start, duplicate=duplicate)
                if dialog.exec():
                    then(dialog)

            self.session.find_devices(with_devices)

        self.session.ask(lambda study: study.units(), show)

    def add_row(self) -> None:
        def then(dialog: Any) -> None:
            v, unit = dialog.values(), dialog.unit()
            if unit is None:
                edits.add_unit_with_row(
                    self.session,
                    v["maker"],
                    v["model"],
                    v["serial"],
                    v["firmware"],
                    notes=v["notes"],
                    conditions=v["conditions"],
                    device=v["device"],
                )
            else:
                edits.add_row(self.session, unit, v["conditions"], v["device"], None)

        self._row_dialog(None, duplicate=False, then=then)

    def change_row(self) -> None:
        subject = self.matrix.selection.current_subject()
        if subject is None or subject.unit is None:
            return
        unit = subject.unit

        def then(dialog: Any) -> None:
            v = dialog.values()
            after = replace(
                unit, maker=v["maker"], model=v["model"], serial=v["serial"], firmware=v["firmware"], notes=v["notes"]
            )
            if after != unit:
                edits.change_unit(self.session, unit, after)
            if (v["conditions"], v["device"]) != (dict(subject.conditions), subject.device):
                edits.change_row(
                    self.session, subject, f"Edit {subject.full_name}", conditions=v["conditions"], device=v["device"]
                )

        self._row_dialog(subject, duplicate=False, then=then)

    def duplicate_row(self) -> None:
        """Add a row that differs in one condition; the reference's procedures are offered for it in the same menu."""
        subject = self.matrix.selection.current_subject()
        if subject is None or subject.unit is None:
            self.window.say("Select a unit's row first. The baseline cannot be duplicated.")
            return
        unit = subject.unit
        self._row_dialog(
            subject,
            duplicate=True,
            then=lambda d: edits.add_row(
                self.session, unit, d.values()["conditions"], d.values()["device"], subject.id
            ),
        )

    def repeat_reference(self) -> None:
        subject, overview = self.matrix.selection.current_subject(), self.session.overview
        if subject is None or overview is None:
            return
        if overview.reference is None:
            self.window.say("No reference row. Set one with Ctrl+B, then select the row to measure like it.")
        elif subject.id == overview.reference:
            self.window.say("This row is the reference. Select the row to measure like it.")
        else:
            self.matrix.repeat_reference_on(subject)

    def toggle_reference(self) -> None:
        subject, overview = self.matrix.selection.current_subject(), self.session.overview
        if subject is not None and overview is not None:
            edits.set_reference(self.session, None if overview.reference == subject.id else subject)

    def is_reference(self) -> bool:
        """Whether the current row is the reference."""
        subject, overview = self.matrix.selection.current_subject(), self.session.overview
        return subject is not None and overview is not None and overview.reference == subject.id

    def is_shown(self) -> bool:
        """Whether the current row is drawn in the graph."""
        subject = self.matrix.selection.current_subject()
        return subject is not None and subject.shown

    def toggle_row(self) -> None:
        subject = self.matrix.selection.current_subject()
        if subject is not None:
            edits.change_row(
                self.session,
                subject,
                f"{'Hide' if subject.shown else 'Show'} {subject.full_name}",
                shown=not subject.shown,
            )

    def delete_row(self) -> None:
        subject = self.matrix.selection.current_subject()
        if subject is not None and not subject.is_baseline:
            edits.delete_row(self.session, subject)

    def delete_run(self) -> None:
        run = self.matrix.selection.current_run()
        if run is not None:
            edits.delete_run(self.session, run.id)

    def add_column(self) -> None:
        from PySide6.QtWidgets import QInputDialog

        from epidote.core.procedures.registry import procedures
        from epidote.desktop.widgets.dialogs import ModelDialog

        available = procedures()
        titles = {p.title: key for key, p in available.items()}
        title, chosen = QInputDialog.getItem(self.window.widget, "Add column", "Procedure", sorted(titles), 0, False)
        if chosen:
            proc = available[titles[title]]
            dialog = ModelDialog(
                self.window.widget,
                f"Add column: {title}",
                "Add",
                proc.Settings,
                {},
                note="Settings for new measurements in this column.",
            )
            if dialog.exec():
                edits.add_column(self.session, titles[title], dialog.form.values())

    def delete_column(self) -> None:
        column = self.matrix.selection.current_column()
        if column is not None:
            edits.delete_column(self.session, column)

    def measure_baseline(self) -> None:
        """Wire output to input, then every procedure that says something about a chain, in one go."""
        from epidote.desktop.widgets.question import ask_whether

        if not self.session.writable:
            return
        words = (
            "Disconnect the unit, probe and load. Connect output 1 to input 1 and output 2 to input 2 (loopback). Every"
            " applicable procedure is then measured on the chain itself. New runs are compared with this baseline."
        )

        def answered(go: bool) -> None:
            if go:
                self._queue_baseline()

        ask_whether(self.window.widget, "Measure baseline", words, "Measure", answered)

    def _queue_baseline(self) -> None:
        session = self.session

        def ask(study: Study) -> list[RunRequest]:
            from epidote.measurement.request import baseline_orders

            return [
                RunRequest((o.subject_id, o.column_id), o.settings.model_dump(mode="json"))
                for o in baseline_orders(study)
            ]

        def then(requests: list[RunRequest]) -> None:
            session.refresh()
            session.runs.measure(requests)
            self.window.show_page("Matrix")

        session.ask(ask, then)

    def align_paths(self) -> None:
        """Align the two paths of the chosen run by hand."""
        from epidote.core.procedures.registry import procedure

        window = self.window
        cell = next(
            ((s, r) for s, r in window.matrix.selection.selected_runs() if procedure(r.procedure).aligns_paths),
            None,
        )
        if cell is None:
            window.say("Select a measured cell in a “Path comparison” column first.")
            return
        from epidote.desktop.windows.align_paths.window import AlignWindow

        dialog = AlignWindow(window.session, window.theme, cell[0], cell[1], window.widget)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()

    def show_latencies(self) -> None:
        """Every measured latency by device, buffer and rate."""
        from epidote.desktop.windows.latency_window import LatencyWindow

        dialog = LatencyWindow(self.session, self.window.theme, self.window.widget)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
