"""What leaves and enters the Matrix page as files: pictures, CSV, stimuli for players elsewhere, recordings made elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from epidote.desktop.pages.matrix.graph.view_state import carried_of

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.exporters import Selection
    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.study.models import RunSummary
    from epidote.study.store import Study


class Exchange:
    def __init__(self, page: MatrixPage) -> None:
        self._page, self._session = page, page.session

    def export(self, path: Path) -> None:
        """Write what is selected as what the path's ending says, on the study's thread (see ``exporters``)."""
        from epidote.desktop.pages.matrix.exporters import exporter_of

        selection = self._selection()
        exporter = exporter_of(path)
        if exporter is None:
            self._page.failed.emit(f"{path.name} has no ending that can be exported to. Nothing was written; use a name that ends in .png or .csv.")
            return

        def work(_: Study) -> str:
            exporter.write(path, selection)
            return f"{path.name} exported."

        self._session.ask(work, self._session.said.emit)

    def _selection(self) -> Selection:
        from epidote.desktop.pages.matrix.exporters import SelectedRun, Selection

        page, overview = self._page, self._session.overview
        graph = page.graph_panel.graph
        runs = tuple(
            SelectedRun(
                subject.full_name, run, tuple(page.look.in_view(run.id)), tuple(page.curves_of(run.id)),
                tuple(overview.notes_on(subject, run)) if overview is not None else (),
            )
            for subject, run in page.chosen_cells()
            if run is not None
        )  # fmt: skip
        return Selection(runs, frozenset(page.look.channels), graph.figure(), graph.view(), page.theme)

    def write_file(self, settings: dict[str, Any], path: Path | None = None) -> None:
        """The run on offer as a sound file between marks, for a player of its own; asks where to when no path is given."""
        page = self._page
        subject, column = page.current_subject(), page.current_column()
        if subject is None or column is None:
            return
        if path is None:
            from PySide6.QtWidgets import QFileDialog

            name, _ = QFileDialog.getSaveFileName(
                page, "Export stimulus file", str(Path.home() / f"{column.title}.wav"), "Audio files (*.wav *.flac)"
            )
            if not name:
                return
            path = Path(name)
        target = path if path.suffix.lower() in (".wav", ".flac") else path.with_name(path.name + ".wav")

        def work(study: Study) -> str:
            from epidote.core.procedures.protocol import procedure
            from epidote.core.settings import make_settings
            from epidote.measurement.offline import describe, marked_file, write_with_description
            from epidote.measurement.runner import chain_for_subject

            made = make_settings(procedure(column.procedure).Settings, settings)
            file = marked_file(column.procedure, made, chain_for_subject(study, subject))
            write_with_description(target, file.samples(), file.rate, "24", describe(column.procedure, made, file))
            return (
                f"{target.name} exported ({file.frames / file.rate:.1f} s). Play it through the unit, record all of it with some margin, then import the "
                "recording here with the same settings."
            )

        self._session.ask(work, self._session.said.emit)

    def take_recording(self, settings: dict[str, Any], path: Path | None = None) -> None:
        """A recording of the file that ``write_file`` wrote becomes the cell's run; asks for it when no path is given, and where the
        procedure can do without that file, for the stretch of any recording too."""
        page = self._page
        subject, column = page.current_subject(), page.current_column()
        if subject is None or column is None:
            return
        if path is None and carried_of(column.procedure).of_any_recording:
            self.pick_stretch(settings)
            return
        if path is None:
            from PySide6.QtWidgets import QFileDialog

            name, _ = QFileDialog.getOpenFileName(page, "Import recording of the stimulus file", str(Path.home()), "Audio files (*.wav *.flac)")
            if not name:
                return
            path = Path(name)
        source = path

        def work(study: Study) -> RunSummary:
            from epidote.core.procedures.protocol import procedure
            from epidote.core.settings import make_settings
            from epidote.measurement.offline import import_marked_recording
            from epidote.measurement.runner import RunPlan, chain_for_subject

            made = make_settings(procedure(column.procedure).Settings, settings)
            return import_marked_recording(study, RunPlan(subject.id, column.id, column.procedure, made, chain_for_subject(study, subject)), source)

        def done(run: RunSummary) -> None:
            self._session.refresh()
            clock = next((r for r in run.readings if r["key"] == "clock_offset"), None)
            if clock is not None:
                self._session.said.emit(
                    f"{source.name}: sample clock {clock['value']:+.4f} ppm (±{2 * (clock['spread'] or 0):.2g}) off the stimulus file; corrected before the analysis."
                )

        self._session.runs.in_cell((subject.id, column.id), work, done)

    def pick_stretch(self, settings: dict[str, Any], files: list[Path] | None = None) -> None:
        """A stretch of recordings made elsewhere becomes the cell's run; asks for the files when none are given."""
        page = self._page
        subject, column = page.current_subject(), page.current_column()
        if subject is None or column is None:
            return
        if files is None:
            from PySide6.QtWidgets import QFileDialog

            kinds = "Audio and video files (*.wav *.flac *.aif *.aiff *.ogg *.mp3 *.m4a *.mka *.mkv *.mp4 *.mov *.webm);;All files (*)"
            names, _ = QFileDialog.getOpenFileNames(
                page, "Import recordings: one multichannel file or one file per channel", str(Path.home()), kinds
            )
            if not names:
                return
            files = [Path(n) for n in names]
        from epidote.desktop.windows.segment_dialog import StretchDialog

        cell = subject.id, column.id

        def taken(recordings: Any, words: str) -> None:
            def work(study: Study) -> RunSummary:
                from epidote.core.procedures.protocol import procedure
                from epidote.core.settings import make_settings
                from epidote.measurement.offline import import_segment
                from epidote.measurement.runner import RunPlan, chain_for_subject

                carried = procedure(column.procedure)
                nothing = {"stimulus": "nothing"} if carried.key == "paths" else {}
                made = make_settings(carried.Settings, {**settings, **nothing})
                return import_segment(study, RunPlan(*cell, column.procedure, made, chain_for_subject(study, subject)), recordings, words)

            self._session.runs.in_cell(cell, work, lambda _: self._session.refresh())

        dialog = StretchDialog(page.theme, files, page.window())
        dialog.taken.connect(taken)
        dialog.marked.connect(lambda: self.take_recording(settings, files[0]))
        dialog.open()
