"""What an empty cell shows: the procedure's settings, how long it takes, and one Measure button.

Also the form for recomputing.
"""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.preset_button import PresetButton
from epidote.desktop.widgets.settings_form import SettingsForm
from epidote.desktop.widgets.wording import LOADING, duration_words
from epidote.study.models import Column, RunSummary, Subject


class RunPanel(QWidget):
    """The settings of a run to be made, or to be computed again."""

    measure_wanted = Signal(dict, str, str)  # settings, device, sound level
    command_wanted = Signal(dict, str)  # settings, device
    recompute_wanted = Signal(dict)
    stop_wanted = Signal()
    file_wanted = Signal(dict)
    recording_wanted = Signal(dict)
    later_wanted = Signal(dict)

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("help", "run")
        self.form: SettingsForm | None = None
        self._procedure: Any = None
        self._chain: Any = None
        self._recomputing = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 10)
        layout.setSpacing(8)
        self.heading = Label()
        self.heading.setProperty("heading", True)
        self.heading.setWordWrap(True)
        self.presets = PresetButton(lambda: self.form.values() if self.form is not None else {})
        self.presets.chosen.connect(lambda values: self.form.fill(values) if self.form is not None else None)
        head = QHBoxLayout()
        head.addWidget(self.heading, 1)
        head.addWidget(self.presets)
        layout.addLayout(head)
        self.note = Label()
        self.note.setProperty("quiet", True)
        self.note.setWordWrap(True)
        layout.addWidget(self.note)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        layout.addWidget(self._area, 1)
        row = QFormLayout()
        self.device = QComboBox()
        self.device.setAccessibleName("Device")
        self.device.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.device.setProperty("elides", True)  # names of devices may be longer than any panel is wide
        self._device_label = Label("Device")
        self._device_label.setProperty("quiet", True)
        row.addRow(self._device_label, self.device)
        layout.addLayout(row)
        self.problem = Label()
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        layout.addWidget(self.problem)
        layout.addLayout(self._build_buttons())
        layout.addLayout(self._build_elsewhere())
        self.device.currentIndexChanged.connect(self.refresh)
        self.device.currentIndexChanged.connect(self._tell_device)
        self.go.clicked.connect(self._go)
        self.stop.clicked.connect(self.stop_wanted.emit)

    def _build_buttons(self) -> FlowLayout:
        buttons = FlowLayout()
        self.go = QPushButton()
        self.go.setProperty("main", True)
        self.go.setAutoDefault(True)
        self.stop = QPushButton("Stop")
        self.estimate = Label()
        self.estimate.setProperty("quiet", True)
        buttons.addWidget(self.go)
        buttons.addWidget(self.stop)
        buttons.addWidget(self.estimate)
        return buttons

    def _build_elsewhere(self) -> FlowLayout:
        """For units that play or record by themselves."""
        self.elsewhere = FlowLayout()
        self.as_file, self.later, self.from_recording = QToolButton(), QToolButton(), QToolButton()
        for button, words, enabled in (
            (self.as_file, "Export stimulus file…", self.file_wanted),
            (self.later, "Export, record later…", self.later_wanted),
            (self.from_recording, "Import recording…", self.recording_wanted),
        ):
            button.setText(words)
            button.clicked.connect(
                lambda _=False, w=enabled: w.emit(self.form.values()) if self.form is not None else None
            )
            self.elsewhere.addWidget(button)
        self.after_command = QToolButton()
        self.after_command.setText("Play after a command…")
        self.after_command.setToolTip(
            "For units that play after a spoken command: the command is played, the answer awaited and recorded"
        )
        self.after_command.clicked.connect(self._command)
        self.elsewhere.addWidget(self.after_command)
        self.as_file.setToolTip(
            "For units that play files themselves. Sync markers in the file give start and sample clock."
        )
        self.later.setToolTip("Export the stimulus file; the cell waits until its recording is attached")
        self.from_recording.setToolTip("Import a recording of the stimulus file, made with any recorder")
        return self.elsewhere

    def show_cell(
        self,
        subject: Subject,
        column: Column,
        chain: Any,
        procedure: Any,
        settings: dict[str, Any],
        *,
        devices: list[tuple[str, str]],
        reference: dict[str, Any] | None = None,
        cells: int = 1,
    ) -> None:
        """Offer a run for a cell. reference: the settings of the reference row's run in this column.

        cells: how many are selected and empty, which are all measured with these settings.
        """
        self.presets.show_procedure(procedure, reference)
        self._recomputing = False
        with QSignalBlocker(self.device):
            self.device.clear()
            self.device.addItem("Select device…", "")
            for name, title in devices:
                self.device.addItem(title, name)
            self.device.setCurrentIndex(max(0, self.device.findData(subject.device)))
        self._tell_device()
        self._fill(procedure, chain, settings)
        self.heading.setText(f"{column.title}: {subject.full_name}")
        self.note.setText("Not measured. Settings come from the column; changes here apply to this run only.")
        self.go.setText(f"Measure {cells} cells" if cells > 1 else "Measure")
        self.presets.show()
        self.device.show()
        self.as_file.show()
        self.from_recording.show()
        self.after_command.show()
        self._device_label.show()
        self.stop.show()

    def show_loading(self, subject: Subject, column: Column) -> None:
        """Offer nothing until the chain and the devices of a cell are known."""
        self.form = None
        self._area.setWidget(QWidget())
        self.heading.setText(f"{column.title}: {subject.full_name}")
        self.note.setText(LOADING)
        self.estimate.setText("")
        self.problem.hide()
        for button in (self.go, self.after_command):
            button.setEnabled(False)

    def _tell_device(self) -> None:
        """Give the whole name of the device, which the field may have no room for."""
        self.device.setToolTip(plain_tip(self.device.currentText()))

    def show_recompute(self, subject: Subject, column: Column, chain: Any, procedure: Any, run: RunSummary) -> None:
        """Offer to compute a finished run again with other settings."""
        self._recomputing = True
        from epidote.core.settings import analysis_settings

        self._fill(procedure, chain, dict(run.settings), analysis_settings(procedure.Settings))
        self.heading.setText(f"Recompute {column.title}: {subject.full_name}")
        self.note.setText(f"Uses the recording of {run.made.astimezone():%d %B, %H:%M}. Nothing is played.")
        self.go.setText("Recompute")
        self.presets.hide()
        self.device.hide()
        self.as_file.hide()
        self.from_recording.hide()
        self.after_command.hide()
        self._device_label.hide()
        self.stop.hide()

    def _fill(self, procedure: Any, chain: Any, settings: dict[str, Any], only: tuple[str, ...] | None = None) -> None:
        self._procedure, self._chain = procedure, chain
        expanded = self.form is not None and self.form.more.isChecked()
        hears = bool(chain.acoustic and chain.calibrated and not self._recomputing)
        self.form = SettingsForm(procedure.Settings, settings, only, expanded=expanded, sound_levels=hears)
        self.form.changed.connect(self.refresh)
        self._area.setWidget(self.form)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.refresh()

    def refresh(self) -> None:
        """Say what is wrong, or how long it takes."""
        if self.form is None:
            return
        from epidote.core.errors import EpidoteError, in_window
        from epidote.core.settings import labelled, make_settings

        words = self.form.problem()
        if not words:
            try:
                settings = make_settings(self._procedure.Settings, self.form.values())
                if not getattr(
                    settings, "material", ""
                ):  # a sound file is read when it is played, not while it is typed
                    with labelled(self._procedure.Settings):
                        next(self._procedure.conduct(settings, self._chain))
                self.estimate.setText(self._estimate(settings))
            except EpidoteError as error:
                words = in_window(error)
                self.form.show_problem(words, getattr(error, "settings", ()))
        said_below = bool(words) and not self.form.said_at_field
        self.problem.setText(words if said_below else "")
        self.problem.setVisible(said_below)
        self.after_command.setEnabled(not words and bool(self.device.currentData()))
        self.go.setEnabled(not words and (self._recomputing or bool(self.device.currentData())))

    def _estimate(self, settings: Any) -> str:
        """Return how long a run takes, and what comes before it."""
        if self._recomputing or self.form is None:
            return ""
        words = duration_words(self._procedure.duration(settings, self._chain))
        wanted = self.form.sound_level()
        if wanted:
            words += f", after bursts that find {wanted}"
        return words

    def _command(self) -> None:
        if self.form is not None:
            self.command_wanted.emit(self.form.values(), str(self.device.currentData() or ""))

    def _go(self) -> None:
        if self.form is None:
            return
        if self._recomputing:
            self.recompute_wanted.emit(self.form.values())
        else:
            device = str(self.device.currentData() or "")
            self.measure_wanted.emit(self.form.values(), device, self.form.sound_level())
