"""What leaves and enters the Matrix page as files: pictures, CSV, stimuli for players elsewhere, recordings made
elsewhere.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QWidget

from epidote.desktop.pages.matrix.graph.view_state import procedure_named
from epidote.desktop.pages.matrix.matrix_table.model import is_waiting
from epidote.desktop.theme import PAPER
from epidote.desktop.widgets.help_key import listen_for_help

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.exporters import GraphExport
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.desktop.theme import Theme
    from epidote.measurement.request import RunPlan
    from epidote.study.models import Column, RunSummary, Subject
    from epidote.study.store import Study


def _plan(study: Study, subject: Subject, column: Column, settings: Mapping[str, Any]) -> RunPlan:
    """Return the plan of a run in the cell of a row and a column, with these settings."""
    from epidote.core.settings import make_settings
    from epidote.measurement.chain_for_row import chain_for_subject
    from epidote.measurement.request import RunPlan

    made = make_settings(procedure_named(column.procedure).Settings, settings)
    return RunPlan(subject.id, column.id, column.procedure, made, chain_for_subject(study, subject))


class ImportExport:
    """Import and export of the selected cells. window: parent of dialogs; theme: of the window."""

    def __init__(
        self, selection: MatrixSelection, view: GraphViewState, window: QWidget, theme: Callable[[], Theme]
    ) -> None:
        self._selection, self._view, self._session = selection, view, selection.session
        self._window, self._theme = window, theme

    def export(self, path: Path) -> None:
        """Write what is selected as what the path's ending says, on the study's thread (see ``exporters``)."""
        from epidote.desktop.pages.matrix.exporters import EXPORTERS
        from epidote.study.interchange.exporters import exporter_of

        selection = self._to_export()
        exporter = exporter_of(path, EXPORTERS)
        if exporter is None:
            self._selection.failed.emit(
                f"{path.name} has no ending that can be exported to. Nothing was written; use a name that ends in .png"
                " or .csv."
            )
            return

        def work(_: Study) -> str:
            exporter.write(path, selection)
            return f"{path.name} exported."

        self._session.ask(work, self._session.said.emit)

    def _to_export(self) -> GraphExport:
        from epidote.desktop.pages.matrix.exporters import GraphExport
        from epidote.study.interchange.exporters import ExportedRun

        overview = self._session.overview
        graph = self._view.panel.graph
        runs = tuple(
            ExportedRun(
                subject.full_name,
                run,
                tuple(self._view.in_view(run.id)),
                tuple(self._selection.curves_of(run.id)),
                tuple(overview.notes_on(subject, run)) if overview is not None else (),
            )
            for subject, run in self._selection.shown_runs()
        )
        return GraphExport(runs, frozenset(self._view.channels), graph.figure(), graph.view(), PAPER)

    def write_file(self, settings: dict[str, Any], *, path: Path | None = None) -> None:
        """Write the run on offer as a sound file between marks, for a player of its own.

        Ask where to when no path is given.
        """
        subject, column = self._selection.current_subject(), self._selection.current_column()
        if subject is None or column is None:
            return
        target = self._target("Export stimulus file", column, path)
        if target is None:
            return

        def work(study: Study) -> str:
            from epidote.measurement.offline import describe, marked_file, write_with_description

            plan = _plan(study, subject, column, settings)
            file = marked_file(plan.procedure, plan.settings, plan.chain)
            description = describe(plan.procedure, plan.settings, file)
            write_with_description(target, file.samples(), file.rate, "24", description)
            return (
                f"{target.name} exported ({file.frames / file.rate:.1f} s). Play it through the unit, record all of it"
                " with some margin, then import the recording here with the same settings."
            )

        self._session.ask(work, self._session.said.emit)

    def _target(self, title: str, column: Column, path: Path | None) -> Path | None:
        """Return the sound file to write, asked for where no path is given; None where nobody named one."""
        if path is None:
            from PySide6.QtWidgets import QFileDialog

            usual = str(Path.home() / f"{column.title}.wav")
            name, _ = QFileDialog.getSaveFileName(self._window, title, usual, "Audio files (*.wav *.flac)")
            if not name:
                return None
            path = Path(name)
        if path.suffix.lower() in (".wav", ".flac"):
            return path
        return path.with_name(path.name + ".wav")

    def _asked_for(self, title: str) -> Path | None:
        """Return a recording that the user chooses; None where none is chosen."""
        from PySide6.QtWidgets import QFileDialog

        name, _ = QFileDialog.getOpenFileName(self._window, title, str(Path.home()), "Audio files (*.wav *.flac)")
        return Path(name) if name else None

    def take_recording(self, settings: dict[str, Any], *, path: Path | None = None) -> None:
        """Make a recording of the file that ``write_file`` wrote the cell's run.

        Ask for it when no path is given, and where the procedure can do without that file, for the stretch of any
        recording too.
        """
        subject, column = self._selection.current_subject(), self._selection.current_column()
        if subject is None or column is None:
            return
        waiting = self.waiting_run()
        if waiting is not None:
            self.attach(waiting, path)
            return
        if path is None and procedure_named(column.procedure).of_any_recording:
            self.pick_stretch(settings)
            return
        source = path or self._asked_for("Import recording of the stimulus file")
        if source is None:
            return

        def work(study: Study) -> RunSummary:
            from epidote.measurement.offline import import_marked_recording

            return import_marked_recording(study, _plan(study, subject, column, settings), source)

        def done(run: RunSummary) -> None:
            self._session.refresh()
            clock = run.reading("clock_offset")
            if clock is not None:
                self._session.said.emit(
                    f"{source.name}: sample clock {clock.value:+.4f} ppm (±{2 * (clock.spread or 0):.2g}) off the"
                    " stimulus file; corrected before the analysis."
                )

        self._session.runs.in_cell((subject.id, column.id), work, done)

    def waiting_run(self) -> RunSummary | None:
        """Return the current cell's run if its recording is still missing."""
        run = self._selection.current_run()
        if run is not None and is_waiting(run):
            return run
        return None

    def attach(self, run: RunSummary, path: Path | None = None) -> None:
        """Complete a waiting run with its recording; ask for the file when none is given."""
        source = path or self._asked_for("Attach recording to the waiting run")
        if source is None:
            return

        def work(study: Study) -> RunSummary:
            from epidote.measurement.waiting import attach_recording

            return attach_recording(study, run.id, source)

        def done(made: RunSummary) -> None:
            self._session.refresh()
            self._session.said.emit(f"{source.name} attached: run {made.id} is complete.")

        self._session.runs.in_cell((run.subject_id, run.column_id), work, done)

    def write_and_wait(self, settings: dict[str, Any], *, path: Path | None = None) -> None:
        """Write the cell's stimulus file, and let the cell wait for its recording.

        Ask where to when no path is given.
        """
        subject, column = self._selection.current_subject(), self._selection.current_column()
        if subject is None or column is None:
            return
        target = self._target("Export stimulus file, record later", column, path)
        if target is None:
            return

        def work(study: Study) -> RunSummary:
            from epidote.measurement.waiting import await_recording

            return await_recording(study, _plan(study, subject, column, settings), target)

        def done(_: RunSummary) -> None:
            self._session.refresh()
            self._session.said.emit(
                f"{target.name} exported. The cell waits for its recording: drop the file on the window while the cell"
                " is selected."
            )

        self._session.runs.in_cell((subject.id, column.id), work, done)

    def pick_stretch(self, settings: dict[str, Any], files: list[Path] | None = None) -> None:
        """Make a section of recordings made elsewhere the cell's run; ask for the files when none are given."""
        subject, column = self._selection.current_subject(), self._selection.current_column()
        if subject is None or column is None:
            return
        if files is None:
            from PySide6.QtWidgets import QFileDialog

            kinds = (
                "Audio and video files (*.wav *.flac *.aif *.aiff *.ogg *.mp3 *.m4a *.mka *.mkv *.mp4 *.mov"
                " *.webm);;All files (*)"
            )
            names, _ = QFileDialog.getOpenFileNames(
                self._window,
                "Import recordings: one multichannel file or one file per channel",
                str(Path.home()),
                kinds,
            )
            if not names:
                return
            files = [Path(n) for n in names]
        from epidote.desktop.windows.segment_dialog import SegmentDialog

        cell = subject.id, column.id

        def taken(recordings: Any, words: str) -> None:
            def work(study: Study) -> RunSummary:
                from epidote.measurement.offline import import_segment

                existing = procedure_named(column.procedure).for_existing_sound(settings)
                return import_segment(study, _plan(study, subject, column, existing), recordings, words)

            self._session.runs.in_cell(cell, work, lambda _: self._session.refresh())

        dialog = SegmentDialog(self._theme(), files, self._window.window())
        listen_for_help(dialog)
        dialog.taken.connect(taken)
        dialog.marked.connect(lambda: self.take_recording(settings, path=files[0]))
        dialog.open()
