"""The Chain page: what lies between the numbers and the unit, how well it is known, and the guided ways to know it
better.
"""

from __future__ import annotations

from datetime import date
from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QPushButton,
    QScrollArea,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from epidote.core.calibration.guided_steps import GUIDES, CalibrationGuide, CalibrationOutcome
from epidote.core.chain.chain import Calibration, Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import EpidoteError, in_window
from epidote.core.live.level_meter import LevelMeter, LevelSnapshot
from epidote.core.quantities.formatting import format_quantity
from epidote.core.settings import label_of
from epidote.core.stimuli.generator import NOTHING, GeneratorSettings, Waveform
from epidote.desktop.pages.chain.blocks import Block, blocks
from epidote.desktop.pages.chain.calibration_panel import CalibrationPanel
from epidote.desktop.pages.chain.chain_library_menu import ChainLibraryMenu
from epidote.desktop.pages.chain.level_panel import LevelPanel, spread_words
from epidote.desktop.pages.chain.path_view import PathView
from epidote.desktop.pages.page import Page
from epidote.desktop.state import edits
from epidote.desktop.state.session import Session
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.settings_form import Choices, SettingsForm
from epidote.study.chain_library import ChainLibrary
from epidote.study.run_table import headroom_of

if TYPE_CHECKING:
    from epidote.audio.device import Device
    from epidote.study.store import Study

_NOTES = {
    "source": "Sound device and sample format. If no device is set here, each row of the matrix uses its own.",
    "output": "Output voltage at 0 dBFS and maximum output level.",
    "unit": "Input impedance of the unit, which loads the chain's output.",
    "load": "Load connected to the unit's output.",
    "probe": (
        "Connection from the unit to the input: a probe (divider) or microphones (sensitivity in V/Pa for each input)."
    ),
    "input": "Input voltage at 0 dBFS and the inputs in use.",
    "numbers": "Every recording is saved in full, with the chain settings at that time.",
}


class ChainPage(Page):
    """Follows the study's chain; every change is an edit that can be undone."""

    def __init__(
        self, session: Session, theme: Theme, parent: QWidget | None = None, shelf: ChainLibrary | None = None
    ) -> None:
        super().__init__(parent)
        self.setProperty("help", "chain")
        self.session, self.theme = session, theme
        self.chain = Chain()
        self.kept = ChainLibraryMenu(lambda: self.chain, shelf or ChainLibrary())
        self.kept.selected.connect(lambda chain: self.change(chain, anew=True))
        self.kept.saved.connect(self.refresh)
        self.kept.said.connect(session.said)
        self.kept.failed.connect(self.failed)
        self._text = ""
        self._changes = 0
        self.blocks: dict[str, Block] = {}
        self.known_devices: list[tuple[str, str]] | None = None  # None until they are found
        self.form: SettingsForm | None = None
        self._build()
        self.setFocusProxy(self.path)
        session.opened.connect(self._forget)
        session.overview_changed.connect(self.refresh)
        session.devices_found.connect(self._devices_found)
        live = session.live
        live.updated.connect(self._live_updated)
        live.ended.connect(lambda: self._live_updated(None))
        self._live_updated(None)
        session.latency_told.connect(self.show_latency)
        session.find_devices()
        self.refresh()

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(self._build_head())
        self.path = PathView(self.theme)
        self.path.chosen.connect(self._block_chosen)
        layout.addWidget(self.path)
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.setHandleWidth(1)
        # from the outside to the inside: ScrolledArea says why
        layout.addWidget(lower, 1)
        self.left = QStackedWidget()
        lower.addWidget(self.left)
        self.left.addWidget(self._build_block_side())
        self.left.addWidget(self._build_guide())
        self.live = LevelPanel(self.theme, self.session.live)
        self.live.setObjectName("live")
        lower.addWidget(self.live)
        lower.setSizes([640, 640])
        self.guide.use_wanted.connect(self._use)
        self.guide.left.connect(self._leave_guide)
        self.guide.play_wanted.connect(self._play_for_guide)
        self.live.listen_wanted.connect(self._listen_wanted)
        self.live.channel_chosen.connect(self._channel_chosen)

    def _build_head(self) -> FlowLayout:
        head = FlowLayout(spacing=10)
        head.setContentsMargins(20, 10, 20, 4)
        self.name = Label()
        self.name.setFont(font(1.2, bold=True))
        self.look = QPushButton("Check signal path")
        self.look.setToolTip(
            "Play a short test tone at -20 dBFS and check level, channel order, stability and linearity"
        )
        self.look.clicked.connect(self.look_at_path)
        self.baseline = QPushButton("Measure baseline…")
        self.baseline.setProperty("main", True)
        self.baseline.clicked.connect(lambda _: self.action_wanted.emit("baseline"))
        head.addWidget(self.name)
        head.addWidget(self.kept)
        head.add_gap()
        head.addWidget(self.look)
        head.addWidget(self.baseline)
        return head

    def _build_block_side(self) -> QWidget:
        """Return the block that is selected: its settings, its calibrations and where its values come from."""
        self._block_side = QWidget()
        self._block_layout = QVBoxLayout(self._block_side)
        self._block_layout.setContentsMargins(20, 12, 20, 12)
        self._block_layout.setSpacing(8)
        self.heading, self.note, self.problem = Label(), Label(), Label()
        self.heading.setProperty("heading", True)
        self.note.setProperty("quiet", True)
        self.note.setWordWrap(True)
        self.problem.setProperty("error", True)
        self.problem.setWordWrap(True)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.guides = QVBoxLayout()
        self.guides.setSpacing(2)
        self._block_layout.addWidget(self.heading)
        self._block_layout.addWidget(self.note)
        self._block_layout.addWidget(self._area, 1)
        self._block_layout.addWidget(self.problem)
        inner = QWidget()
        self._form_layout = QVBoxLayout(inner)
        self._form_layout.setContentsMargins(0, 0, 0, 0)
        self._form_layout.addLayout(self.guides)
        self._form_layout.addStretch(1)
        self._area.setWidget(inner)
        return self._block_side

    def _build_guide(self) -> QWidget:
        self.guide = CalibrationPanel()
        area = QScrollArea()
        area.setWidgetResizable(True)
        holder = QWidget()
        inside = QVBoxLayout(holder)
        inside.setContentsMargins(20, 12, 20, 12)
        inside.addWidget(self.guide)
        area.setWidget(holder)
        return area

    # -- the chain ---------------------------------------------------------------------------------

    def _forget(self) -> None:
        """Another study is open: a calibration under way was that of another chain, and so is what was entered."""
        self._leave_guide()
        self.blocks, self._text = {}, ""

    def check_path(self) -> None:
        self.look_at_path()

    def refresh(self) -> None:
        self.setEnabled(self.session.study is not None)
        changes = self._changes

        def done(text: str) -> None:
            if changes == self._changes:  # not what was there before a change that is still on its way
                self._show(text)

        self.session.ask(lambda study: study.chain_toml, done)

    def _show(self, text: str) -> None:
        changed = text != self._text or not self.blocks
        self._text = text
        try:
            self.chain = chain_from_toml(text)
        except EpidoteError as error:
            self.failed.emit(in_window(error))
        self.name.setText(self.chain.name)
        self.kept.refresh()
        path_blocks = blocks(self.chain, date.today(), headroom_of(self.session.overview))
        self.blocks = {b.key: b for b in path_blocks}
        wire, weak = self._wire()
        self.path.show_path(path_blocks, wire, weak)
        self.live.set_channels(self.chain)
        writable = self.session.writable
        self.baseline.setEnabled(writable)
        if changed:
            self._show_block()
        self._say_weak()

    def _wire(self) -> tuple[str, bool]:
        """Return what is known of the baseline, and whether that weakens anything."""
        overview = self.session.overview
        if overview:
            rows = [s.id for s in overview.subjects if s.is_baseline]
        else:
            rows = []
        if overview:
            runs = [overview.runs[s, c] for s, c in overview.runs if s in rows]
        else:
            runs = []
        if not runs:
            return "Baseline (loopback, output to input): not measured", True
        latest = max(runs, key=lambda r: r.made)
        differs = self.chain.wired().differs_from(latest.chain)
        when = f"{latest.made.astimezone():%d %b %H:%M}"
        if differs:
            return f"Baseline of {when} not used: {' and '.join(differs)} changed since", True
        return (
            (
                f"Baseline (loopback, output to input): measured {when}, {len(runs)} of"
                f" {len(overview.columns) if overview else 0} columns"
            ),
            False,
        )

    def _say_weak(self) -> None:
        block = self.blocks.get(self.path.chosen_key())
        first = block if block is not None and block.weak else next((b for b in self.blocks.values() if b.weak), None)
        self.live.set_weak(f"{first.title}: {first.weak}." if first else "")

    def _block_chosen(self, _key: str) -> None:
        self._leave_guide()
        self._show_block()

    def _show_block(self) -> None:
        block = self.blocks.get(self.path.chosen_key())
        if block is None:
            return
        self.heading.setText(block.title)
        self.note.setText(_NOTES[block.key])
        self._replace_form(block)
        self._fill_guides(block)
        self._say_weak()

    def _replace_form(self, block: Block) -> None:
        choices: Choices = {"device": self.known_devices}
        form = SettingsForm(Chain, self.chain.model_dump(), block.fields, choices)
        form.setEnabled(self.session.writable)
        form.changed.connect(lambda: self._say_problem(form))
        form.committed.connect(lambda: self._commit(form))
        if self.form is not None:
            self._form_layout.removeWidget(self.form)
            self.form.hide()
            self.form.deleteLater()
        self.form = form
        self._form_layout.insertWidget(0, form)
        self.problem.setText("")

    def _say_problem(self, form: SettingsForm) -> None:
        """Say what no field of the block can say."""
        words = form.problem()
        self.problem.setText("" if form.said_at_field else words)

    def _fill_guides(self, block: Block) -> None:
        """Below the settings: the calibrations of a block, how its values were found, and what can be imported."""
        while (item := self.guides.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        if block.guides:
            words = Label("Calibrate")
            words.setProperty("quiet", True)
            self.guides.addSpacing(10)
            self.guides.addWidget(words)
        for key in block.guides:
            self.guides.addWidget(self._link(GUIDES[key].title, partial(self.begin_guide, key)))
        for name in (*block.fields, *(("unit_output_ohms",) if block.key == "load" else ())):
            entry = self.chain.latest(name)
            if entry is not None:
                label = Label(_history(entry))
                label.setProperty("quiet", True)
                label.setWordWrap(True)
                self.guides.addWidget(label)
        if block.key == "source":
            self.guides.addWidget(self._link("Refresh device list", self._look_for_devices))
        if block.key == "probe":
            self.guides.addWidget(self._link("Import microphone correction…", self.kept.choose_correction))

    def _link(self, words: str, do: Any) -> QPushButton:
        button = QPushButton(words)
        button.setProperty("link", True)
        button.clicked.connect(lambda _=False: do())
        button.setEnabled(self.session.writable)
        return button

    def _commit(self, form: SettingsForm) -> None:
        """Make what was typed the chain when it fits."""
        if form is not self.form or form.problem():
            return
        self.change(Chain.model_validate(form.values()))

    def change(self, chain: Chain, *, anew: bool = False) -> None:
        """Make it the study's chain, undoably; ``anew``: the form too, which otherwise stays as it was typed."""
        after = chain_to_toml(chain)
        if after == chain_to_toml(self.chain):
            return
        before, self._text = self._text, after  # the form that typed it stays as it is
        self._changes += 1
        self.chain = chain
        edits.set_chain(self.session, before, after)
        if anew:
            self.blocks = {}
            self._show(after)

    # -- guides ------------------------------------------------------------------------------------

    def begin_guide(self, key: str) -> None:
        self.guide.show_guide(GUIDES[key], self.chain, self._watched())
        self.guide.show_levels(None)
        self.left.setCurrentIndex(1)

    def _leave_guide(self) -> None:
        if self.left.currentIndex() == 1:
            self.session.live.play(NOTHING)
        self.left.setCurrentIndex(0)

    def _use(self, outcome: CalibrationOutcome) -> None:
        self.change(outcome.chain, anew=True)
        self._leave_guide()
        self.session.said.emit(f"{outcome.value} applies to new runs. Existing runs keep their chain settings.")

    # -- live --------------------------------------------------------------------------------------

    def _watched(self) -> int:
        return max(0, self.live.channel.currentIndex()) + 1

    def _device(self) -> str:
        """Return the chain's device, or the baseline row's."""
        overview = self.session.overview
        own = ""
        if overview:
            own = next((s.device for s in overview.subjects if s.is_baseline), "")
        return self.chain.device or own

    def _listen_wanted(self, on: bool) -> None:
        if not on:
            self.session.live.stop()
        elif not self.start_listening():
            self.live.listen.setChecked(False)

    def start_listening(self) -> bool:
        from epidote.measurement.device_setup import open_for_chain

        chain, name = self.chain, self._device()
        if not name:
            self.failed.emit("No device set. Select one in the Source block.")
            return False
        if self.left.currentIndex() == 1:
            guide = self.guide.guide
        else:
            guide = None
        if guide:
            weighting = guide.weighting
        else:
            weighting = None

        def opener() -> Device:
            device = open_for_chain(chain, name, {}, real_time=True)
            self.session.latency_told.emit(device.latency())
            return device

        count, watched = len(chain.inputs), self._watched()
        return self.session.listen(opener, chain.ceiling_dbfs, lambda rate: LevelMeter(rate, count, weighting, watched))

    def _play_for_guide(self) -> None:
        guide: CalibrationGuide | None = self.guide.guide
        if guide is None or guide.plays is None or not self.start_listening():
            return
        if guide.weighting:
            kind = Waveform.NOISE
        else:
            kind = Waveform.TONE
        self.session.live.play(
            GeneratorSettings(
                kind, min(guide.plays, self.chain.ceiling_dbfs), outputs=tuple(range(1, len(self.chain.outputs) + 1))
            )
        )

    def _channel_chosen(self, number: int) -> None:
        if self.session.live.on:
            self.start_listening()
        if self.left.currentIndex() == 1 and self.guide.guide is not None:
            self.guide.show_guide(self.guide.guide, self.chain, number)

    def _live_updated(self, now: object) -> None:
        if now is None or isinstance(now, LevelSnapshot):
            self.live.show_levels(now, self.chain)
            if self.left.currentIndex() == 1:
                self.guide.show_levels(now)
                self._follow(now)

    def _follow(self, now: LevelSnapshot | None) -> None:
        """Go to the input that hears the calibrator, where the guide calibrates one microphone after the other."""
        guide = self.guide.guide
        if now is None or guide is None or not guide.follows or now.hearing in (None, self._watched()):
            return
        self.live.channel.setCurrentIndex(now.hearing - 1)
        self._channel_chosen(now.hearing)
        self.session.said.emit(f"{self.live.channel.currentText()} hears the calibrator and is selected.")

    def show_part(self, key: str) -> None:
        """Select a block of the path."""
        self.path.choose(key)

    def show_latency(self, seconds: object) -> None:
        self.live.set_latency(seconds if isinstance(seconds, float) else None)

    def look_at_path(self) -> None:
        """Play a short burst over the chain's device, and show what it says."""
        name, chain = self._device(), self.chain
        if not name:
            self.failed.emit("No device set. Select one in the Source block.")
            return

        def work(study: Study) -> str:
            from epidote.measurement.device_setup import open_for_chain, run_precheck

            device = open_for_chain(chain, name, {}, real_time=True)
            try:
                shot = run_precheck(device, chain, -20.0, alone=True)
            finally:
                device.close()
            return (
                f"Test tone at -20 dBFS: received {shot.came_back or 'nothing'}."
                f" {shot.words or 'Level, channel order, stability and linearity are OK.'}"
            )

        self.session.runs.on_the_bench(work, self.session.said.emit)

    def _look_for_devices(self) -> None:
        def found(devices: list[tuple[str, str]]) -> None:
            self.session.said.emit(f"Devices found ({len(devices)}): {', '.join(title for _, title in devices)}.")

        self.session.find_devices(found, anew=True)

    def _devices_found(self, answer: object) -> None:
        if isinstance(answer, list):
            self.known_devices = list(answer)
        else:
            self.known_devices = None
        typing = False
        if self.focusWidget():
            typing = self.form is not None and self.form.isAncestorOf(self.focusWidget())
        if self.path.chosen_key() == "source" and not typing:
            self._show_block()

    def set_theme(self, theme: Theme) -> None:
        self.theme = self.path.theme = self.live.trail.theme = theme
        self.path.update()
        self.live.trail.update()
        self._show_block()


def _history(entry: Calibration) -> str:
    """Return a calibration as it was: when, what, how, and how steady."""
    what = label_of(Chain, entry.what)
    if entry.channel:
        channel = f", channel {entry.channel}"
    else:
        channel = ""
    if entry.spread_db is None:
        steady = ""
    else:
        steady = f", steady within {spread_words(entry.spread_db)}"
    return f"{entry.on:%d %b %Y}: {what} {format_quantity(entry.value, entry.unit)}{channel}, by {entry.how}{steady}."
