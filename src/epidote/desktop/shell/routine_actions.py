"""Commands about routines: made of a row, edited, brought in and out; passes exported; studies merged."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QFileDialog

from epidote.desktop.state import edits
from epidote.desktop.widgets.dialogs import FormDialog

if TYPE_CHECKING:
    from epidote.core.routine.model import Routine
    from epidote.desktop.shell.window_port import WindowPort
    from epidote.measurement.routine.storage import StoredRoutine
    from epidote.study.merge import MergeReport
    from epidote.study.store import Study

PAGE = "Routine"
_TOML = "Routine (*.toml)"
# by the ending of the file's name, in the order in which they are offered
_PASS_FILES = {
    "Spreadsheet (*.xlsx)": ".xlsx",
    "CSV (*.csv)": ".csv",
    "JSON Lines (*.jsonl)": ".jsonl",
    "JUnit XML (*.xml)": ".xml",
}


class RoutineActions:
    """Acts on the current row, and on the routine that the Routine page shows."""

    def __init__(self, window: WindowPort, present: Callable[[], Routine | None]) -> None:
        """present: returns the routine in view."""
        self.window, self.session = window, window.session
        self._present = present

    # -- what can be done ------------------------------------------------------------------------------

    def why_no_routine(self) -> str:
        """Say why there is no routine to act on; "" where there is one."""
        if self.present() is None:
            return "No routine. Select a measured row and use Matrix > Create routine from row, or import one."
        return ""

    def present(self) -> StoredRoutine | None:
        """Return the routine in view, else the study's first."""
        from epidote.measurement.routine.storage import routines_of

        overview = self.session.overview
        if overview is None:
            return None
        there = routines_of(overview.entries)
        shown = self._present()
        return next((s for s in there if s.routine == shown), there[0] if there else None)

    # -- making and editing ----------------------------------------------------------------------------

    def make_of_row(self) -> None:
        """Make a routine of the columns of the current row, and open it for editing."""
        row, overview = self.window.matrix.selection.current_subject(), self.session.overview
        if row is None or overview is None:
            return
        dialog = FormDialog(self.window.widget, "Make routine of row", "Make routine")
        dialog.setProperty("help", "make-a-routine")
        dialog.explain(
            f"The measured columns of “{row.full_name}” become the steps of the routine, in this order. Limits"
            " are created around this"
            " row; replace them by limits from good units in the editor."
        )
        name = dialog.line("Name", f"{row.unit.name if row.unit else row.name} check")
        dialog.check()
        if not dialog.exec():
            return
        title = name.text().strip() or row.name

        def make(study: Study) -> Routine:
            from epidote.measurement.routine.making import LimitWish, routine_from_row

            return routine_from_row(study, row, title, LimitWish())

        self.session.ask(make, lambda routine: self._open_editor(routine, None))

    def edit(self) -> None:
        """Edit the routine in view."""
        stored = self.present()
        if stored is not None:
            self._open_editor(stored.routine, stored)

    def _open_editor(self, routine: Routine, stored: StoredRoutine | None) -> None:
        from epidote.desktop.windows.routine_editor.window import RoutineEditor
        from epidote.measurement.chain_for_row import chain_of_study

        overview = self.session.overview
        if overview is None:
            return
        editor = RoutineEditor(self.session, self.window.widget, routine, chain_of_study(overview.settings))
        if editor.exec():
            self._keep(editor.routine, stored)

    def _keep(self, routine: Routine, stored: StoredRoutine | None) -> None:
        """Keep a routine as an edit that can be undone, and show it."""
        from epidote.measurement.routine.storage import KIND, routine_data, routines_of

        overview = self.session.overview
        if overview is None:
            return
        if stored is None:
            same = [s for s in routines_of(overview.entries) if s.routine.name == routine.name]
            stored = same[0] if same else None
        data: dict[str, Any] = routine_data(routine)
        if stored is None:
            edits.add_entry(self.session, KIND, data, "Add routine")
        elif stored.routine != routine:
            edits.change_entry(self.session, stored.entry, routine_data(stored.routine), data, "Edit routine")
        self.window.show_page(PAGE)

    # -- files -----------------------------------------------------------------------------------------

    def take_in(self) -> None:
        """Bring a routine file into the study."""
        path, _ = QFileDialog.getOpenFileName(self.window.widget, "Import routine", str(Path.home()), _TOML)
        if path:
            self.take_file(Path(path))

    def take_file(self, path: Path) -> None:
        """Read a routine file and keep it."""

        def read() -> Routine:
            from epidote.audio.files.sound_file import read_text
            from epidote.core.routine.text import routine_from_toml

            return routine_from_toml(read_text(str(path)), path.name)

        self.session.aside(read, lambda routine: self._keep(routine, None), self.window.say)

    def write(self) -> None:
        """Write the routine in view to a file."""
        stored = self.present()
        if stored is None:
            return
        usual = str(Path.home() / f"{stored.routine.name}.toml")
        path, _ = QFileDialog.getSaveFileName(self.window.widget, "Export routine", usual, _TOML)
        if not path:
            return

        def work() -> str:
            from epidote.audio.files.sound_file import write_whole
            from epidote.core.routine.text import routine_to_toml

            write_whole(Path(path), routine_to_toml(stored.routine).encode())
            return f"Routine exported to {path}."

        self.session.aside(work, self.window.say, self.window.say)

    def write_passes(self) -> None:
        """Write all passes of the routine in view as one of the formats."""
        stored = self.present()
        if stored is None:
            return
        usual = str(Path.home() / f"{stored.routine.name}.xlsx")
        path, kind = QFileDialog.getSaveFileName(self.window.widget, "Export passes", usual, ";;".join(_PASS_FILES))
        if path:
            target = Path(path)
            if target.suffix not in _PASS_FILES.values():
                target = target.with_name(target.name + _PASS_FILES.get(kind, ".xlsx"))
            name = stored.routine.name
            self.session.ask(lambda study: _written(study, name, target), self.window.say)

    # -- several benches -------------------------------------------------------------------------------

    def merge(self) -> None:
        """Ask for another study, and add what it holds."""
        path = QFileDialog.getExistingDirectory(
            self.window.widget, "Merge study: select the folder to add", str(Path.home())
        )
        if path:
            self.merge_from(Path(path))

    def merge_from(self, path: Path) -> None:
        """Add what another study holds to the open one."""

        def work(study: Study) -> MergeReport:
            from epidote.study.merge import merge_study

            return merge_study(study, path)

        def done(report: MergeReport) -> None:
            self.session.refresh()
            conflicts = f" {' '.join(report.conflicts[:3])}" if report.conflicts else ""
            self.window.say(
                f"{report.units} units, {report.runs} runs and {report.passes} passes of {path.name} were added;"
                f" {report.known} runs already existed.{conflicts}"
            )

        self.session.ask(work, done)


def _written(study: Study, name: str, target: Path) -> str:
    """Write passes by the ending of the name; return what was done."""
    from epidote.study.interchange import pass_files

    passes = study.passes.all(name)
    writers = {
        ".xlsx": pass_files.write_xlsx,
        ".csv": pass_files.write_csv,
        ".jsonl": pass_files.write_jsonl,
        ".xml": pass_files.write_junit,
    }
    writers[target.suffix](target, passes)
    return f"{len(passes)} passes exported to {target}."
