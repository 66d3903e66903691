"""The steps of the routine with their state and margin."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded

if TYPE_CHECKING:
    from epidote.measurement.routine.outcome import StepOutcome

_BAR_WIDTH, _BAR_HEIGHT, _STATE_WIDTH = 60, 6, 90  # pixels


class StepsView(QWidget):
    """One line for each step: its title, a bar of the margin as a share, and its state in words."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._titles: list[str] = []
        self._outcomes: dict[int, StepOutcome] = {}
        self._running, self._share = 0, 0.0

    def set_theme(self, theme: Theme) -> None:
        """Show the same in another theme."""
        self.theme = theme
        self.update()

    def show_steps(self, titles: Sequence[str]) -> None:
        """Show the steps of a routine, none begun."""
        self._titles = list(titles)
        self.clear()
        self.updateGeometry()

    def clear(self) -> None:
        """Take the states away."""
        self._outcomes, self._running, self._share = {}, 0, 0.0
        self._changed()

    def show_running(self, number: int, share: float) -> None:
        """Show which step, from 1, is under way and how far; 0 for none."""
        self._running, self._share = number, share
        self._changed()

    def show_outcome(self, outcome: StepOutcome) -> None:
        """Show what a step ended with."""
        self._outcomes[outcome.number] = outcome
        self._changed()

    def state(self, number: int) -> str:
        """Return the state of a step in words."""
        outcome = self._outcomes.get(number)
        if outcome is not None and number != self._running:
            if outcome.verdict == "passed" and not outcome.procedure:
                return outcome.answer or "done"
            return str(outcome.verdict)
        if number == self._running:
            return f"{100 * self._share:.0f} %" if self._share > 0 else "under way"
        return ""

    def _changed(self) -> None:
        lines = [f"{title}: {self.state(n) or 'waiting'}" for n, title in enumerate(self._titles, start=1)]
        self.setAccessibleName("Steps of the routine")
        self.setAccessibleDescription("; ".join(lines))
        self.update()

    @property
    def _line(self) -> int:
        return round(2.6 * self.fontMetrics().height())

    def sizeHint(self) -> QSize:
        return QSize(300, max(1, len(self._titles)) * self._line)

    def minimumSizeHint(self) -> QSize:
        return QSize(240, self.sizeHint().height())

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        for number, title in enumerate(self._titles, start=1):
            self._paint_step(p, number, title, (number - 1) * self._line)
        p.end()

    def _paint_step(self, p: QPainter, number: int, title: str, top: int) -> None:
        theme, height, width = self.theme, self._line, self.width()
        running = number == self._running
        p.setFont(font(bold=running))
        p.setPen(theme.colour("text"))
        room = width - _BAR_WIDTH - _STATE_WIDTH - 24
        words = p.fontMetrics().elidedText(title, Qt.TextElideMode.ElideRight, room)
        middle = Qt.AlignmentFlag.AlignVCenter
        p.drawText(QRectF(0, top, room, height), middle, words)
        outcome = self._outcomes.get(number)
        state_colour = "quiet"
        if outcome is not None and not running and outcome.procedure:
            state_colour = "accent" if outcome.good else "caution"
        p.setPen(theme.colour("text" if running else state_colour))
        p.drawText(QRectF(width - _STATE_WIDTH, top, _STATE_WIDTH, height), middle, self.state(number))
        share = self._share if running and self._share > 0 else None
        if outcome is not None and not running:
            share = outcome.share
        if share is not None:
            self._paint_bar(
                p,
                QRectF(room + 12, top + (height - _BAR_HEIGHT) / 2, _BAR_WIDTH, _BAR_HEIGHT),
                share,
                "quiet" if running else state_colour,
            )
        p.setPen(QPen(theme.colour("line"), 1))
        p.drawLine(0, top + height - 1, width, top + height - 1)

    def _paint_bar(self, p: QPainter, box: QRectF, share: float, colour: str) -> None:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(self.theme.colour("faint_line"))
        p.drawRoundedRect(box, 3, 3)
        filled = min(max(share, 0.0), 1.0)
        if share < 0:
            filled = 1.0  # beyond the limit: all of it, in the colour of what failed
        p.setBrush(self.theme.colour(colour))
        p.drawRoundedRect(QRectF(box.left(), box.top(), box.width() * filled, box.height()), 3, 3)
