"""The strip along the bottom: device, rate, what 0 dBFS is in volts, calibration, baseline, headroom.

What weakens results is said here.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QToolButton, QWidget

from epidote.desktop.state.session import Session
from epidote.desktop.theme import font
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.study.chain_settings import STUDY_CHAIN, setting_in_use
from epidote.study.models import RunSummary, Subject
from epidote.study.run_table import headroom_of, latest_of
from epidote.study.store import Study

if TYPE_CHECKING:
    from epidote.core.chain.chain import Chain

LEAST_HEADROOM_DB = 1.0

_TIPS = {
    "device": "Device of the last run and sample rate of the chain. Opens the Source block of the Chain page",
    "scale": "Voltages that read 0 dBFS at the output and at the input. Opens the Input block of the Chain page",
    "calibration": "Age of the oldest calibration used for levels. Opens the Input block of the Chain page",
    "baseline": "Loopback measurement of the chain that new runs are compared with. Selects the baseline row",
    "load": (
        "Load resistance at the unit's output; “entered” means not measured. Opens the Load block of the Chain page"
    ),
    "headroom": (
        "Margin of the last recording to full scale. Opens the Output block of the Chain page, where the maximum level"
        " is set"
    ),
}


def _chain_of(study: Study, setting: str) -> Chain:
    """Return the chain that a setting of the study holds.

    On the store's thread: two threads that load the same libraries at once can trip over each other's half-loaded
    modules.
    """
    from epidote.core.chain.chain_toml import chain_from_toml

    return chain_from_toml(study.setting(setting))


class TrustStrip(QWidget):
    """Each item is a button that leads to where the matter is mended."""

    def __init__(
        self,
        session: Session,
        open_chain: Callable[[str], None],
        choose_baseline: Callable[[], None],
        row: Callable[[], Subject | None],
    ) -> None:
        """row: returns the current row, whose own chain is shown where it has one."""
        super().__init__()
        self.setObjectName("strip")
        self._session, self._row, self._setting = session, row, ""
        layout = FlowLayout(self, spacing=4)
        layout.setContentsMargins(12, 2, 12, 2)
        self.items: dict[str, QToolButton] = {}
        for key, leads_to in (
            ("device", partial(open_chain, "source")),
            ("scale", partial(open_chain, "input")),
            ("calibration", partial(open_chain, "input")),
            ("baseline", choose_baseline),
            ("load", partial(open_chain, "load")),
            ("headroom", partial(open_chain, "output")),
        ):
            button = QToolButton()
            button.setFont(font(0.88))
            button.setToolTip(plain_tip(_TIPS[key]))
            button.clicked.connect(lambda _=False, f=leads_to: f())
            layout.addWidget(button)
            self.items[key] = button
        self.tip = Label()
        layout.addWidget(self.tip)
        self.tip.hide()
        layout.add_gap()
        self.progress, self.stop = Label(), QToolButton()
        self.stop.setText("Stop")
        self.stop.setToolTip("Stop output and measurement (Esc)")
        layout.addWidget(self.progress)
        layout.addWidget(self.stop)
        self._show_progress()
        session.overview_changed.connect(self.refresh)
        session.runs.progress_changed.connect(lambda _: self._show_progress())
        self.refresh()

    def show_tip(self, words: str) -> None:
        """Show a sentence in the items' place; "" shows the items again."""
        self.tip.setText(words)
        self.tip.setVisible(bool(words))
        for button in self.items.values():
            button.setVisible(not words and bool(button.text()) and self._session.overview is not None)

    def _show_progress(self) -> None:
        """Say what is being measured, and how many more are waiting."""
        under_way, overview = self._session.runs.under_way, self._session.overview
        running = next((cell for cell, progress in under_way.items() if not progress.waiting), None)
        words = ""
        if running is not None and overview is not None:
            subject, column = overview.subject(running[0]), overview.column(running[1])
            if subject is not None and column is not None:
                words = f"Measuring {subject.full_name}, {column.title}: {100 * under_way[running].share:.0f} %"
        waiting = len(under_way) - (running is not None)
        if waiting:
            words += f", {waiting} more" if words else f"{waiting} waiting"
        self.progress.setText(words)
        self.progress.setVisible(bool(words))
        self.stop.setVisible(bool(under_way))

    def refresh(self) -> None:
        overview, study = self._session.overview, self._session.study
        if overview is None or study is None:
            for button in self.items.values():
                button.hide()
            return
        setting = self._setting = self._setting_in_use()
        self._session.ask(lambda of: _chain_of(of, setting), self._show)

    def row_changed(self) -> None:
        """Show the chain of the row that is current now, if it is another one."""
        if self._setting_in_use() != self._setting:
            self.refresh()

    def _setting_in_use(self) -> str:
        """Return the name of the setting with the chain of the current row."""
        overview, subject = self._session.overview, self._row()
        if overview is None or subject is None:
            return STUDY_CHAIN
        return setting_in_use(overview.settings, subject)

    def _show(self, chain: Chain) -> None:
        overview = self._session.overview
        if overview is None:
            return
        last = latest_of(overview.runs)
        where = ""
        if last:
            where = f"{last.device.partition(',')[0].partition(' with')[0]}, "
        own = ""
        if self._setting != STUDY_CHAIN:
            own = f", {chain.name}, this row's own chain"
        self._set("device", f"{where}{chain.rate / 1000:g} kHz{own}", False)
        if chain.calibrated and chain.output_full_scale:
            self._set("scale", f"0 dBFS = {chain.output_full_scale:.2f} V out, {chain.unit_full_scale:.1f} V in", False)
        else:
            self._set("scale", "Not calibrated: levels in dBFS", True)
        age = chain.age_days(date.today())
        if age is None:
            self._set("calibration", "Never calibrated", True)
        else:
            if age == 0:
                words = "today"
            else:
                words = f"{age} day{'s' if age != 1 else ''} ago"
            self._set("calibration", f"Calibrated {words}", chain.stale(date.today()))
        baseline = {s.id for s in overview.subjects if s.is_baseline}
        self._baseline([overview.runs[s, c] for s, c in overview.runs if s in baseline], chain)
        peak = headroom_of(overview)
        if peak is not None:
            self._set("headroom", f"Headroom {peak:.1f} dB", peak < LEAST_HEADROOM_DB)
        else:
            self.items["headroom"].setText("")
            self.items["headroom"].hide()
        weak = chain.load_ohms is not None and not chain.load_confirmed
        load = "No load specified"
        if chain.load_ohms:
            load = f"Load {chain.load_ohms:g} Ω" + (" (entered)" if weak else "")
        self._set("load", load, weak)

    def _baseline(self, runs: list[RunSummary], chain: Chain) -> None:
        if not runs:
            self._set("baseline", "No baseline", True)
            return
        latest = max(runs, key=lambda r: r.made)
        differs = chain.wired().differs_from(type(chain).model_validate(latest.chain))
        unfit = ""
        if differs:
            unfit = f", not used: {' and '.join(differs)} changed"
        self._set("baseline", f"Baseline {latest.made.astimezone():%d %b %H:%M}{unfit}", bool(differs))

    def _set(self, key: str, words: str, weak: bool) -> None:
        button = self.items[key]
        button.setText(("▲ " if weak else "") + words)
        if button.property("weak") != weak:
            button.setProperty("weak", weak)
            button.style().unpolish(button)
            button.style().polish(button)
        button.setVisible(not self.tip.isVisibleTo(self))
