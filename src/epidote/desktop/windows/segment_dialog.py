"""Recordings made elsewhere: their waveforms, channel under channel, and the stretch of them that is to be analysed
and kept.
"""

from __future__ import annotations

import time
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QPushButton, QToolButton, QVBoxLayout, QWidget

from epidote.audio.files.streams import ChannelStream, SoundStream
from epidote.core.errors import EpidoteError, in_window
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import parse_as
from epidote.core.signals.recording import Section
from epidote.core.signals.signal import Samples
from epidote.core.signals.signal import Signal as Sound
from epidote.desktop.plotting.waveform_widget import BLOCK, Lane, WaveformWidget, outline_of
from epidote.desktop.state.worker import Worker
from epidote.desktop.widgets.plain import Label

if TYPE_CHECKING:
    from epidote.desktop.theme import Theme

LONGEST, _MOST_SAMPLES = 600.0, 2**26  # s, and samples of all channels, that a study keeps of one recording
_AT_ONCE, _TOLD_EVERY = 2**15 // BLOCK * BLOCK, 32  # frames; pieces
_KEYS = "Drag: select · Shift+drag: pan · Wheel, +, −: zoom · PgUp, PgDn: scroll · Home: show all · End: show selection"


class _FileLane:
    """Samples of a channel from the file, read off the interface's thread; the last ones are kept."""

    def __init__(self, source: ChannelStream, worker: Worker, arrived: Any) -> None:
        self._way, self._worker, self._arrived = source, worker, arrived
        self._first, self._held = 0, np.zeros(0)
        self._asked: tuple[int, int] | None = None

    def fetch(self, first: int, frames: int) -> Samples | None:
        if self._first <= first and first + frames <= self._first + self._held.size:
            return self._held[first - self._first : first - self._first + frames]
        low = max(0, first - frames)
        stretch = low, min(self._way.frames, first + 2 * frames) - low
        if self._asked is None:
            self._asked = stretch
            self._worker.submit(lambda: self._way.read(*stretch), partial(self._take, stretch), lambda _: None)
        return None

    def _take(self, stretch: tuple[int, int], samples: Samples) -> None:
        self._asked = None
        self._first, self._held = stretch[0], samples
        self._arrived()


class SegmentDialog(QDialog):
    """Emits the picked stretch as recordings, one for each track, with words that say where it is from; or, where they
    are told to hold it, that the file written for a player, with its marks, is to be found in them.
    """

    taken = Signal(object, str)
    marked = Signal()
    outlined = Signal(int, object)

    def __init__(self, theme: Theme, files: list[Path], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Select the section to analyse")
        self.resize(1100, 560)
        self._files = files
        self._worker, self._reader = (
            Worker("outlines", self),
            Worker("files", self),
        )  # a look at samples does not wait for the outline
        self._open = ExitStack()
        self._tracks: list[Any] = []
        self._streams: list[SoundStream] = []
        self._most = LONGEST
        self._going = True
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 10)
        self.heading = Label("Opening…")
        self.heading.setProperty("heading", True)
        self.heading.setWordWrap(True)
        layout.addWidget(self.heading)
        self.wave = WaveformWidget(theme, over=False, picking=True)
        layout.addWidget(self.wave, 1)
        line = QHBoxLayout()
        self.first, self.last = QLineEdit(), QLineEdit()
        for words, editor in (("From", self.first), ("To", self.last)):
            label = Label(words)
            label.setProperty("quiet", True)
            line.addWidget(label)
            editor.setAccessibleName(words)
            editor.setMaximumWidth(130)
            editor.returnPressed.connect(self.apply_typed)
            line.addWidget(editor)
        self.long = Label()
        self.long.setProperty("quiet", True)
        line.addWidget(self.long, 1)
        self.as_marked = QToolButton()
        self.as_marked.setText("Use sync markers")
        self.as_marked.setToolTip(
            "For a recording of an exported stimulus file: start and sample clock are found from its sync markers, no"
            " selection needed"
        )
        self.as_marked.setVisible(len(files) == 1)
        self.as_marked.clicked.connect(self._holds_marks)
        line.addWidget(self.as_marked)
        self.go = QPushButton("Analyse selection")
        self.go.setProperty("main", True)
        self.go.setAutoDefault(False)
        self.go.setEnabled(False)
        self.go.clicked.connect(self._go)
        line.addWidget(self.go)
        layout.addLayout(line)
        keys = Label(_KEYS)
        keys.setProperty("quiet", True)
        keys.setWordWrap(True)
        layout.addWidget(keys)
        self.wave.picked.connect(self._picked)
        self.outlined.connect(self._outlined, Qt.ConnectionType.QueuedConnection)
        self._worker.submit(self._opened, self._show, self._failed)

    # -- on the files' thread ----------------------------------------------------------------------

    def _opened(self) -> list[tuple[str, Any]]:
        entries = []
        for path in self._files:
            stream = self._open.enter_context(SoundStream(path))
            self._streams.append(stream)
            entries += [(f"{path.name}{f', {t.name}' if t.name else ''}", t) for t in stream.tracks]
        return entries

    def _outline(self) -> None:
        """Piece by piece, all channels of a track side by side, told as it goes."""
        number = 0
        for _, track in self._tracks:
            pieces: list[Samples] = []
            for first in range(0, track.frames, _AT_ONCE):
                if not self._going:
                    return
                pieces.append(track.read(first, min(_AT_ONCE, track.frames - first)))
                time.sleep(0.001)  # lets whoever waits for samples have the file
                if len(pieces) == _TOLD_EVERY or first + _AT_ONCE >= track.frames:
                    x = np.concatenate(pieces)
                    pieces = []
                    for channel in range(track.channels):
                        self.outlined.emit(number + channel, outline_of(np.ascontiguousarray(x[:, channel])))
            number += track.channels

    def _read(self, first: float, last: float) -> list[Section]:
        """Return the section of each track, with the whole recording where a study can store it, else with nothing but
        the section.
        """
        out = []
        whole = max(t.frames / t.rate for _, t in self._tracks) <= self._most + 1e-6
        for _, track in self._tracks:
            low, high = round(first * track.rate), min(track.frames, round(last * track.rate))
            frames = max(0, high - low)
            if whole:
                out.append(Section(Sound(track.read(0, track.frames), track.rate), low, frames))
            else:
                out.append(Section(Sound(track.read(low, frames), track.rate), 0, frames))
        for stream in self._streams:
            stream.require_still()
        return out

    # -- here --------------------------------------------------------------------------------------

    def _show(self, tracks: list[tuple[str, Any]]) -> None:
        self._tracks = tracks
        lanes, number = [], 0
        rate = tracks[0][1].rate
        for name, track in tracks:
            for channel in range(1, track.channels + 1):
                number += 1
                # every lane in the first one's frames; what runs at another rate is outlined only
                lane = _FileLane(track.channel(channel), self._reader, self.wave.update)
                if track.rate == rate:
                    fetch = lane.fetch
                else:
                    fetch = _nothing
                lanes.append(
                    Lane(
                        f"Channel {number}  {name}{f', {channel}' if track.channels > 1 else ''}",
                        number - 1,
                        track.frames,
                        fetch,
                    )
                )
        self.wave.set_lanes(lanes, rate)
        self._most = min(LONGEST, _MOST_SAMPLES / sum(t.rate * t.channels for _, t in tracks))
        self.wave.set_stretch(0.0, min(self._most, self.wave.frames / rate))
        many = ""
        if number > 1:
            many = "s"
        self.heading.setText(
            f"{number} channel{many} of {', '.join(p.name for p in self._files)}: {self.wave.frames / rate:.2f} s at"
            f" {rate:g} Hz"
        )
        self.wave.setFocus()
        self._worker.submit(self._outline, lambda _: None, self._failed)

    def _outlined(self, number: int, piece: Samples) -> None:
        lane = self.wave.lanes[number]
        lane.outline = np.concatenate([lane.outline, piece])
        self.wave.redraw()

    def _picked(self, first: float, last: float) -> None:
        self.first.setText(f"{first:.6g} s")
        self.last.setText(f"{last:.6g} s")
        too_long = last - first > self._most + 1e-6
        words = f"{format_quantity(last - first, 's', digits=4)}, {round((last - first) * self.wave.rate)} samples"
        self.long.setText(
            words
            + (
                f": too long. A study can store up to {self._most:.0f} s of this many channels; select less, or use"
                " “epidote analyse paths” for the whole file"
                if too_long
                else ""
            )
        )
        self.go.setEnabled(bool(self._tracks) and last > first and not too_long)

    def apply_typed(self) -> None:
        try:
            first, last = (parse_as(e.text(), "s") for e in (self.first, self.last))
        except EpidoteError as error:
            self.long.setText(in_window(error))
            return
        if last > first:
            self.wave.set_stretch(first, last)

    def _go(self) -> None:
        stretch_shown = self.wave.stretch
        if stretch_shown is None:
            return
        first, last = stretch_shown
        self.go.setEnabled(False)
        self._going = False  # the outline is not needed any more
        words = f"{', '.join(p.name for p in self._files)} from {first:.6g} s to {last:.6g} s"
        self._reader.submit(lambda: self._read(first, last), lambda found: self._took(found, words), self._failed)

    def _holds_marks(self) -> None:
        self.accept()
        self.marked.emit()

    def _took(self, recordings: list[Section], words: str) -> None:
        self.taken.emit(recordings, words)
        self.accept()

    def _failed(self, words: str) -> None:
        self.heading.setText(words)
        self.go.setEnabled(False)

    def done(self, result: int) -> None:
        self._going = False
        self._worker.close()
        self._reader.close()
        self._open.close()
        super().done(result)


def _nothing(first: int, frames: int) -> Samples | None:
    return None
