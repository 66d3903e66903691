"""The Watch page: what comes in, thirty times a second, against what was held before, with something playing or nothing."""

from __future__ import annotations

import math
import random
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QSplitter, QToolButton, QVBoxLayout, QWidget

from epidote.core.chain import Chain
from epidote.core.chain_file import chain_from_toml
from epidote.core.display import NOT_GIVEN
from epidote.core.errors import EpidoteError
from epidote.core.hearing import components, statement, threshold
from epidote.core.live.spectrum import (
    LENGTHS,
    WINDOWS,
    Averaging,
    Frame,
    SpectrumSettings,
    SpectrumWatch,
    State,
    View,
    mains_lines,
    reduced,
    sum_of,
)
from epidote.core.quantity import LEVEL_UNITS, to_db
from epidote.desktop.session import Session
from epidote.desktop.theme import Theme
from epidote.desktop.watch.canvas import Layer, SpectrumCanvas
from epidote.desktop.watch.generator import GeneratorBar
from epidote.desktop.watch.panels import FiguresPanel, MainsTable, WaveView, heading
from epidote.desktop.watch.states import NOW, StatesBar
from epidote.desktop.widgets.choice import Choice

if TYPE_CHECKING:
    from epidote.audio.device import Device
    from epidote.study.models import Subject
    from epidote.study.store import Study

_LINES_SHOWN, _TABLE_EVERY = 5, 15
_ZERO = "0 here"


class WatchPage(QWidget):
    failed = Signal(str)

    def __init__(self, session: Session, theme: Theme) -> None:
        super().__init__()
        self.session, self.theme = session, theme
        self.chain = Chain()
        self.watch: SpectrumWatch | None = None
        self.frame: Frame | None = None
        self._zero = 0.0  # dBFS that reads 0 when levels are shown re a held reference
        self._count = 0
        self._against: tuple[State, View, Any] | None = None  # the compared state as the view shows it
        self._build()
        session.overview_changed.connect(self.refresh)
        session.live.updated.connect(self._updated)
        session.live.began.connect(self._began)
        session.live.ended.connect(self._ended)
        self.refresh()

    # -- building -----------------------------------------------------------------------------------------------------------

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.generator = GeneratorBar()
        self.generator.changed.connect(self._play)
        self.generator.failed.connect(self.failed)
        layout.addWidget(self.generator)
        layout.addLayout(self._state_line())
        layout.addLayout(self._setting_line())
        self.canvas = SpectrumCanvas(self.theme)
        self.canvas.view_changed.connect(self._view_changed)
        self.canvas.pressed.connect(self._pressed)
        split = QSplitter()
        split.setHandleWidth(1)
        split.setChildrenCollapsible(False)
        wave_holder = QWidget()
        wave_layout = QVBoxLayout(wave_holder)
        wave_layout.setContentsMargins(20, 8, 16, 8)
        self.wave = WaveView(self.theme)
        wave_head = QHBoxLayout()
        wave_head.addWidget(heading("Waveform")[0], 1)
        wave_head.addWidget(self.span)
        wave_layout.addLayout(wave_head)
        wave_layout.addWidget(self.wave, 1)
        mains_holder = QWidget()
        mains_layout = QVBoxLayout(mains_holder)
        mains_layout.setContentsMargins(16, 8, 16, 8)
        mains_head, self.mains_remark = heading("Lines of the mains")
        mains_line = QHBoxLayout()
        mains_line.addWidget(mains_head, 1)
        mains_line.addWidget(self.hertz)
        self.mains = MainsTable(self.theme)
        self.heard = QLabel()
        self.heard.setWordWrap(True)
        self.heard.setProperty("quiet", True)
        mains_layout.addLayout(mains_line)
        mains_layout.addWidget(self.mains, 1)
        hearing_line = QHBoxLayout()
        for item in (self.hearing, QLabel("if 0 dB is"), self.playback, QLabel("dB SPL")):
            hearing_line.addWidget(item)
        hearing_line.addStretch(1)
        mains_layout.addLayout(hearing_line)
        mains_layout.addWidget(self.heard)
        self.figures = FiguresPanel()
        for widget, share in ((wave_holder, 340), (mains_holder, 500), (self.figures, 440)):
            split.addWidget(widget)
            split.setStretchFactor(split.count() - 1, share)
        split.setSizes([340, 500, 440])
        outer = QGridLayout()
        outer.setContentsMargins(8, 0, 8, 0)
        outer.addWidget(self.canvas, 0, 0)
        layout.addLayout(outer, 63)
        layout.addWidget(split, 37)

    def _state_line(self) -> QHBoxLayout:
        line = QHBoxLayout()
        line.setContentsMargins(20, 2, 20, 2)
        line.setSpacing(10)
        self.row = QComboBox()
        self.row.setAccessibleName("Row whose device is watched")
        self.row.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.row.setMinimumContentsLength(20)
        self.row.activated.connect(lambda _: self.start() if self.session.live.on else None)
        self.listen = QToolButton()
        self.listen.setText("Watch")
        self.listen.setCheckable(True)
        self.listen.clicked.connect(lambda on: self.start() if on else self.session.live.stop())
        self.states = StatesBar(self.theme)
        self.states.hold_wanted.connect(self.hold)
        self.states.shown_changed.connect(self._redraw_still)
        self.states.reference_wanted.connect(lambda _: self._units_changed())
        self.states.keep_wanted.connect(self._ask_where)
        line.addWidget(self.listen)
        line.addWidget(self.row)
        line.addSpacing(8)
        line.addWidget(self.states, 1)
        return line

    def _setting_line(self) -> QHBoxLayout:
        line = QHBoxLayout()
        line.setContentsMargins(20, 2, 20, 2)
        line.setSpacing(10)
        self.length, self.window_choice, self.average = QComboBox(), QComboBox(), QComboBox()
        for combo, name in ((self.length, "Length"), (self.window_choice, "Window"), (self.average, "Averaging")):
            combo.setAccessibleName(name)
            combo.activated.connect(lambda _: self._settings_changed())
        for n in LENGTHS:
            self.length.addItem(f"{n // 1024} k" if n >= 1024 else str(n), n)
        self.length.setCurrentIndex(LENGTHS.index(65536))
        self.window_choice.addItems(list(WINDOWS))
        for words, kind, count in (
            ("each by itself", Averaging.NONE, 1), ("average of 8", Averaging.LINEAR, 8), ("average of 64", Averaging.LINEAR, 64),
            ("rolling, 8", Averaging.EXPONENTIAL, 8), ("highest so far", Averaging.PEAK, 1),
        ):  # fmt: skip
            self.average.addItem(words, (kind, count))
        self.again = QToolButton()
        self.again.setText("Begin anew · R")
        self.again.clicked.connect(self.restart)
        self.units, self.axis, self.hertz = Choice(), Choice(), Choice()
        self.axis.set_options([("log", "log"), ("linear", "linear")], ["log"])
        self.hertz.set_options([("50", "50 Hz"), ("60", "60 Hz")], ["50"])
        self.hearing = QToolButton()
        self.hearing.setText("threshold of hearing")
        self.hearing.setCheckable(True)
        self.hearing.clicked.connect(lambda _: self._redraw_still())
        self.playback = QLineEdit("96")
        self.playback.setFixedWidth(44)
        self.playback.setAccessibleName("dB SPL at the listener that 0 dB is")
        self.playback.editingFinished.connect(self._redraw_still)
        self.span = QComboBox()
        self.span.setAccessibleName("Length of the waveform")
        for ms in (1, 2, 4, 10, 20, 50, 100):
            self.span.addItem(f"{ms} ms", ms / 1000)
        self.span.setCurrentIndex(2)
        self.span.activated.connect(lambda _: self._settings_changed())
        self.units.chosen.connect(self._unit_chosen)
        self.axis.chosen.connect(lambda _: self._range())
        self.hertz.chosen.connect(lambda _: self._redraw_still())
        items: tuple[QWidget, ...] = (
            self.length, self.window_choice, self.average, self.again, self.units, self.axis,
        )  # fmt: skip
        for item in items:
            line.addWidget(item)
        line.addStretch(1)
        return line

    # -- the chain and the device -------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        self.setEnabled(self.session.study is not None)
        self.session.ask(lambda study: study.chain_toml, self._show_chain)

    def _show_chain(self, text: str) -> None:
        try:
            self.chain = chain_from_toml(text) if text else Chain()
        except EpidoteError as error:
            self.failed.emit(str(error))
        self.generator.set_chain(self.chain)
        overview = self.session.overview
        rows = [(s.full_name, s.id) for s in overview.subjects if s.device or self.chain.device] if overview else []
        if [(self.row.itemText(i), self.row.itemData(i)) for i in range(self.row.count())] != rows:
            chosen = self.row.currentData()
            self.row.clear()
            for name, key in rows:
                self.row.addItem(name, key)
            self.row.setCurrentIndex(max(0, self.row.findData(chosen)))
        options = [("dBFS", "dBFS")]
        full, unit = self.chain.scale(1)
        if full:
            options.append(("dBV", "dBV") if unit == "V" else ("dB SPL", "dB SPL"))
        options.append((_ZERO, "0 here · Z"))
        on = self.units.on() or ("dBFS",)
        self.units.set_options(options, on if on[0] in dict(options) else ["dBFS"])
        self._range()
        self._units_changed()

    def _subject(self) -> Subject | None:
        overview = self.session.overview
        key = self.row.currentData()
        return overview.subject(key) if overview and key is not None else None

    def start(self) -> bool:
        """Watch the chosen row's device."""
        from epidote.bench import open_for

        subject, chain = self._subject(), self.chain
        name = (subject.device if subject else "") or chain.device
        if not name:
            self.failed.emit("There is no device to watch: choose one on the Chain page, or for a row of the matrix.")
            self.listen.setChecked(False)
            return False
        conditions = dict(subject.conditions) if subject else {}

        def opener() -> Device:
            return open_for(chain, name, conditions, seed=random.randrange(2**31), real_time=True)

        def make(rate: float, channels: int) -> SpectrumWatch:
            self.watch = SpectrumWatch(rate, channels, self._settings(), self.canvas.view())
            return self.watch

        return self.session.listen(opener, chain.ceiling_dbfs, make, len(chain.inputs))

    def _began(self) -> None:
        self.listen.setChecked(True)
        self.listen.setText("Watching")

    def _ended(self) -> None:
        self.listen.setChecked(False)
        self.listen.setText("Watch")
        self.watch = None
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

    def muted(self) -> None:
        """Somebody silenced everything."""
        self.generator.set_on(False)

    # -- settings -----------------------------------------------------------------------------------------------------------

    def _settings(self) -> SpectrumSettings:
        kind, count = self.average.currentData()
        return SpectrumSettings(self.length.currentData(), self.window_choice.currentText(), kind, count, self.span.currentData())

    def _settings_changed(self) -> None:
        if self.watch is not None:
            self.watch.change(self._settings())

    def restart(self) -> None:
        if self.watch is not None:
            self.watch.restart()

    def _view_changed(self, view: View) -> None:
        if self.watch is not None:
            self.watch.view = view
        self._redraw_still()

    def _range(self) -> None:
        self.canvas.set_range(self.chain.rate / 2, self.axis.on() != ("linear",))

    def _unit_chosen(self, on: tuple[str, ...]) -> None:
        if on == (_ZERO,) and self.frame is not None:
            highest = self.frame.high[0][np.isfinite(self.frame.high[0])]
            self._zero = float(highest.max()) if highest.size else 0.0
        self._units_changed()

    def offset(self, channel: int = 1) -> float:
        """What is added to dBFS to give what is shown."""
        unit = (self.units.on() or ("dBFS",))[0]
        if unit == _ZERO:
            return -self._zero
        full, _ = self.chain.scale(channel)
        return to_db(full / LEVEL_UNITS[unit][1]) if unit != "dBFS" and full else 0.0

    def unit(self) -> str:
        chosen = (self.units.on() or ("dBFS",))[0]
        return "dB" if chosen == _ZERO or self.states.reference else chosen

    def _units_changed(self) -> None:
        if self.states.reference:
            self.canvas.set_levels(-40, 40, "dB", f"Against “{self.states.reference}”")
        else:
            offset = 10 * round(self.offset() / 10)
            title = "Level" if self.offset() != -self._zero or not self._zero else f"Level, 0 is {self._zero:.1f} dBFS"
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
            self.units.button(_ZERO).click()

    # -- states -------------------------------------------------------------------------------------------------------------

    def hold(self, name: str = "") -> None:
        """Keep the present state, under a name that can be changed."""
        if self.watch is None or self.frame is None:
            self.failed.emit("There is nothing to hold: watch something first.")
            return
        self.states.add(self.watch.hold(name or self.states.free_name()))

    def _ask_where(self, name: str) -> None:
        from PySide6.QtWidgets import QInputDialog

        overview = self.session.overview
        if overview is None or not self.session.writable:
            self.failed.emit("The study cannot be changed, so the state stays here only.")
            return
        rows = {s.full_name: s.id for s in overview.subjects}
        chosen, given = QInputDialog.getItem(
            self, f"Put “{name}” into the study", "As a spectrum of", list(rows), max(0, self.row.currentIndex()), False
        )
        if given:
            self.keep(name, rows[chosen])

    def keep(self, name: str, subject_id: int) -> None:
        """Make a held state a run of the study: its samples, whole, as a spectrum of a row."""
        state, mains = self.states.states[name], f"{self.hertz.on()[0]} Hz"

        def work(study: Study) -> str:
            from epidote.conductor import keep_recording

            run = keep_recording(
                study,
                subject_id,
                "spectrum",
                {"duration": state.length / state.rate, "mains": mains},
                state.recent,
                state.rate,
                f"Watch, “{name}”",
            )
            return f"“{name}” is in the study as run {run.id}."

        def done(words: str) -> None:
            self.session.refresh()
            self.session.said.emit(words)

        self.session.ask(work, done)

    # -- showing ------------------------------------------------------------------------------------------------------------

    def _updated(self, frame: object) -> None:
        if not isinstance(frame, Frame):
            return
        self.frame = frame
        if frame.view == self.canvas.view():
            self.canvas.show_now(self._now_layers(frame))
        full, unit = self.chain.scale(1)
        if self._count % 2:  # fifteen a second: a triggered wave stands still
            self.wave.show_waves(frame.wave_times, frame.waves, (full * math.sqrt(2), unit) if full else (1.0, "FS"))
        self.figures.show_figures(frame.figures, [self.chain.scale(c + 1) for c in range(len(frame.figures))])
        self._count += 1
        if self._count % _TABLE_EVERY == 1:
            self._fill_mains()

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
            offset = 0.0 if compared is not None else self.offset()
            layers.append(Layer(name, self.states.colour(name), 1, low[0] + offset, high[0] + offset))
        spl = self._spl_of_zero()
        if self.hearing.isChecked() and spl is not None and compared is None:
            edges = view.edges()
            level = threshold((edges[:-1] + edges[1:]) / 2) - spl
            layers.append(Layer(f"threshold of hearing, if 0 dB is {spl:g} dB SPL", -1, 1, level, level, dashed=True))
        mains = float(self.hertz.on()[0])
        note = "Nothing is watched. Choose a row, and press Watch; Space lets the generator play." if self.watch is None else "listening …"
        self.canvas.show_still(tuple(layers), tuple(n * mains for n in range(1, 11)), note)
        self._fill_mains()

    def _spl_of_zero(self) -> float | None:
        """dB SPL at the listener of what reads 0 dB here."""
        try:
            value = float(self.playback.text().replace(",", "."))
        except ValueError:
            return None
        return value if math.isfinite(value) and abs(value) <= 200 else None

    def _fill_mains(self) -> None:
        mains, offset = float(self.hertz.on()[0]), self.offset()
        states: list[tuple[str, State]] = [(n, s) for n, s in self.states.states.items() if self.states.shown(n)]
        if self.watch is not None and self.frame is not None and self.frame.filled:
            states.insert(0, (NOW, self.watch.hold(NOW, samples=False)))
        lines = [mains_lines(s, mains) for _, s in states]
        rows = [(f"{(k + 1) * mains:g} Hz", [_shown(state_lines[k][1], offset) for state_lines in lines]) for k in range(_LINES_SHOWN)]
        rows.append((f"sum to {10 * mains:g} Hz", [_shown(sum_of([v for _, v in state_lines]), offset) for state_lines in lines]))
        spl = self._spl_of_zero()
        if spl is not None:
            rows.append(("under hearing by", [_margin(state_lines, offset + spl) for state_lines in lines]))
        self.mains.show_table([(n, self.states.colour(n)) for n, _ in states], rows)
        self.mains_remark.setText(
            "too short a length to tell them"
            if lines and all(v is None for v in (x[1] for x in lines[0])) and self.length.currentData() < 16384
            else f"{self.unit() if not self.states.reference else 'dBFS'}, input 1"
        )
        self._say_heard(states, offset, spl)

    def _say_heard(self, states: list[tuple[str, State]], offset: float, spl: float | None) -> None:
        if not self.hearing.isChecked() or spl is None or not states:
            self.heard.setText("")
            return
        state = states[0][1]
        levels = 10 * np.log10(np.maximum(state.power[0], 1e-22).astype(np.float64)) + offset
        self.heard.setText(statement(components(levels, state.rate / state.length, spl), spl))

    def set_theme(self, theme: Theme) -> None:
        self.theme = self.wave.theme = self.mains.theme = theme
        self.states.set_theme(theme)
        self.canvas.set_theme(theme)
        self.wave.update()
        self.mains.update()


def _shown(level: float | None, offset: float) -> str:
    return NOT_GIVEN if level is None else f"{level + offset:.1f}"


def _margin(lines: list[tuple[float, float | None]], spl_of_dbfs: float) -> str:
    """By how much the line nearest to the threshold of hearing lies below it."""
    margins = [float(threshold(np.array([f]))[0]) - v - spl_of_dbfs for f, v in lines if v is not None]
    finite = [m for m in margins if math.isfinite(m)]
    return f"{min(finite):.0f} dB" if finite else NOT_GIVEN
