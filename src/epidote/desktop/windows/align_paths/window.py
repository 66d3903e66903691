"""The alignment window: two paths of a run over each other, nudged by hand while correlation, polarity and phase
follow; heard, and written.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QHBoxLayout,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from epidote.core.errors import EpidoteError
from epidote.core.quantities.units import parse_as
from epidote.core.signals.signal import Samples
from epidote.desktop.plotting.figure import Figure, Trace
from epidote.desktop.plotting.graph_widget import GraphWidget
from epidote.desktop.plotting.waveform_widget import Lane, WaveformWidget, outline_of
from epidote.desktop.widgets.help_key import listen_for_help
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.wording import LOADING
from epidote.desktop.windows.align_paths.alignment_data import (
    AlignedPair,
    align_pair,
    export_aligned,
    sources_of,
    sum_of,
)
from epidote.desktop.windows.align_paths.controls import AlignControls, quiet, tool

if TYPE_CHECKING:
    from epidote.desktop.state.session import Session
    from epidote.desktop.theme import Theme
    from epidote.study.models import RunSummary, Subject
    from epidote.study.store import Study

_BEFORE, _AFTER = 0.002, 0.01  # s round a transient
_KEYS = (
    "←/→: shift (Shift: 10 steps) · ↑/↓: step size · A: auto-align · I: invert · N/P: next/previous transient · Space:"
    " play · Wheel: zoom · Ctrl+Wheel: shift"
)


class AlignWindow(QDialog):
    """Owns the delay that is being tried; the run itself is not changed by anything here."""

    def __init__(
        self, session: Session, theme: Theme, subject: Subject, run: RunSummary, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        listen_for_help(self)
        self.setProperty("help", "windows")
        self.session, self.subject, self.run = session, subject, run
        self.laid: AlignedPair | None = None
        self.delay = 0.0
        self._event = -1
        self.stopping = threading.Event()
        self._ways: list[Any] = []
        self.setWindowTitle(f"Align paths: {subject.full_name}")
        self.resize(1180, 720)
        self.wave = WaveformWidget(theme, over=True)
        self.phase = GraphWidget(theme)
        self._build()
        self.wave.nudged.connect(self.nudge)
        self.side.nudge_wanted.connect(self.nudge)
        self.side.delay_typed.connect(self._typed)
        self.side.turned.connect(self._show)
        self.side.listen_wanted.connect(self.listen)
        self.side.stop_wanted.connect(self.silence)
        self.side.write_wanted.connect(self.write)
        session.find_devices(lambda devices: self.side.show_devices(devices, subject.device))
        self._load()

    # -- building ----------------------------------------------------------------------------------

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 10)
        head = QHBoxLayout()
        head.addWidget(quiet("Compare with channel 1:"))
        self.channel = QComboBox()
        self.channel.setAccessibleName("Channel to align")
        numbers = sorted({r.channel for r in self.run.readings if r.key == "delay" and r.value is not None})
        for number in numbers:
            self.channel.addItem(f"Channel {number}", number)
        self.channel.currentIndexChanged.connect(self._load)
        head.addWidget(self.channel)
        head.addSpacing(16)
        self.event_words = Label()
        for text, by in (("‹", -1), ("›", 1)):
            head.addWidget(
                tool(text, partial(self.go_to_event, by), "Previous transient" if by < 0 else "Next transient")
            )
            if by < 0:
                head.addWidget(self.event_words)
        head.addWidget(tool("Show all", lambda: self.wave.show_frames(0, self.wave.frames)))
        head.addStretch(1)
        self.align = QPushButton("Auto-align")
        self.align.setProperty("main", True)
        self.align.setAutoDefault(False)
        self.align.setToolTip("Set the delay and polarity of best correlation (A)")
        self.align.clicked.connect(self.align_now)
        head.addWidget(self.align)
        layout.addLayout(head)
        body = QSplitter(Qt.Orientation.Horizontal)
        graphs = QSplitter(Qt.Orientation.Vertical)
        graphs.addWidget(self.wave)
        graphs.addWidget(self.phase)
        graphs.setSizes([380, 240])
        body.addWidget(graphs)
        self.side = AlignControls()
        body.addWidget(self.side)
        body.setSizes([860, 300])
        body.setStretchFactor(0, 1)
        layout.addWidget(body, 1)
        self.words = quiet(_KEYS)
        self.words.setWordWrap(True)
        layout.addWidget(self.words)

    # -- the two paths -----------------------------------------------------------------------------

    def _told(self, key: str) -> float:
        number = self.channel.currentData()
        reading = self.run.reading(key, number)
        if reading is None or reading.value is None:
            return 0.0
        return reading.value

    def _load(self) -> None:
        number = self.channel.currentData()
        if number is None:
            self.words.setText("No common signal was found in this run, so there is nothing to align.")
            return
        settings, drift, delay = self.run.settings, self._told("drift_ppm"), self._told("delay")

        def work(study: Study) -> tuple[list[Any], AlignedPair]:
            sources = sources_of(study.recordings(self.run.id))
            band = float(settings["band_low"]), float(settings["band_high"])
            return sources, align_pair(sources, number, drift, delay, band, search=float(settings["search"]))

        self.words.setText(LOADING)
        self.session.ask(work, self._loaded)

    def _loaded(self, loaded: tuple[list[Any], AlignedPair]) -> None:
        self._ways, self.laid = loaded
        self.delay = self.laid.delay
        overlay = self.laid.overlay
        lanes = [
            Lane(name, colour, x.size, partial(_part, x), outline_of(x))
            for name, colour, x in (("Channel 1", 0, overlay.first), (self.channel.currentText(), 2, overlay.second))
        ]
        self.wave.marks = [float(e) for e in self.laid.events]
        self.wave.set_lanes(lanes, overlay.rate)
        self.words.setText(
            _KEYS + (f" · Drift of {self.laid.drift_ppm:.3g} ppm corrected" if self.laid.drift_ppm else "")
        )
        self._event = -1
        self.go_to_event(1)
        self._show()
        self.wave.setFocus()

    def go_to_event(self, by: int) -> None:
        """Have the next or previous transient of the first in view."""
        if self.laid is None:
            return
        events, rate = self.laid.events, self.laid.overlay.rate
        self._event = max(0, min(len(events) - 1, self._event + by))
        if events:
            at = events[self._event]
        else:
            at = self.laid.overlay.loudest()
        late = max(0.0, -self.delay), max(0.0, self.delay)
        if events:
            which = f"Transient {self._event + 1} of {len(events)}"
        else:
            which = "No transient; loudest position"
        self.event_words.setText(f"{which}, {self.laid.begin + at / rate:.3f} s")
        self.wave.show_frames(at - _BEFORE * rate - min(late[0], rate), at + _AFTER * rate)

    # -- nudging -----------------------------------------------------------------------------------

    def nudge(self, steps: float) -> None:
        if self.laid is not None:
            self.set_delay(self.delay + steps * self.side.step_frames(self.laid.overlay.rate))

    def set_delay(self, frames: float) -> None:
        """Take the second to be so late, within what was looked through."""
        if self.laid is None:
            return
        reach = float(self.laid.overlay.reach)
        self.delay = max(-reach, min(reach, frames))
        self._show()

    def align_now(self) -> None:
        """Where they are most alike; turned over where that is inverted."""
        if self.laid is None:
            return
        self.delay = self.laid.overlay.best()
        self.side.invert.setChecked(self.laid.overlay.at(self.delay).polarity < 0)
        self._show()

    def _typed(self, text: str) -> None:
        if self.laid is None:
            return
        rate = self.laid.overlay.rate
        try:
            if text.endswith("samples"):
                frames = float(text.removesuffix("samples").strip().replace(",", "."))
            else:
                frames = parse_as(text, "s") * rate
        except (ValueError, EpidoteError):
            self.words.setText(f"“{text}” is not a delay. Enter, for example, 1.31 ms or 62.9 samples.")
            return
        self.words.setText(_KEYS)
        self.set_delay(frames)
        self.wave.setFocus()

    def _show(self) -> None:
        if self.laid is None:
            return
        overlay, rate = self.laid.overlay, self.laid.overlay.rate
        self.side.show_fit(self.delay, rate, overlay.at(self.delay), self.laid.delay)
        if self.side.invert.isChecked():
            turned = -1
        else:
            turned = 1
        lane = self.wave.lanes[1]
        lane.shift, lane.turned = self.delay, turned < 0
        self.wave.redraw()
        f, degrees = overlay.phase(self.delay)
        degrees = (degrees + (180 if turned < 0 else 0) + 180) % 360 - 180
        trace = Trace(self.channel.currentText(), 1, 2, f, degrees)
        self.phase.set_figure(Figure("", "Frequency", "Hz", "Phase re channel 1", "°", True, (trace,)), keep_zoom=True)

    # -- hearing and writing -----------------------------------------------------------------------

    def listen(self, aligned: bool) -> None:
        """Both paths at once, before or after, by the chosen device."""
        pair, name = self.laid, str(self.side.device.currentData() or "")
        if pair is None or not name:
            return
        delay, invert = (self.delay if aligned else None), self.side.invert.isChecked()
        self.stopping.set()
        self.stopping = stop = threading.Event()

        def work(study: Study) -> str:
            from epidote.core.errors import CancelledError
            from epidote.measurement.chain_for_row import chain_for_subject
            from epidote.measurement.device_setup import no_progress, open_for_chain

            chain = chain_for_subject(study, self.subject).changed(rate=pair.overlay.rate)
            stimulus = sum_of(pair, delay, invert=invert)
            device = open_for_chain(chain, name, self.subject.conditions, real_time=True)
            try:
                device.exchange(stimulus, ceiling_dbfs=chain.ceiling_dbfs, progress=no_progress, cancelled=stop.is_set)
            except CancelledError:
                return "Stopped."
            return "Playback finished."

        self.words.setText(f"Playing the sum, {'aligned' if aligned else 'original'}…")
        self.session.runs.on_the_bench(work, self.words.setText)

    def silence(self) -> None:
        """Stop what plays."""
        self.stopping.set()

    def write(self, *, path: Path | None = None) -> None:
        """Both paths as files, the second brought under the first; asks where to when no path is given."""
        pair, number = self.laid, self.channel.currentData()
        if pair is None:
            return
        if path is None:
            from PySide6.QtWidgets import QFileDialog

            name, _ = QFileDialog.getSaveFileName(
                self, "Export aligned files", str(Path.home() / "aligned.wav"), "Audio files (*.wav)"
            )
            if not name:
                return
            path = Path(name)
        target, delay, invert, tracks = path, self.delay, self.side.invert.isChecked(), self._ways
        self.session.ask(lambda _: export_aligned(tracks, number, pair, delay, target, invert=invert), self._written)

    def _written(self, files: list[Path]) -> None:
        self.words.setText(f"Exported {' and '.join(f.name for f in files)} to {files[0].parent}.")

    # -- keys --------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, by = event.key(), 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        acts: dict[int, Callable[[], None]] = {
            Qt.Key.Key_Left: lambda: self.nudge(-by),
            Qt.Key.Key_Right: lambda: self.nudge(by),
            Qt.Key.Key_A: self.align_now,
            Qt.Key.Key_I: self.side.invert.toggle,
            Qt.Key.Key_N: lambda: self.go_to_event(1),
            Qt.Key.Key_P: lambda: self.go_to_event(-1),
            Qt.Key.Key_Up: lambda: self.side.next_step(-1),
            Qt.Key.Key_Down: lambda: self.side.next_step(1),
            Qt.Key.Key_Space: lambda: self.listen(True),
        }
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            return  # what was typed was taken already; the window stays
        if key in acts:
            acts[key]()
        else:
            super().keyPressEvent(event)

    def set_theme(self, theme: Theme) -> None:
        self.wave.set_theme(theme)
        self.phase.set_theme(theme)

    def done(self, result: int) -> None:
        self.stopping.set()
        super().done(result)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.stopping.set()
        super().closeEvent(event)


def _part(x: Samples, first: int, frames: int) -> Samples:
    return x[first : first + frames]
