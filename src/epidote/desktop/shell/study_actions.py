"""The commands that open and make studies: new, recent, the demo."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QStandardPaths
from PySide6.QtWidgets import QFileDialog, QMenu

from epidote.desktop.state.recent_studies import recent_studies, remember_study
from epidote.desktop.state.run_queue import RunRequest
from epidote.desktop.widgets.plain import button_text
from epidote.study.store import SUFFIX

if TYPE_CHECKING:
    from epidote.desktop.shell.window_port import WindowPort
    from epidote.study.store import Study

RECORDINGS_TITLE = "Recordings"  # of the study that takes recordings dropped while none is open


def studies_folder() -> Path:
    """Return where new studies are offered: a folder among the user's documents, made when it is first needed."""
    documents = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.DocumentsLocation)
    return Path(documents or Path.home()) / "Epidote"


class StudyActions:
    """Opens and makes studies for its window."""

    def __init__(self, window: WindowPort) -> None:
        self.window, self.session = window, window.session

    def new_study(self) -> None:
        folder = studies_folder()
        shown = folder if folder.is_dir() else Path.home()
        name, _ = QFileDialog.getSaveFileName(
            self.window.widget, "New study", str(shown / f"Study{SUFFIX}"), f"Studies (*{SUFFIX})"
        )
        if name:
            self.session.create(Path(name), Path(name).stem)

    def create_numbered(self, title: str, then: Callable[[], None]) -> None:
        """Create a study in the folder for studies, numbered where the name is taken, and go on."""
        folder = studies_folder()

        def opener() -> Study:
            from epidote.measurement.request import new_study

            folder.mkdir(parents=True, exist_ok=True)
            names = (title, *(f"{title} {n}" for n in range(2, 1000)))
            name = next(n for n in names if not (folder / f"{n}{SUFFIX}").exists())
            return new_study(folder / f"{name}{SUFFIX}", name)

        self.session.open(opener, then)

    def choose_study(self) -> None:
        name = QFileDialog.getExistingDirectory(
            self.window.widget, f"Open study: select a folder ending in {SUFFIX}", str(self._last_folder())
        )
        if name:
            self.session.open_path(Path(name))

    def _last_folder(self) -> Path:
        return next((path.parent for path in recent_studies() if path.parent.is_dir()), Path.home())

    def remember(self) -> None:
        """Put the open study first among the recent ones."""
        if self.session.study is not None:
            remember_study(self.session.study.path)

    def fill_recent(self, menu: QMenu) -> None:
        """List the recent studies that are still there."""
        menu.clear()
        for path in recent_studies():
            if path.is_dir():
                action = menu.addAction(button_text(path.stem), partial(self.session.open_path, path))
                action.setStatusTip(str(path))
        if menu.isEmpty():
            menu.addAction("No study was open yet").setEnabled(False)

    def with_recordings_study(self, then: Callable[[], None]) -> None:
        """Open the study for loose recordings, made the first time, and go on."""

        def opener() -> Study:
            from epidote.study.store import Study, create_study

            path = studies_folder() / f"{RECORDINGS_TITLE}{SUFFIX}"
            if path.exists():
                return Study(path)
            path.parent.mkdir(parents=True, exist_ok=True)
            return create_study(path, RECORDINGS_TITLE)

        self.session.open(opener, then)

    def open_demo(self) -> None:
        """Open the demo study; what is not measured yet is measured while the user watches."""

        def where() -> Path:
            from epidote.demo.scenario import demo_path

            return demo_path()

        def opener() -> Study:
            from epidote.demo.scenario import open_demo

            return open_demo(where())

        def found(path: Path) -> None:
            if self.session.study is not None and self.session.study.path == path.absolute():
                self.window.show_page("Matrix")
                self._measure_demo()
            else:
                self.session.open(opener, self._measure_demo)

        self.session.aside(where, found, self.session.failed.emit)

    def _measure_demo(self) -> None:
        session = self.session

        def ask(study: Study) -> list[RunRequest]:
            from epidote.demo.scenario import missing_orders, telling_first

            orders = telling_first(study, missing_orders(study))
            return [
                RunRequest(
                    (o.subject_id, o.column_id),
                    o.settings.model_dump(mode="json"),
                    at_once=True,
                    seed=1 + orders[:n].count(o),
                )
                for n, o in enumerate(orders)
            ]

        def then(requests: list[RunRequest]) -> None:
            if not requests:
                return
            self.window.matrix.select_first_rows()
            session.runs.measure(requests)
            session.runs.after(self._hear_demo)
            session.runs.after(self._run_line)
            session.said.emit(
                f"Measuring {len(requests)} cells with simulated devices, nothing is played. Look around meanwhile;"
                " Esc stops, and opening the demo again goes on."
            )

        if session.writable:
            session.ask(ask, then)

    def _hear_demo(self) -> None:
        """Have the demo's simulated listener take its test, once the cells are measured."""
        study = self.session.study
        if study is None:
            return

        def work() -> None:
            from epidote.demo.listening import hear_demo

            hear_demo(study)

        self.session.compute(work, lambda _: self.session.refresh(), self.session.failed.emit)

    def _run_line(self) -> None:
        """Have the demo's line of units measured, after everything else."""
        stopped = self.session.runs.is_cancelled()

        def work(study: Study) -> None:
            from epidote.demo.line import run_line

            run_line(study, self.session.said.emit, cancelled=stopped)

        self.session.runs.on_the_bench(work, lambda _: self.session.refresh())
