"""Commands about microphones and chains of rows: a source kept with the chain, a row's own chain, sounds of a run."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMenu

from epidote.core.results.kinds import CurveRole
from epidote.desktop.pages.matrix.graph.view_state import procedure_named
from epidote.desktop.state import edits
from epidote.desktop.widgets.dialogs import FormDialog
from epidote.desktop.widgets.plain import button_text
from epidote.desktop.windows.inverse_dialog import InverseDialog

if TYPE_CHECKING:
    from epidote.core.procedures.protocol import RunSound
    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.desktop.shell.window_port import WindowPort
    from epidote.measurement.kept_source import ChainChange
    from epidote.measurement.run_sounds import MadeSound
    from epidote.study.models import RunSummary
    from epidote.study.store import Study


class AirActions:
    """Acts on the current cell and row."""

    def __init__(self, window: WindowPort, matrix: MatrixPage) -> None:
        self.window, self.matrix, self.session = window, matrix, window.session

    # -- what can be done ------------------------------------------------------------------------

    def why_no_source(self) -> str:
        """Say why the current run is no source that can be kept; "" where it is one."""
        run = self.matrix.selection.current_run()
        views = procedure_named(run.procedure).views if run is not None else ()
        if any(view.role is CurveRole.SOURCE for view in views):
            return ""
        return "Select a cell of “Microphone” in which the source was measured."

    def why_no_sound(self) -> str:
        """Say why no sound can be made of the current run; "" where one can."""
        run = self.matrix.selection.current_run()
        if run is not None and procedure_named(run.procedure).sounds:
            return ""
        return "Select a measured cell of a procedure that isolates a sound, such as “Impulsive distortion”."

    def why_no_inverse(self) -> str:
        """Say why the current run has no response that can be inverted; "" where it has one."""
        from epidote.measurement.inverse_response import has_response

        run = self.matrix.selection.current_run()
        if run is not None and has_response(run):
            return ""
        return "Select a measured cell of “Response”."

    # -- the inverse of a response ---------------------------------------------------------------

    def write_inverse(self) -> None:
        """Ask for the band, the limit and a file, and write the inverse of the current run's response."""
        from epidote.measurement.inverse_response import USUAL_HIGH, USUAL_LIMIT, USUAL_LOW

        run = self.matrix.selection.current_run()
        if run is None:
            return
        dialog = InverseDialog(self.window.widget, USUAL_LOW, USUAL_HIGH, USUAL_LIMIT)
        dialog.accepted.connect(lambda: self._ask_for_inverse(run, dialog))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def _ask_for_inverse(self, run: RunSummary, dialog: InverseDialog) -> None:
        band, limit = dialog.band(), dialog.limit()
        name, _ = QFileDialog.getSaveFileName(
            self.window.widget, "Save inverse response", str(Path.home() / "inverse.txt"), "Text files (*.txt)"
        )
        if name and band is not None and limit is not None:
            self.keep_inverse(run, Path(name), band, limit)

    def keep_inverse(self, run: RunSummary, path: Path, band: tuple[float, float], limit: float) -> None:
        """Write the inverse of a run's response in a band."""
        channel = self._channel()

        def work(study: Study) -> str:
            from epidote.measurement.inverse_response import write_inverse

            return write_inverse(study, run, channel, path, band=band, limit=limit)

        self.session.ask(work, self.window.say)

    # -- the source ------------------------------------------------------------------------------

    def keep_source(self) -> None:
        """Ask for the place, and keep the current run's source in the chain of its row."""
        run = self.matrix.selection.current_run()
        if run is None:
            return
        dialog = FormDialog(self.window.widget, "Save source with chain", "Keep")
        dialog.setProperty("help", "measure-a-microphone")
        place = dialog.line("Measuring point", "", "stand, 1 m on axis")
        dialog.say("")
        dialog.accepted.connect(lambda: self._keep(run, place.text().strip()))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def _keep(self, run: RunSummary, place: str) -> None:
        def ask(study: Study) -> ChainChange:
            from epidote.measurement.kept_source import change_to_keep_source

            return change_to_keep_source(study, run, place)

        def then(change: ChainChange) -> None:
            edits.set_setting(self.session, "Save source with chain", change.setting, change.before, change.after)
            self.window.say(change.words)

        self.session.ask(ask, then)

    # -- a row's own chain -----------------------------------------------------------------------

    def fill_row_chain(self, menu: QMenu) -> None:
        """Offer the chains that the current row can use: the study's, a copy of it, or one kept by name."""
        from epidote.study.chain_library import ChainLibrary
        from epidote.study.chain_settings import STUDY_CHAIN, chain_setting

        menu.clear()
        subject, overview = self.matrix.selection.current_subject(), self.session.overview
        if subject is None or overview is None or subject.is_baseline:
            menu.addAction("Select a unit's row first").setEnabled(False)
            return
        name = chain_setting(subject)
        own = overview.settings.get(name, "")
        entries = [("The study's chain", ""), ("A copy of the study's chain", overview.settings.get(STUDY_CHAIN, ""))]
        for words, text in entries:
            action = menu.addAction(words, partial(self._set_row_chain, name, own, text))
            action.setCheckable(True)
            action.setChecked(not text and not own)
        shelf = ChainLibrary()
        for kept in shelf.names():
            menu.addAction(button_text(kept), partial(self._use_kept_chain, name, own, kept))
        if own:
            from epidote.core.chain.chain_toml import chain_from_toml

            menu.addSeparator()
            menu.addAction(button_text(f"In use: {chain_from_toml(own).name}, this row's own")).setEnabled(False)

    def _use_kept_chain(self, setting: str, before: str, kept: str) -> None:
        from epidote.core.chain.chain_toml import chain_to_toml
        from epidote.core.errors import EpidoteError, in_window
        from epidote.study.chain_library import ChainLibrary

        try:
            self._set_row_chain(setting, before, chain_to_toml(ChainLibrary().load(kept)))
        except EpidoteError as error:
            self.session.failed.emit(in_window(error))

    def _set_row_chain(self, setting: str, before: str, after: str) -> None:
        if before != after:
            edits.set_setting(self.session, "Set chain of row", setting, before, after)

    # -- sounds ----------------------------------------------------------------------------------

    def fill_sounds(self, menu: QMenu) -> None:
        """List the sounds of the current run: to be played, or saved."""
        menu.clear()
        run = self.matrix.selection.current_run()
        sounds: tuple[RunSound, ...] = procedure_named(run.procedure).sounds if run is not None else ()
        if run is None or not sounds:
            menu.addAction("No sound in this cell").setEnabled(False)
            return
        for sound in sounds:
            menu.addAction(button_text(f"Play: {sound.title}"), partial(self.play_sound, run, sound))
            menu.addAction(button_text(f"Save as file: {sound.title}…"), partial(self.save_sound, run, sound))

    def _channel(self) -> int:
        """Return the channel in view; the first one where the average is."""
        return max(1, self.matrix.look.first_channel)

    def play_sound(self, run: RunSummary, sound: RunSound) -> None:
        """Play a sound of a run on the device of its chain."""
        channel, is_cancelled = self._channel(), self.session.runs.is_cancelled()

        def work(study: Study) -> str:
            from epidote.measurement.run_sounds import play_run_sound

            return play_run_sound(study, run.id, sound.key, channel, is_cancelled)

        self.window.say("Playing; Esc stops it.")
        self.session.runs.on_the_bench(work, self.window.say)

    def save_sound(self, run: RunSummary, sound: RunSound, path: Path | None = None) -> None:
        """Write a sound of a run as a file; ask where to when no path is given."""
        if path is None:
            name, _ = QFileDialog.getSaveFileName(
                self.window.widget, "Save sound", str(Path.home() / f"{sound.key}.wav"), "Audio files (*.wav *.flac)"
            )
            if not name:
                return
            path = Path(name)
        target, channel = path, self._channel()

        def work(study: Study) -> MadeSound:
            from epidote.measurement.run_sounds import write_run_sound

            return write_run_sound(study, run.id, sound.key, channel, target)

        def done(made: MadeSound) -> None:
            self.window.say(f"{target.name} saved: channel {channel}, raised by {made.raised_db:.0f} dB.")

        self.session.ask(work, done)
