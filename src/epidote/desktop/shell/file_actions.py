"""The commands that bring files in and out: exports, the clipboard, zipped studies, curves as text."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QInputDialog

from epidote.desktop.state import edits
from epidote.desktop.theme import PAPER
from epidote.desktop.widgets.question import ask_whether

if TYPE_CHECKING:
    from epidote.desktop.shell.window_port import WindowPort
    from epidote.study.interchange.curve_text import TextOptions
    from epidote.study.models import Subject
    from epidote.study.store import Study

AUDIO_FILES = (
    "Audio and video files (*.wav *.flac *.aif *.aiff *.ogg *.mp3 *.m4a *.mka *.opus *.mkv *.mp4 *.mov *.webm)"
)


class FileActions:
    """Actions that read or write files, or the clipboard."""

    def __init__(self, window: WindowPort) -> None:
        self.window, self.session, self.matrix = window, window.session, window.matrix

    def export(self) -> None:
        """Export the graph as picture, drawing or document; its curves or the readings as numbers."""
        if not self.matrix.built or self.matrix.graph_panel.graph.figure() is None:
            self.window.say("Nothing to export. Select one or more measured cells first.")
            return
        from epidote.desktop.pages.matrix.exporters import EXPORTERS, named

        usual = str(Path.home() / f"{self.window.study_title}{EXPORTERS[0].ending}")
        name, kind = QFileDialog.getSaveFileName(
            self.window.widget, "Export", usual, ";;".join(e.pattern for e in EXPORTERS)
        )
        if name:
            self.matrix.exchange.export(named(Path(name), kind))

    def copy_graph(self) -> None:
        """Copy the graph with its conditions to the clipboard, as a picture."""
        from epidote.desktop.plotting.export import picture_of

        if self.matrix.built:
            graph = self.matrix.graph_panel.graph
        else:
            graph = None
        if graph is not None:
            figure, shown = (graph.figure(), graph.view())
        else:
            figure, shown = (None, None)
        if figure is None or shown is None:
            self.window.say("No graph to copy. Select one or more measured cells first.")
            return

        def done(image: Any) -> None:
            QGuiApplication.clipboard().setImage(image)
            self.window.say("Graph copied, with subjects, settings, pins and cautions.")

        self.session.ask(lambda _: picture_of(figure, shown, PAPER), done)

    def copy_table(self) -> None:
        """Copy the readings to the clipboard, tabs between columns."""
        if self.matrix.built:
            self.matrix.readings.copy()
            self.window.say("Readings copied (tab-separated).")

    def zip_study(self, path: Path | None = None) -> None:
        """Write the whole study as one file."""
        if self.session.study is None:
            return
        if path is None:
            name, _ = QFileDialog.getSaveFileName(
                self.window.widget,
                "Export study as ZIP",
                str(Path.home() / f"{self.session.study.path.stem}.zip"),
                "ZIP archives (*.zip)",
            )
            if not name:
                return
            path = Path(name)
        target = path

        def ask(study: Study) -> str:
            from epidote.study.interchange.archive import zip_study

            return f"Study exported to {zip_study(study, target)}, including recordings and pictures."

        self.session.ask(ask, self.session.said.emit)

    def open_zip(self, source: Path | None = None, folder: Path | None = None) -> None:
        """Unpack a zipped study, and open it."""
        if source is None:
            name, _ = QFileDialog.getOpenFileName(
                self.window.widget, "Import study from ZIP", str(Path.home()), "ZIP archives (*.zip)"
            )
            if not name:
                return
            source = Path(name)
        if folder is None:
            into = QFileDialog.getExistingDirectory(
                self.window.widget, "Select a folder to unpack into", str(Path.home())
            )
            if not into:
                return
            folder = Path(into)
        archive, into_folder = source, folder

        def size() -> tuple[int, int]:
            from epidote.study.interchange.archive import MOST_UNPACKED, unpacked_size

            return unpacked_size(archive), MOST_UNPACKED

        def ask(sizes: tuple[int, int]) -> None:
            needed, usual = sizes
            if needed <= usual:
                self._unpack(archive, into_folder, needed)
                return
            words = f"{archive.name} unpacks to {needed / 1e9:.0f} GB. Unpack it only if you know where it comes from."
            go = partial(self._unpack, archive, into_folder, needed)
            ask_whether(
                self.window.widget, "Import study from ZIP", words, "Unpack", lambda wanted: go() if wanted else None
            )

        self.session.aside(size, ask, self.session.failed.emit)

    def _unpack(self, source: Path, folder: Path, most_bytes: int) -> None:
        def opener() -> Study:
            from epidote.study.interchange.archive import unzip_study
            from epidote.study.store import Study

            return Study(unzip_study(source, folder, most_bytes))

        self.session.open(opener)

    def take_curve(self, path: Path | None = None) -> None:
        """Import a response measured elsewhere as a run of the current row."""
        subject = self.matrix.selection.current_subject()
        if subject is None or subject.is_baseline:
            self.window.say("Select the row that the curve belongs to first.")
            return
        if path is None:
            name, _ = QFileDialog.getOpenFileName(
                self.window.widget,
                "Import curve (columns: frequency, level, optional phase)",
                str(Path.home()),
                "Text files (*.txt *.csv *.tsv *.frd);;All files (*)",
            )
            if not name:
                return
            path = Path(name)
        source = path

        def readings(_: Study) -> Any:
            from epidote.study.interchange.curve_text import readings_of_file

            return readings_of_file(source)

        def show(interpretations: Any) -> None:
            from epidote.desktop.widgets.curve_preview import ask_reading

            options = ask_reading(self.window.widget, source.name, interpretations)
            if options is not None:
                self._import_curve(subject, source, options)

        self.session.ask(readings, show)

    def _import_curve(self, subject: Subject, source: Path, options: TextOptions) -> None:
        def ask(study: Study) -> Any:
            from epidote.measurement.offline import import_curve

            return import_curve(study, subject, source, options)

        def done(run: Any) -> None:
            self.session.refresh()
            self.session.said.emit(f"{source.name} imported as run {run.id} of {subject.full_name}.")

        self.session.ask(ask, done)

    def take_recording(self) -> None:
        """Make a recording from elsewhere the run of the current cell."""
        column = self.matrix.selection.current_column()
        if column is not None:
            self.matrix.exchange.take_recording(dict(column.settings))

    def write_stimulus(self) -> None:
        """Write what the current cell plays as a file."""
        column = self.matrix.selection.current_column()
        if column is not None:
            self.matrix.exchange.write_file(dict(column.settings))

    def take_claims(self) -> None:
        """Import published figures of the current row's unit."""
        self.matrix.beside.show("claims")
        self.matrix.beside.claiming.import_csv()

    def choose_recordings(self) -> None:
        """Ask for recordings, and analyse them."""
        names, _ = QFileDialog.getOpenFileNames(
            self.window.widget, "Analyse recordings", str(Path.home()), f"{AUDIO_FILES};;All files (*)"
        )
        if names:
            self.analyse([Path(name) for name in names])

    def analyse(self, paths: list[Path]) -> None:
        """Analyse recordings made elsewhere as a row of their own, in a study for loose recordings if none is open; one
        that the current cell waits for completes its run.
        """
        waiting = self.matrix.exchange.waiting_run() if self.session.writable and len(paths) == 1 else None
        if waiting is not None:
            self.matrix.exchange.attach(waiting, paths[0])
            return
        if not self.session.writable:
            self.window.studies.with_recordings_study(lambda: self._analyse_here(paths))
            return
        self._analyse_here(paths)

    def _analyse_here(self, paths: list[Path]) -> None:
        session, matrix = self.session, self.matrix
        made = edits.add_recording_row(session, paths[0].stem)

        def show(_: Any) -> None:
            session.show_changes()  # so that the matrix has the row
            overview = session.overview
            column = overview.column(made["column"]) if overview is not None and made else None
            if column is not None:
                matrix.selection.select([made["row"]], column.id)
                matrix.exchange.pick_stretch(dict(column.settings), paths)

        session.ask(lambda _: None, show)  # asked after the edit, on the same thread

    def ask_person(self, name: str | None = None) -> None:
        """Whose name goes with runs and notes from now on."""
        before = self.session.setting("person")
        if name is None:
            shown = before or (self.session.study.person if self.session.study is not None else "")
            name, go = QInputDialog.getText(
                self.window.widget, "Operator", "Name saved with new runs, notes and pictures", text=shown
            )
            if not go:
                return
        edits.set_setting(self.session, "Set operator", "person", before, name.strip())
