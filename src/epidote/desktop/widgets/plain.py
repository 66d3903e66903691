"""Text in the window is text: names come from studies, devices and files that somebody else may have made, so
nothing is read as markup.
"""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import Qt as GuiQt
from PySide6.QtWidgets import QLabel, QWidget


class Label(QLabel):
    """A label that shows its text as it is. The window uses no other."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


def heading(words: str) -> Label:
    """Return a label that stands over a group."""
    label = Label(words)
    label.setProperty("heading", True)
    return label


def quiet(words: str = "") -> Label:
    """Return a label of lesser words that wrap."""
    label = Label(words)
    label.setProperty("quiet", True)
    label.setWordWrap(True)
    return label


def button_text(name: str) -> str:
    """Return a name for a button, menu entry or tab, which take & for an underlined letter."""
    return name.replace("&", "&&")


def plain_tip(text: str) -> str:
    """Return a text as a tooltip's: Qt reads what looks like markup as such, so that is escaped.

    Every tooltip that is not a constant is one.
    """
    if not GuiQt.mightBeRichText(text):
        return text
    escaped = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace("\n", "<br>")
    return f"<qt>{escaped}</qt>"
