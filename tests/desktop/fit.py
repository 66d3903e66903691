"""Which texts of a window are cut off, and which widgets overlap."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QScrollArea,
    QWidget,
)

_TOLERANCE = 2  # pixels


def _scrolled(widget: QWidget, root: QWidget) -> bool:
    """Whether a scroll area between the widget and the root brings it into view."""
    parent = widget.parentWidget()
    while parent is not None and parent is not root:
        if isinstance(parent, QAbstractScrollArea):
            return True
        parent = parent.parentWidget()
    return False


def _needed(widget: QWidget) -> QSize | None:
    """The size in which a widget's text is whole; None for one without text."""
    if isinstance(widget, QLabel):
        if not widget.text():
            return None
        if widget.wordWrap():
            longest = max(widget.text().replace("\u200b", " ").split(), key=len)
            width = widget.fontMetrics().horizontalAdvance(longest)
            return QSize(width, widget.heightForWidth(widget.width()))
        return widget.sizeHint()
    if isinstance(widget, QCheckBox):
        return widget.sizeHint()
    if isinstance(widget, QAbstractButton):
        if not widget.text():
            return None
        return widget.sizeHint()
    if isinstance(widget, QComboBox):
        return QSize(widget.fontMetrics().horizontalAdvance(widget.currentText()) + 24, 0)
    if isinstance(widget, QLineEdit):
        return QSize(widget.fontMetrics().horizontalAdvance(widget.text()) + 8, widget.fontMetrics().height())
    return None


def named(widget: QWidget) -> str:
    text = widget.text() if hasattr(widget, "text") else ""
    if isinstance(widget, QComboBox):
        text = widget.currentText()
    return f"{type(widget.parentWidget()).__name__}/{type(widget).__name__} “{text or widget.accessibleName()}”"


def clipped(root: QWidget) -> list[str]:
    """Texts that are not whole."""
    found = []
    for widget in root.findChildren(QWidget):
        if not widget.isVisibleTo(root):
            continue
        if widget.property("elides"):  # a name from outside, which the tooltip gives whole
            if widget.currentText() not in widget.toolTip():
                found.append(f"{named(widget)} has no tooltip")
            continue
        needed = _needed(widget)
        if needed is None:
            continue
        missing = needed - widget.size()
        if missing.width() > _TOLERANCE or missing.height() > _TOLERANCE:
            found.append(f"{named(widget)} needs {needed.toTuple()}, has {widget.size().toTuple()}")
    return found


def outside(root: QWidget) -> list[str]:
    """Widgets that reach beyond the widget they are in, where nothing can be scrolled."""
    found = []
    for widget in root.findChildren(QWidget):
        parent = widget.parentWidget()
        if not widget.isVisibleTo(root) or parent is None or widget.isWindow() or _scrolled(widget, root):
            continue
        if isinstance(parent, QAbstractScrollArea | QScrollArea):
            continue
        beyond = widget.geometry().united(parent.rect()).size() - parent.size()
        if beyond.width() > _TOLERANCE or beyond.height() > _TOLERANCE:
            found.append(f"{named(widget)} reaches {beyond.toTuple()} beyond {type(parent).__name__}")
    return found


def overlapping(root: QWidget) -> list[str]:
    """Pairs of widgets in one layout that lie over each other."""
    found = []
    for parent in [root, *root.findChildren(QWidget)]:
        if not parent.isVisibleTo(root) or parent.layout() is None:
            continue
        layout = parent.layout()
        children = [w for w in (layout.itemAt(i).widget() for i in range(layout.count())) if w is not None]
        shown = [w for w in children if w.isVisibleTo(root)]
        for i, one in enumerate(shown):
            for other in shown[i + 1 :]:
                common: QRect = one.geometry().intersected(other.geometry())
                if common.width() > _TOLERANCE and common.height() > _TOLERANCE:
                    found.append(f"{named(one)} lies over {named(other)}")
    return found
