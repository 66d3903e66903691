"""Cautions in words: the weightiest in sight, the rest folded, each with what takes it away."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from epidote.desktop.widgets.plain import Label

_IN_SIGHT = 3


@dataclass(frozen=True)
class ListedCaution:
    """key: what marks elsewhere refer to. grave: the number is wrong or missing; quiet: it is only good to know.

    remedy: words of a button, "" for none.
    """

    key: Hashable
    words: str
    grave: bool = False
    quiet: bool = False
    remedy: str = ""


class CautionList(QWidget):
    """remedy_wanted: the key of a caution whose button was pressed."""

    remedy_wanted = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._cautions: tuple[ListedCaution, ...] = ()
        self._unfolded = False
        self._pointed: Hashable | None = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(4)
        self._lines = QVBoxLayout()
        self._lines.setSpacing(4)
        self._layout.addLayout(self._lines)
        self.more = QPushButton()
        self.more.setProperty("link", True)
        self.more.clicked.connect(self._toggle)
        self._layout.addWidget(self.more)
        self.show_cautions(())

    def show_cautions(self, cautions: Sequence[ListedCaution]) -> None:
        """Show cautions, the weightiest first."""
        if tuple(cautions) != self._cautions:
            self._cautions, self._pointed, self._unfolded = tuple(cautions), None, False
        self._refresh()

    def point_at(self, key: Hashable) -> None:
        """Bring a caution's sentence into sight and set it off from the others."""
        self._pointed = key
        place = next((n for n, c in enumerate(self._cautions) if c.key == key), -1)
        self._unfolded = self._unfolded or place >= self._in_sight()
        self._refresh()

    def cautions(self) -> tuple[ListedCaution, ...]:
        """Return all of them, those that are folded too."""
        return self._cautions

    def texts(self) -> list[str]:
        """Return the sentences in sight."""
        shown = self._cautions if self._unfolded else self._cautions[: self._in_sight()]
        return [c.words for c in shown]

    def _in_sight(self) -> int:
        """How many stand without being asked for: those that spoil a number, or else the first."""
        grave = sum(1 for c in self._cautions if c.grave)
        return max(1, min(_IN_SIGHT, grave))

    def _toggle(self) -> None:
        self._unfolded = not self._unfolded
        self._refresh()

    def _refresh(self) -> None:
        while (item := self._lines.takeAt(0)) is not None:
            old = item.widget()
            if old is not None:
                old.hide()
                old.deleteLater()
        folded = len(self._cautions) - self._in_sight()
        shown = self._cautions if self._unfolded else self._cautions[: self._in_sight()]
        for caution in shown:
            self._lines.addWidget(self._line(caution))
        if self._unfolded:
            self.more.setText("Show fewer")
        else:
            self.more.setText(f"{folded} more note{'s' if folded != 1 else ''}")
        self.more.setVisible(folded > 0)
        self.setVisible(bool(self._cautions))

    def _line(self, caution: ListedCaution) -> QWidget:
        whole = QWidget()
        line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        words = Label(caution.words)
        words.setWordWrap(True)
        words.setProperty("note" if caution.quiet else "caution", True)
        words.setProperty("pointed", caution.key == self._pointed)
        words.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        line.addWidget(words, 1)
        if caution.remedy:
            button = QPushButton(caution.remedy)
            button.clicked.connect(lambda _=False: self.remedy_wanted.emit(caution.key))
            line.addWidget(button)
        return whole
