"""Dropouts while listening, said where the sound is shown: a picture with gaps in it must not look whole."""

from __future__ import annotations

from datetime import datetime

from PySide6.QtWidgets import QWidget

from epidote.desktop.state.live_audio import LiveAudio
from epidote.desktop.widgets.plain import Label


class DropoutLabel(Label):
    """Out of sight until the device reports something; stays until listening begins anew."""

    def __init__(self, link: LiveAudio, parent: QWidget | None = None) -> None:
        super().__init__("", parent)
        self.setProperty("caution", True)
        self.setWordWrap(True)
        self.setAccessibleName("Dropouts in live view")
        self.reported = ""  # words for what is kept of this listening
        self.hide()
        link.began.connect(self._clear)
        link.faulted.connect(self._show_faults)

    def _clear(self) -> None:
        self.reported = ""
        self.hide()

    def _show_faults(self, count: int, words: str) -> None:
        if count == 1:
            many = "1 dropout"
        else:
            many = f"{count} dropouts"
        last = f"{'at' if count == 1 else 'the last at'} {datetime.now():%H:%M:%S} ({words})"
        self.reported = f"{many} in the live view, {last}"
        self.setText(
            f"▲ {self.reported}. The display has gaps. Increase the buffer size or reduce the load on this computer."
        )
        self.show()
