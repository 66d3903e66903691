"""The letters as large targets, each with its key."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QFontMetricsF, QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import plain_tip

UNKNOWN_KEY = "Space"
_ROUND = 6.0
_LETTER, _WORD = 5.0, 1.7  # of the usual text size
_MOST_LARGE, _SMALLER = 3, 0.72  # so many letters are shown in full size, more in this share of it


class LetterTarget(QAbstractButton):
    """One label: a large letter, the key that plays it, and whether it sounds."""

    def __init__(self, theme: Theme, label: str, key: str, *, size: float) -> None:
        """size: share of the usual size."""
        super().__init__()
        self.theme, self.label, self.key = theme, label, key
        self._share = size
        self.heard = self.playing = False
        self.setCheckable(True)
        self.setAccessibleName(f"Play {label}")
        self.setToolTip(plain_tip(f"Play {label} (key {key})"))
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        unit = QFontMetricsF(font()).height()
        wide = QFontMetricsF(self._letter_font()).horizontalAdvance(self.label)
        return QSize(round(max(9 * unit * self._share, wide + 1.5 * unit)), round(9.5 * unit * self._share))

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def _letter_font(self) -> QFont:
        return font(self._share * (_LETTER if len(self.label) == 1 else _WORD), bold=True)

    def show_state(self, *, current: bool, playing: bool, heard: bool) -> None:
        self.setChecked(current)
        self.playing, self.heard = current and playing, heard
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Leave the space bar to the page, where it plays the unknown clip or pauses."""
        if event.key() == Qt.Key.Key_Space:
            event.ignore()
            return
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
            return
        super().keyPressEvent(event)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        box = QRectF(self.rect()).adjusted(2, 2, -2, -2)
        edge = t.colour("accent") if self.isChecked() or self.hasFocus() else t.colour("line")
        p.setPen(QPen(edge, 3 if self.hasFocus() else 2))
        p.setBrush(t.colour("accent_back") if self.isChecked() else t.colour("raised"))
        p.drawRoundedRect(box, _ROUND, _ROUND)
        p.setPen(t.colour("accent") if self.isChecked() else t.colour("text"))
        p.setFont(self._letter_font())
        upper = QRectF(box.left(), box.top(), box.width(), 0.74 * box.height())
        p.drawText(upper, Qt.AlignmentFlag.AlignCenter, self.label)
        p.setFont(font(0.95))
        p.setPen(t.colour("accent") if self.isChecked() else t.colour("quiet"))
        lower = QRectF(box.left(), box.top() + 0.7 * box.height(), box.width(), 0.26 * box.height())
        p.drawText(lower, Qt.AlignmentFlag.AlignCenter, self._words())

    def _words(self) -> str:
        if self.playing:
            return f"{self.key} · playing"
        if self.heard:
            return f"{self.key} · played"
        return f"key {self.key}"


class Letters(QWidget):
    """The targets of a trial, side by side."""

    wanted = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.targets: dict[str, LetterTarget] = {}
        self._layout = FlowLayout(self, spacing=20, centred=True)
        self._layout.setContentsMargins(0, 0, 0, 0)

    def show_labels(self, labels: Sequence[tuple[str, str]]) -> None:
        """Show labels with their keys."""
        if [(t.label, t.key) for t in self.targets.values()] == list(labels):
            return
        for old in self.targets.values():
            old.hide()
            old.deleteLater()
        self.targets = {}
        size = 1.0 if len(labels) <= _MOST_LARGE else _SMALLER
        for label, key in labels:
            target = LetterTarget(self.theme, label, key, size=size)
            target.clicked.connect(lambda _=False, name=label: self.wanted.emit(name))
            self.targets[label] = target
            self._layout.addWidget(target)

    def show_state(self, current: str, *, playing: bool, heard: Sequence[str]) -> None:
        for label, target in self.targets.items():
            target.show_state(current=label == current, playing=playing, heard=label in heard)

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        for target in self.targets.values():
            target.theme = theme
            target.update()


def key_of(label: str) -> str:
    """Return the key that plays a label."""
    if len(label) == 1 and label.isalpha():
        return label
    if label == "?":
        return UNKNOWN_KEY
    return label[:1].upper()
