"""The command that makes a unit play its stimulus file by itself: a clip, and how long to wait for the answer."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QPushButton, QWidget

from epidote.core.quantities.units import QuantityError, parse_as
from epidote.desktop.preferences import preferences
from epidote.desktop.widgets.dialogs import FormDialog

_LAST, _TIME_OUT, _MOST = "last command", 10.0, 120.0  # s


class CommandDialog(FormDialog):
    """Asks for the clip and the time-out; the last clip is offered again."""

    def __init__(self, parent: QWidget | None) -> None:
        super().__init__(parent, "Play after a command", "Play and measure")
        self.setProperty("help", "units-with-own-clock")
        self.explain(
            "The command is played, then the unit must play the marked stimulus file of this cell from its own library."
            " Export that file first, with the same settings."
        )
        self.clip = self.line(
            "Command clip", str(preferences().value(_LAST, "")), "WAV or FLAC file of the spoken command"
        )
        browse = QPushButton("Select file…")
        browse.setAutoDefault(False)
        browse.clicked.connect(self._browse)
        self.lines.addRow("", browse)
        self.time_out = self.line("Answer within", f"{_TIME_OUT:g} s")
        self.check()

    def _browse(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self,
            "Command clip",
            self.clip.text() or str(Path.home()),
            "Audio files (*.wav *.flac *.ogg);;All files (*)",
        )
        if path:
            self.clip.setText(path)

    def check(self) -> None:
        """Say what is wrong."""
        if not self.clip.text().strip():
            self.say("Select the recording of the command.")
        elif not Path(self.clip.text()).is_file():
            self.say(f"Not found: {self.clip.text()}. Select the recording of the command.")
        elif self._seconds() is None:
            self.say(f"Enter a time up to {_MOST:g} s for the answer, such as 10 s.")
        else:
            self.say("")

    def _seconds(self) -> float | None:
        try:
            seconds = parse_as(self.time_out.text(), "s")
        except QuantityError:
            return None
        if 0 < seconds <= _MOST:
            return seconds
        return None

    def command(self) -> tuple[Path, float]:
        """Return the clip and the time-out in s, and keep the clip for the next time."""
        preferences().setValue(_LAST, self.clip.text())
        return Path(self.clip.text()), self._seconds() or _TIME_OUT
