"""Room for what does not fit: at large text sizes and in small windows a page is scrolled, never cut."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QSize, Qt, QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QFrame, QScrollArea, QStackedWidget, QWidget


def least_height(widget: QWidget, width: int) -> int:
    """Return the least height of a widget at a width, with its wrapped lines whole."""
    layout = widget.layout()
    least = widget.minimumSizeHint().height()
    if isinstance(widget, CurrentStack):
        current = widget.currentWidget()
        if current is not None:
            least = least_height(current, width)
    elif layout is not None and layout.hasHeightForWidth():
        least = layout.minimumHeightForWidth(width)
    return max(least, widget.minimumHeight())


class ScrolledArea(QScrollArea):
    """Shows a widget as large as itself, and scrolls it where it needs more than that at least.

    Qt's own area would ask for the height that the widget would like to have. Where much is to be shown, the area takes
    its place in the window empty and then holds the widget: a widget that is moved to another parent gets its style
    anew, and so does all within it.
    """

    def __init__(self, inside: QWidget | None = None) -> None:
        super().__init__()
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._inside = QWidget()
        self._fit_soon = QTimer(self)
        self._fit_soon.setSingleShot(True)
        self._fit_soon.timeout.connect(self.fit)
        if inside is not None:
            self.hold(inside)

    def hold(self, inside: QWidget) -> None:
        """Show a widget; once."""
        self._inside = inside
        self.setWidget(inside)
        inside.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._inside and event.type() is QEvent.Type.LayoutRequest:
            self._fit_soon.start()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.fit()

    def sizeHint(self) -> QSize:
        return self._inside.sizeHint()

    def minimumSizeHint(self) -> QSize:
        return QSize(min(self._inside.minimumSizeHint().width(), 400), 80)

    def fit(self) -> None:
        """Give the widget the size it needs."""
        whole = self.maximumViewportSize()
        width = max(whole.width(), self._inside.minimumSizeHint().width())
        if least_height(self._inside, width) > whole.height():
            bar = self.verticalScrollBar().sizeHint().width()
            width = max(whole.width() - bar, self._inside.minimumSizeHint().width())
        height = max(whole.height(), least_height(self._inside, width))
        if width > whole.width():
            height = max(height - self.horizontalScrollBar().sizeHint().height(), least_height(self._inside, width))
        self._inside.resize(width, height)


class CurrentStack(QStackedWidget):
    """A stack that asks for the room of the widget in view, not of the largest of all."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda _: self.updateGeometry())

    def sizeHint(self) -> QSize:
        current = self.currentWidget()
        return current.sizeHint() if current is not None else super().sizeHint()

    def minimumSizeHint(self) -> QSize:
        current = self.currentWidget()
        return current.minimumSizeHint() if current is not None else super().minimumSizeHint()


class WrappingWidget(QWidget):
    """A widget whose least height is that of its wrapped lines at its present width."""

    def minimumSizeHint(self) -> QSize:
        least = super().minimumSizeHint()
        layout = self.layout()
        if layout is None or not layout.hasHeightForWidth():
            return least
        return QSize(least.width(), layout.minimumHeightForWidth(max(self.width(), least.width())))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()


def scrolled(widget: QWidget) -> ScrolledArea:
    """Return an area that shows a widget in its own size, and scrolls it where there is less room."""
    return ScrolledArea(widget)
