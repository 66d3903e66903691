"""Text in the window is text: names come from studies, devices and files that somebody else may have made, so nothing is read as markup."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QModelIndex, QObject, Qt
from PySide6.QtGui import QHelpEvent
from PySide6.QtGui import Qt as GuiQt
from PySide6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QLabel, QToolTip, QWidget


class Label(QLabel):
    """A label that shows its text as it is. The window uses no other."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


def button_text(name: str) -> str:
    """A name for a button, menu entry or tab, which take & for an underlined letter."""
    return name.replace("&", "&&")


def plain_tip(text: str) -> str:
    """A text as a tooltip's: Qt reads what looks like markup as such, so that is escaped."""
    if not GuiQt.mightBeRichText(text):
        return text
    escaped = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace("\n", "<br>")
    return f"<qt>{escaped}</qt>"


class TipGuard(QObject):
    """Watches the application's tooltips: one that looks like markup is shown as the text it is, whoever set it."""

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() != QEvent.Type.ToolTip or not isinstance(event, QHelpEvent) or not isinstance(watched, QWidget):
            return False
        text = _tip_of(watched, event)
        if not GuiQt.mightBeRichText(text):
            return False
        QToolTip.showText(event.globalPos(), plain_tip(text), watched)
        return True


def _tip_of(widget: QWidget, event: QHelpEvent) -> str:
    """The tooltip that Qt would show: of the item under the pointer, or of the widget."""
    view = widget.parent()
    if isinstance(view, QHeaderView) and widget is view.viewport() and view.model() is not None:
        told: Any = view.model().headerData(view.logicalIndexAt(event.pos()), view.orientation(), Qt.ItemDataRole.ToolTipRole)
        return str(told or "")
    if isinstance(view, QAbstractItemView) and widget is view.viewport():
        index: QModelIndex = view.indexAt(event.pos())
        return str(index.data(Qt.ItemDataRole.ToolTipRole) or "") if index.isValid() else ""
    return widget.toolTip()


def guard_tips(app: QApplication) -> None:
    """Install the guard, once."""
    if app.findChild(TipGuard) is None:
        app.installEventFilter(TipGuard(app))
