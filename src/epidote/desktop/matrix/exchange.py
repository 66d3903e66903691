"""What leaves and enters the Matrix page as files: pictures, CSV, stimuli for players elsewhere, recordings made elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from epidote.core.errors import EpidoteError

if TYPE_CHECKING:
    from epidote.desktop.matrix.page import MatrixPage
    from epidote.study.models import RunSummary
    from epidote.study.store import Study


class Exchange:
    def __init__(self, page: MatrixPage) -> None:
        self._page, self._session = page, page.session

    def export(self, path: Path) -> None:
        """By the ending: PNG or SVG of the graph, CSV of the curves in view; "… readings.csv" of the readings."""
        from epidote.audio.files import write_whole
        from epidote.desktop.plot.export import export_picture
        from epidote.study.export import curves_csv, readings_csv

        page = self._page
        graph = page.graph_panel.graph
        cells = [(s.full_name, r) for s, r in page.chosen_cells() if r is not None]
        try:
            if path.suffix.lower() in (".png", ".svg"):
                figure, shown = graph.figure(), graph.view()
                if figure is not None and shown is not None:
                    export_picture(path, figure, shown, page.theme)
            elif path.stem.endswith("readings"):
                write_whole(path, readings_csv(cells).encode())
            else:
                write_whole(path, curves_csv([(n, r, list(page.look.in_view(r.id))) for n, r in cells]).encode())
        except EpidoteError as error:
            page.failed.emit(str(error))

    def write_file(self, settings: dict[str, Any], path: Path | None = None) -> None:
        """The run on offer as a sound file between marks, for a player of its own; asks where to when no path is given."""
        page = self._page
        subject, column = page.current_subject(), page.current_column()
        if subject is None or column is None:
            return
        if path is None:
            from PySide6.QtWidgets import QFileDialog

            name, _ = QFileDialog.getSaveFileName(
                page, "Write as a sound file", str(Path.home() / f"{column.title}.wav"), "Sound (*.wav *.flac)"
            )
            if not name:
                return
            path = Path(name)
        target = path if path.suffix.lower() in (".wav", ".flac") else path.with_name(path.name + ".wav")

        def work(study: Study) -> str:
            from epidote.conductor import study_chain
            from epidote.core.procedures.base import make_settings, procedure
            from epidote.elsewhere import describe, marked_file, write_described

            made = make_settings(procedure(column.procedure).Settings, settings)
            file = marked_file(column.procedure, made, study_chain(study, subject))
            write_described(target, file.samples(), file.rate, "24", describe(column.procedure, made, file))
            return (
                f"{target.name}: {file.frames / file.rate:.1f} s. Play it through the unit, record from before its beginning to after its end, and take that "
                "recording in here with the same settings."
            )

        self._session.ask(work, self._session.said.emit)

    def take_recording(self, settings: dict[str, Any], path: Path | None = None) -> None:
        """A recording of the file that ``write_file`` wrote becomes the cell's run; asks for it when no path is given."""
        page = self._page
        subject, column = page.current_subject(), page.current_column()
        if subject is None or column is None:
            return
        if path is None:
            from PySide6.QtWidgets import QFileDialog

            name, _ = QFileDialog.getOpenFileName(page, "A recording of the written file", str(Path.home()), "Sound (*.wav *.flac)")
            if not name:
                return
            path = Path(name)
        source = path

        def work(study: Study) -> RunSummary:
            from epidote.conductor import Order, study_chain
            from epidote.core.procedures.base import make_settings, procedure
            from epidote.elsewhere import take_in

            made = make_settings(procedure(column.procedure).Settings, settings)
            return take_in(study, Order(subject.id, column.id, column.procedure, made, study_chain(study, subject)), source)

        def done(run: RunSummary) -> None:
            self._session.refresh()
            clock = next((r for r in run.readings if r["key"] == "clock_offset"), None)
            if clock is not None:
                self._session.said.emit(
                    f"{source.name} ran {clock['value']:+.4f} ppm (±{2 * (clock['spread'] or 0):.2g}) against the file; that was put right first."
                )

        self._session.in_cell((subject.id, column.id), work, done)
