"""The verdict in letters that can be read from three metres, as large as the width allows."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded

_MOST_POINTS, _LEAST_POINTS = 120.0, 18.0
_SHARE_OF_WIDTH = 0.94
_COLOURS = {"passed": "accent", "failed": "caution", "not decided": "text", "not measured": "quiet"}


class VerdictView(QWidget):
    """A word in capitals: a verdict in its colour, anything else quiet. Words and sound say the same as the colour."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.word = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def set_theme(self, theme: Theme) -> None:
        """Show the same in another theme."""
        self.theme = theme
        self.update()

    def show_word(self, word: str) -> None:
        """Show a verdict, or a state such as "measuring"."""
        self.word = word
        self.setAccessibleName(f"Verdict: {word}" if word else "Verdict")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(520, 150)

    def minimumSizeHint(self) -> QSize:
        return QSize(240, 60)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        words = self.word.upper()
        p.setFont(self._fitting(words))
        p.setPen(self.theme.colour(_COLOURS.get(self.word, "quiet")))
        p.drawText(QRectF(self.rect()), Qt.AlignmentFlag.AlignCenter, words)
        p.end()

    def _fitting(self, words: str) -> QFont:
        """Return the largest type in which the words fit."""
        made = font(bold=True)
        made.setPointSizeF(_MOST_POINTS)
        metrics = QFontMetricsF(made)
        width = max(metrics.horizontalAdvance(words), 1.0)
        share = min(_SHARE_OF_WIDTH * self.width() / width, _SHARE_OF_WIDTH * self.height() / metrics.height(), 1.0)
        made.setPointSizeF(max(_LEAST_POINTS, _MOST_POINTS * share))
        return made
