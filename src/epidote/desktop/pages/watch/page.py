"""The Watch page: what comes in, thirty times a second, against what was held before, with something playing or
nothing.
"""

from __future__ import annotations

import math
import random
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from epidote.core.analysis.spectral.hearing_threshold import threshold
from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml
from epidote.core.errors import EpidoteError, in_window
from epidote.core.live.meter_readings import Figures
from epidote.core.live.spectrum_analyser import (
    Frame,
    HeldSpectrum,
    SpectrumAnalyser,
    View,
    reduced,
)
from epidote.core.stimuli.generator import Waveform
from epidote.desktop.pages.page import Page
from epidote.desktop.pages.watch.aim_control import AimControl, LiveInputs
from epidote.desktop.pages.watch.generator_bar import GeneratorBar
from epidote.desktop.pages.watch.held_spectra_bar import NOW, StatesBar
from epidote.desktop.pages.watch.mains_panel import LinesPanel
from epidote.desktop.pages.watch.meter_panels import FiguresPanel, WaveformPanel
from epidote.desktop.pages.watch.settings_bar import ZERO, SettingsBar
from epidote.desktop.pages.watch.spectrum_widget import Layer, SpectrumWidget
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.dropout_label import DropoutLabel
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.scrolled import CurrentStack, WrappingWidget
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.measurement.chain_for_row import chain_from_settings, chain_of_row
from epidote.study.chain_settings import chain_setting

if TYPE_CHECKING:
    from epidote.audio.device import Device
    from epidote.study.models import Subject
    from epidote.study.store import Study

_TABLE_EVERY = 15


class WatchPage(Page):
    """Live spectrum, waveform and readings, with a generator and snapshots."""

    def __init__(self, session: Session, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("help", "watch")
        self.session, self.theme = session, theme
        self.chain = self._study_chain = Chain()  # of the row in view, and the study's own
        self.watch: SpectrumAnalyser | None = None
        self.frame: Frame | None = None
        self._zero = 0.0  # dBFS that reads 0 when levels are shown re a held reference
        self._count = 0
        self._figures_shown: object = None
        self._against: tuple[HeldSpectrum, View, Any] | None = None  # the compared state as the view shows it
        self._build()
        self.setFocusProxy(self.canvas)
        session.opened.connect(self._forget)
        session.overview_changed.connect(self.refresh)
        session.live.updated.connect(self.show_frame)
        session.live.began.connect(self._began)
        session.live.ended.connect(self._ended)
        self.refresh()

    # -- building ----------------------------------------------------------------------------------

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.generator = GeneratorBar(self.session)
        self.generator.changed.connect(self._play)
        self.generator.failed.connect(self.failed)
        layout.addWidget(self.generator)
        layout.addLayout(self._state_line())
        self.faults = DropoutLabel(self.session.live)
        self.faults.setContentsMargins(20, 0, 20, 2)
        layout.addWidget(self.faults)
        self.settings = SettingsBar()
        self.settings.changed.connect(self._settings_changed)
        self.settings.restart_wanted.connect(self.restart)
        self.settings.unit_chosen.connect(self._unit_chosen)
        self.settings.axis_chosen.connect(self._range)
        layout.addWidget(self.settings)
        self.canvas = SpectrumWidget(self.theme)
        self.canvas.view_changed.connect(self._view_changed)
        self.canvas.pressed.connect(self._pressed)
        outer = QGridLayout()
        outer.setContentsMargins(8, 0, 8, 0)
        outer.addWidget(self.canvas, 0, 0)
        layout.addLayout(outer, 63)
        split = QSplitter()
        split.setHandleWidth(1)
        split.setChildrenCollapsible(False)
        layout.addWidget(split, 37)
        wave_holder = self._build_lower_left()
        self.lines = LinesPanel(self.theme)
        self.lines.changed.connect(self._redraw_still)
        self.figures = FiguresPanel()
        for widget, share in ((wave_holder, 340), (self.lines, 500), (self.figures, 440)):
            split.addWidget(widget)
            split.setStretchFactor(split.count() - 1, share)
        split.setSizes([340, 500, 440])

    def _build_lower_left(self) -> QWidget:
        """Build the waveform, and the aim that can take its place."""
        wave_holder = WrappingWidget()
        wave_layout = QVBoxLayout(wave_holder)
        wave_layout.setContentsMargins(20, 8, 16, 8)
        self.wave = WaveformPanel(self.theme)
        self.span = QComboBox()
        self.span.setAccessibleName("Waveform time span")
        for ms in (1, 2, 4, 10, 20, 50, 100):
            self.span.addItem(f"{ms} ms", ms / 1000)
        self.span.setCurrentIndex(2)
        self.span.setToolTip("Time span of the waveform")
        self.span.activated.connect(lambda _: self._settings_changed())
        self.lower_left = SegmentedButtons(tabs=True)
        self.lower_left.set_options([("wave", "Waveform"), ("aim", "Aim")], ["wave"])
        self.lower_left.chosen.connect(lambda on: self.show_aim(on == ("aim",)))
        self.aim = AimControl(self.theme)
        wave_head = QHBoxLayout()
        wave_head.addWidget(self.lower_left)
        wave_head.addStretch(1)
        wave_head.addWidget(self.span)
        self._left_stack = CurrentStack()
        self._left_stack.addWidget(self.wave)
        self._left_stack.addWidget(self.aim.panel)
        wave_layout.addLayout(wave_head)
        wave_layout.addWidget(self._left_stack, 1)
        return wave_holder

    def _state_line(self) -> FlowLayout:
        line = FlowLayout(spacing=10)
        line.setContentsMargins(20, 2, 20, 2)
        self.row = QComboBox()
        self.row.setAccessibleName("Row shown live")
        self.row.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.row.setMinimumContentsLength(20)
        self.row.activated.connect(lambda _: self._row_chosen())
        self.listen = QToolButton()
        self.listen.setText("Start")
        self.listen.setCheckable(True)
        self.listen.setToolTip(
            "Start the live view of this row's device; nothing is played until the output is started"
        )
        self.row.setToolTip("Row whose device is shown live")
        self.listen.clicked.connect(lambda on: self.start() if on else self.session.live.stop())
        self.states = StatesBar(self.theme)
        self.states.hold_wanted.connect(self.hold)
        self.states.shown_changed.connect(self._redraw_still)
        self.states.reference_wanted.connect(lambda _: self._units_changed())
        self.states.keep_wanted.connect(self._ask_where)
        line.addWidget(self.listen)
        line.addWidget(self.row)
        line.addWidget(self.states)
        return line

    def show_aim(self, on: bool) -> None:
        """Show the aim in the waveform's place, or the waveform."""
        self.lower_left.set_options([("wave", "Waveform"), ("aim", "Aim")], ["aim" if on else "wave"])
        self._left_stack.setCurrentWidget(self.aim.panel if on else self.wave)
        self.span.setVisible(not on)

    # -- the chain and the device ------------------------------------------------------------------

    def _forget(self) -> None:
        """Another study is open: the spectra were those of other units, at another chain's levels."""
        self.frame = self._against = self._figures_shown = None
        self._zero = 0.0
        self.states.clear()
        self.aim.forget()
        self.row.clear()
        self.canvas.held_layers = self.canvas.live_layers = ()
        self.canvas.update()

    def refresh(self) -> None:
        self.setEnabled(self.session.study is not None)
        self.session.ask(lambda study: study.chain_toml, self._show_chain)

    def _show_chain(self, text: str) -> None:
        try:
            self.chain = chain_from_toml(text)
        except EpidoteError as error:
            self.failed.emit(in_window(error))
        overview = self.session.overview
        if overview:
            rows = [(s.full_name, s.id) for s in overview.subjects if s.device or self.chain.device]
        else:
            rows = []
        if [(self.row.itemText(i), self.row.itemData(i)) for i in range(self.row.count())] != rows:
            chosen = self.row.currentData()
            self.row.clear()
            for name, key in rows:
                self.row.addItem(name, key)
            self.row.setCurrentIndex(max(0, self.row.findData(chosen)))
        self._study_chain = self.chain
        self._use_chain_of_row()

    def _use_chain_of_row(self) -> None:
        """Read levels as the row's runs do: the baseline has no probe and no load, a row may set its own."""
        subject = self._subject()
        self.chain = self._study_chain
        if subject is not None:
            try:
                overview = self.session.overview
                settings = overview.settings if overview is not None else {}
                if settings.get(chain_setting(subject)):
                    self.chain = chain_from_settings(settings, subject)
                else:
                    self.chain = chain_of_row(self._study_chain, subject)
            except EpidoteError as error:
                self.failed.emit(in_window(error))
        self.generator.set_chain(self.chain)
        self.settings.set_chain(self.chain)
        self._range()
        self._units_changed()

    def _row_chosen(self) -> None:
        self._use_chain_of_row()
        if self.session.live.on:
            self.start()

    def _subject(self) -> Subject | None:
        overview = self.session.overview
        key = self.row.currentData()
        if overview and key is not None:
            return overview.subject(key)
        return None

    def start(self) -> bool:
        """Watch the chosen row's device."""
        from epidote.measurement.device_setup import open_for_chain

        self._use_chain_of_row()
        subject, chain = self._subject(), self.chain
        name = (subject.device if subject else "") or chain.device
        if not name:
            self.failed.emit("No device set. Select one on the Chain page or in the row's settings.")
            self.listen.setChecked(False)
            return False
        if subject:
            conditions = dict(subject.conditions)
        else:
            conditions = {}

        def opener() -> Device:
            return open_for_chain(chain, name, conditions, seed=random.randrange(2**31), real_time=True)

        settings, view = self.settings.settings(self.span.currentData()), self.canvas.view()
        return self.session.listen(
            opener, chain.ceiling_dbfs, lambda rate: SpectrumAnalyser(rate, len(chain.inputs), settings, view)
        )

    def _began(self, watch: object) -> None:
        if not isinstance(watch, SpectrumAnalyser):  # the Chain page listens
            return
        self.watch = watch
        self._settings_changed()  # whatever changed while the device opened
        self._view_changed(self.canvas.view())
        self.listen.setChecked(True)
        self.listen.setText("Stop")

    def _ended(self) -> None:
        self.listen.setChecked(False)
        self.listen.setText("Start")
        self.watch = None
        self.aim.stop()
        self.generator.set_on(False)

    def _play(self) -> None:
        programme = self.generator.programme()
        if programme is None:
            self.generator.set_on(False)
            return
        if self.watch is None and not self.session.live.on and (not self.generator.on or not self.start()):
            self.generator.set_on(False)
            return
        self.session.live.play(programme, self.generator.samples)

    def mute(self) -> None:
        """Somebody silenced everything."""
        self.generator.set_on(False)

    # -- settings ----------------------------------------------------------------------------------

    def _settings_changed(self) -> None:
        if self.watch is not None:
            self.watch.change(self.settings.settings(self.span.currentData()))

    def restart(self) -> None:
        if self.watch is not None:
            self.watch.restart()

    def _view_changed(self, view: View) -> None:
        if self.watch is not None:
            self.watch.view = view
        self._redraw_still()

    def _range(self) -> None:
        self.canvas.set_range(self.chain.rate / 2, self.settings.log)

    def _unit_chosen(self, unit: str) -> None:
        if unit == ZERO and self.frame is not None:
            highest = self.frame.high[0][np.isfinite(self.frame.high[0])]
            if highest.size:
                self._zero = float(highest.max())
            else:
                self._zero = 0.0
        self._units_changed()

    def offset(self, channel: int = 1) -> float:
        """Return what is added to dBFS to give what is shown."""
        return self.settings.offset(self.chain, self._zero, channel)

    def unit(self) -> str:
        if self.settings.unit == ZERO or self.states.reference:
            return "dB"
        return self.settings.unit

    def _units_changed(self) -> None:
        if self.states.reference:
            self.canvas.set_levels(-40, 40, "dB", f"Level re “{self.states.reference}”")
        else:
            offset = 10 * round(self.offset() / 10)
            if self.offset() != -self._zero or not self._zero:
                title = "Level"
            else:
                title = f"Level, 0 dB = {self._zero:.1f} dBFS"
            self.canvas.set_levels(-160 + offset, 10 + offset, self.unit(), title)
        self._redraw_still()

    def _pressed(self, what: str) -> None:
        if what == "output":
            self.generator.toggle()
        elif what == "hold":
            self.hold()
        elif what == "restart":
            self.restart()
        elif what == "zero":
            self.settings.units.button(ZERO).click()

    # -- states ------------------------------------------------------------------------------------

    def hold(self, *, name: str = "") -> None:
        """Keep the present state, under a name that can be changed."""
        if self.watch is None or self.frame is None:
            self.failed.emit("No live signal. Start the live view first.")
            return
        self.states.add(self.watch.hold(name or self.states.free_name()))

    def _ask_where(self, name: str) -> None:
        from PySide6.QtWidgets import QInputDialog

        overview = self.session.overview
        if overview is None or not self.session.writable:
            self.failed.emit("The study is read-only. The snapshot was not saved.")
            return
        rows = {s.full_name: s.id for s in overview.subjects}
        chosen, given = QInputDialog.getItem(
            self, f"Save “{name}” to study", "Row", list(rows), max(0, self.row.currentIndex()), False
        )
        if given:
            self.keep(name, rows[chosen])

    def keep(self, name: str, subject_id: int) -> None:
        """Make a held state a run of the study: its samples, whole, as a spectrum of a row."""
        state, mains = self.states.states[name], f"{self.lines.mains:g} Hz"
        faults = (self.faults.reported,) if self.faults.reported else ()

        def work(study: Study) -> str:
            from epidote.measurement.runner import store_recording

            run = store_recording(
                study,
                subject_id,
                "spectrum",
                {"duration": state.length / state.rate, "mains": mains},
                state.recent,
                rate=state.rate,
                device=f"Watch snapshot “{name}”",
                faults=faults,
            )
            return f"“{name}” saved as run {run.id}."

        def done(words: str) -> None:
            self.session.refresh()
            self.session.said.emit(words)

        self.session.ask(work, done)

    # -- showing -----------------------------------------------------------------------------------

    def show_frame(self, frame: object) -> None:
        if not isinstance(frame, Frame):
            return
        self.frame = frame
        if frame.view == self.canvas.view():
            self.canvas.show_now(self._now_layers(frame))
        full, unit = self.chain.scale(1)
        if self._count % 3 == 0:  # ten a second: a triggered wave stands still
            self.wave.show_waves(frame.wave_times, frame.waves, (full * math.sqrt(2), unit) if full else (1.0, "FS"))
        if frame.figures is not self._figures_shown:  # they change less often than the spectrum
            self._figures_shown = frame.figures
            self.figures.show_relation(frame.relation)
            self.figures.show_figures(
                frame.figures,
                [self.chain.scale(c + 1) for c in range(len(frame.figures))],
                self._gains(frame.figures),
            )
            if self._left_stack.currentWidget() is self.aim.panel:
                self.aim.show(LiveInputs(frame.figures, self._gains(frame.figures), self.chain, self.states.states))
        self._count += 1
        if self._count % _TABLE_EVERY == 1:
            self._fill_mains()

    def _gains(self, figures: tuple[Figures, ...]) -> list[float | None]:
        """Return the gain in dB from the generator to each input; None while nothing with one level is played."""
        programme = self.generator.programme() if self.generator.on else None
        if programme is None or programme.kind is not Waveform.TONE:
            return [None] * len(figures)
        return [f.rms - programme.level + (self.chain.offset_db(n) or 0.0) for n, f in enumerate(figures, start=1)]

    def _now_layers(self, frame: Frame) -> tuple[Layer, ...]:
        if not self.states.shown(NOW):
            return ()
        layers = []
        compared = self._compared(frame.view)
        for c in range(frame.high.shape[0] - 1, -1, -1):
            low, high = (frame.low[c] + self.offset(c + 1), frame.high[c] + self.offset(c + 1))
            if compared is not None:
                high = frame.high[c] - compared[min(c, compared.shape[0] - 1)]
                low = high
            layers.append(Layer(NOW, 0, c + 1, low, high))
        return tuple(layers)

    def _compared(self, view: View) -> np.ndarray[Any, np.dtype[np.float64]] | None:
        state = self.states.states.get(self.states.reference)
        if state is None:
            return None
        if self._against is None or self._against[0] is not state or self._against[1] != view:
            self._against = (state, view, reduced(state, view)[1])
        return self._against[2]

    def _redraw_still(self) -> None:
        view = self.canvas.view()
        layers = []
        compared = self._compared(view)
        for name, state in self.states.states.items():
            if not self.states.shown(name) or name == self.states.reference:
                continue
            low, high = reduced(state, view)
            if compared is not None:
                high = high - compared[: high.shape[0]]
                low = high
            if compared is not None:
                offset = 0.0
            else:
                offset = self.offset()
            layers.append(Layer(name, self.states.colour(name), 1, low[0] + offset, high[0] + offset))
        spl = self.lines.spl_of_zero
        if self.lines.hearing.isChecked() and spl is not None and compared is None:
            edges = view.edges()
            level = threshold((edges[:-1] + edges[1:]) / 2) - spl
            layers.append(Layer(f"Threshold of hearing (0 dB = {spl:g} dB SPL)", -1, 1, level, level, dashed=True))
        mains = self.lines.mains
        if self.watch is None:
            note = "Live view stopped. Select a row and press Start; Space starts the generator."
        else:
            note = "Waiting for signal…"
        self.canvas.show_still(tuple(layers), tuple(n * mains for n in range(1, 11)), note)
        self._fill_mains()

    def _fill_mains(self) -> None:
        states = [(s, self.states.colour(n)) for n, s in self.states.states.items() if self.states.shown(n)]
        if self.watch is not None and self.frame is not None and self.frame.filled:
            states.insert(0, (self.watch.hold(NOW, samples=False), 0))
        self.lines.fill(states, self.offset(), "dBFS" if self.states.reference else self.unit())

    def set_theme(self, theme: Theme) -> None:
        self.theme = self.wave.theme = self.lines.table.theme = theme
        self.aim.panel.set_theme(theme)
        self.states.set_theme(theme)
        self.canvas.set_theme(theme)
        self.wave.update()
        self.lines.table.update()
