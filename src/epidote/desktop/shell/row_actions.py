"""The commands on rows, columns and runs that ask something first, or that need more than one edit."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt

from epidote.core.results.kinds import reading_kind
from epidote.desktop.pages.matrix.matrix_table.model import (
    HEADLINE,
    ShownReading,
    headline_name,
    headline_text,
    shown_reading,
)
from epidote.desktop.state import edits
from epidote.desktop.state.run_queue import RunRequest
from epidote.desktop.widgets.plain import button_text
from epidote.desktop.widgets.wording import LOADING
from epidote.study.models import Subject, Unit

_MOST_LOOKED_AT = 200  # runs of a column, for which readings it has

if TYPE_CHECKING:
    from PySide6.QtWidgets import QMenu

    from epidote.desktop.shell.window_port import WindowPort
    from epidote.study.models import RunSummary
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
            v, unit, sets = dialog.values(), dialog.unit(), dialog.condition_sets()
            if unit is None:
                new = Unit(0, v["maker"], v["model"], v["serial"], v["firmware"], v["notes"])
                edits.add_unit_with_rows(self.session, new, sets, v["device"])
            else:
                edits.add_rows(self.session, unit, sets, v["device"], None)

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
            then=lambda d: edits.add_rows(self.session, unit, d.condition_sets(), d.values()["device"], subject.id),
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
        """Show the selected rows in the graph, or leave them out, as the current one is not now."""
        subject = self.matrix.selection.current_subject()
        if subject is not None:
            edits.show_rows(self.session, self.matrix.selection.selected_subjects(), not subject.shown)

    def delete_row(self) -> None:
        """Delete the selected rows; the baseline stays."""
        subjects = [s for s in self.matrix.selection.selected_subjects() if not s.is_baseline]
        if subjects:
            edits.delete_rows(self.session, subjects)

    def move_row(self, by: int) -> None:
        """Move the current row up or down by one place."""
        self.matrix.pane.move_current(by)

    def move_column(self, by: int) -> None:
        """Move the current column left or right by one place."""
        section = self.matrix.table.currentIndex().column()
        if 1 <= section + by < self.matrix.model.columnCount():
            self.matrix.pane.move_column(section, section + by if by < 0 else section + by + 1)

    def delete_run(self) -> None:
        run = self.matrix.selection.current_run()
        if run is not None:
            edits.delete_run(self.session, run.id)

    def add_column(self) -> None:
        """Choose a procedure and its settings for a new column."""

        def ask(study: Study) -> tuple[dict[str, Any], Any]:
            from epidote.core.chain.chain_toml import chain_from_toml
            from epidote.core.procedures.registry import procedures

            return procedures(), chain_from_toml(study.chain_toml)

        def show(answer: tuple[dict[str, Any], Any]) -> None:
            from epidote.desktop.windows.procedure_chooser import ProcedureChooser

            available, chain = answer
            dialog = ProcedureChooser(
                self.window.widget, available, chain, self.window.theme, self._reference_settings()
            )
            if dialog.exec():
                edits.add_column(self.session, dialog.chosen(), dialog.values())

        self.session.ask(ask, show)

    def _reference_settings(self) -> dict[str, Any]:
        """Return the settings of the reference row's runs, by the key of the procedure."""
        overview = self.session.overview
        if overview is None:
            return {}
        runs = overview.runs_of_row(overview.reference)
        return {run.procedure: dict(run.settings) for run in runs}

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
                self.queue_baseline()

        ask_whether(self.window.widget, "Measure baseline", words, "Measure", answered)

    def queue_baseline(self, *, only_present: bool = False) -> None:
        """Measure the baseline row in every column that fits, and in new ones unless ``only_present``."""
        session = self.session

        def ask(study: Study) -> list[RunRequest]:
            from epidote.measurement.request import baseline_orders

            return [
                RunRequest((o.subject_id, o.column_id), o.settings.model_dump(mode="json"))
                for o in baseline_orders(study, only_present=only_present)
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

    def fill_history(self, menu: QMenu) -> None:
        """List the earlier runs of the current cell; each can be shown beside the latest."""
        menu.clear()
        selection = self.matrix.selection
        subject, column, latest = selection.current_subject(), selection.current_column(), selection.current_run()
        if subject is None or column is None or latest is None:
            menu.addAction("No run in this cell").setEnabled(False)
            return

        def show(runs: tuple[RunSummary, ...]) -> None:
            menu.clear()
            for run in runs:
                words = f"{run.made.astimezone():%d %b %Y %H:%M:%S}, {headline_text(run)} {headline_name(run)}"
                if run.id == latest.id:
                    menu.addAction(f"{words} (latest)").setEnabled(False)
                    continue
                action = menu.addAction(button_text(words), partial(selection.toggle_earlier, run))
                action.setCheckable(True)
                action.setChecked(run.id in selection.earlier_runs())

        menu.addAction(LOADING).setEnabled(False)
        self.session.ask(lambda study: study.runs_of(subject.id, column.id), show)

    def fill_headline(self, menu: QMenu) -> None:
        """List the readings of which one can stand in the cells of the current column."""
        from epidote.core.procedures.registry import procedure, reading_titles

        menu.clear()
        column, overview = self.matrix.selection.current_column(), self.session.overview
        if column is None or overview is None:
            menu.addAction("No column selected").setEnabled(False)
            return
        titles = reading_titles(procedure(column.procedure))
        cells = [cell for cell in overview.runs if cell[1] == column.id][:_MOST_LOOKED_AT]
        present = {r.key for cell in cells for r in overview.runs[cell].readings}
        chosen = shown_reading(overview, column.id)
        usual = menu.addAction("Usual reading", partial(self._set_headline, column.id, ""))
        usual.setCheckable(True)
        usual.setChecked(chosen is None)
        menu.addSeparator()
        for key in (k for k in titles if k in present):
            wanted = ShownReading(key, titles[key], reading_kind(key).shown)
            action = menu.addAction(
                button_text(titles[key]), partial(self._set_headline, column.id, wanted.as_setting())
            )
            action.setCheckable(True)
            action.setChecked(chosen is not None and chosen.key == key)

    def _set_headline(self, column_id: int, text: str) -> None:
        name = f"{HEADLINE} {column_id}"
        edits.set_setting(self.session, "Set main reading", name, self.session.setting(name), text)
