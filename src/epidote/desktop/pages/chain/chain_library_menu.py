"""The chains kept by name and in files, as a button with a menu; and the microphone's own response from a file."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QFileDialog, QMenu, QToolButton

from epidote.audio.files.sound_file import read_bounded
from epidote.core.calibration.methods import parse_correction
from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, in_window
from epidote.core.quantities.column_text import decoded
from epidote.desktop.widgets.plain import button_text
from epidote.study.chain_library import ChainLibrary, read_chain_file, write_chain_file

_MOST_BYTES = 8_000_000


class ChainLibraryMenu(QToolButton):
    """``chain``: gives the study's chain as it is now.

    selected: a chain that the study is to use from now on; saved: the library changed.
    """

    selected = Signal(object)
    saved = Signal()
    said = Signal(str)
    failed = Signal(str)

    def __init__(self, chain: Callable[[], Chain], shelf: ChainLibrary) -> None:
        super().__init__()
        self._chain, self.shelf = chain, shelf
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.setProperty("menu", True)
        self._menu = QMenu(self)
        self._menu.aboutToShow.connect(self._fill)
        self.setMenu(self._menu)

    def refresh(self) -> None:
        count = len([n for n in self.shelf.names() if n != self._chain().name])
        self.setText(f"Saved chains ({count})" if count else "Saved chains")

    def _fill(self) -> None:
        self._menu.clear()
        for name in self.shelf.names():
            self._menu.addAction(button_text(f"Load “{name}”"), partial(self.use, name))
        if self.shelf.names():
            self._menu.addSeparator()
        self._menu.addAction(button_text(f"Save “{self._chain().name}” for other studies"), self.keep)
        self._menu.addAction("Export chain…", self._write)
        self._menu.addAction("Import chain…", self._read)

    def keep(self) -> None:
        """Keep the study's chain under its name."""
        try:
            self.said.emit(f"Chain saved as {self.shelf.keep(self._chain())}.")
        except (EpidoteError, OSError) as error:
            self.failed.emit(f"The chain could not be saved: {error}")
        self.saved.emit()

    def use(self, name: str) -> None:
        """Make a kept chain the study's."""
        try:
            self.selected.emit(self.shelf.load(name))
        except EpidoteError as error:
            self.failed.emit(in_window(error))

    def _write(self) -> None:
        chain = self._chain()
        path, _ = QFileDialog.getSaveFileName(
            self, "Export chain", str(Path.home() / f"{chain.name}.toml"), "Chain files (*.toml)"
        )
        if path:
            try:
                write_chain_file(Path(path), chain)
            except EpidoteError as error:
                self.failed.emit(in_window(error))

    def _read(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Import chain", str(Path.home()), "Chain files (*.toml)")
        if path:
            try:
                self.selected.emit(read_chain_file(Path(path)))
            except EpidoteError as error:
                self.failed.emit(in_window(error))

    def choose_correction(self) -> None:
        """Ask which microphone a correction is for where there are several, then for its file."""
        chain = self._chain()
        if len(chain.microphone_sensitivities) < 2:
            self._ask_for_correction(0)
            return
        menu = QMenu(self)
        menu.addAction("All microphones", partial(self._ask_for_correction, 0))
        for channel in range(1, len(chain.inputs) + 1):
            menu.addAction(_microphone_words(chain, channel), partial(self._ask_for_correction, channel))
        menu.popup(QCursor.pos())

    def _ask_for_correction(self, channel: int) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self,
            "Import microphone correction",
            str(Path.home()),
            "Text files (*.txt *.csv *.cal *.frd);;All files (*)",
        )
        if path:
            self.use_correction(Path(path), channel)

    def use_correction(self, path: Path, channel: int = 0) -> None:
        """Take a microphone's response from a text file of frequency, dB and perhaps phase; channel: its input's place
        from 1, 0 for all microphones.
        """
        try:
            rows = parse_correction(decoded(read_bounded(path, _MOST_BYTES, "a correction file")))
            if channel:
                chain = self._chain().with_microphone(channel, correction=rows)
                whose = f" of {_microphone_words(chain, channel)}"
            else:
                chain = self._chain().changed(microphone_correction=rows)
                whose = ""
            self.selected.emit(chain)
            words = (
                f"Microphone correction{whose} imported: {len(rows)} points, {rows[0][0]:g} Hz to {rows[-1][0]:g} Hz."
                " It applies to new runs."
            )
            self.said.emit(words)
        except (EpidoteError, OSError) as error:
            self.failed.emit(in_window(error))


def _microphone_words(chain: Chain, channel: int) -> str:
    """Return "input 3, serial M-0412" of a microphone (from 1)."""
    serial = chain.serial_of(channel)
    if serial:
        named = f", serial {serial}"
    else:
        named = ""
    return f"Input {chain.inputs[channel - 1]}{named}"
