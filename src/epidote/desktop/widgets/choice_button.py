"""A large button of a title and a sentence that says what follows."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QPushButton, QSizePolicy, QVBoxLayout

from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import Label


class ChoiceButton(QPushButton):
    """title: what it does; words: what that leads to, in one or more lines."""

    def __init__(self, title: str, words: str) -> None:
        super().__init__()
        self.setProperty("choice", True)
        self.setAccessibleName(title)
        self.setAccessibleDescription(words)
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 8, 14, 8)
        layout.setSpacing(1)
        self.title, self.words = Label(title), Label(words)
        self.title.setFont(font(1.1, bold=True))
        self.words.setProperty("quiet", True)
        self.words.setWordWrap(True)
        for label in (self.title, self.words):
            label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            layout.addWidget(label)

    def sizeHint(self) -> QSize:
        own = self.layout()
        return own.sizeHint() if own is not None else super().sizeHint()

    def minimumSizeHint(self) -> QSize:
        own = self.layout()
        if own is None:
            return super().minimumSizeHint()
        least = own.minimumSize()
        return QSize(least.width(), own.minimumHeightForWidth(max(self.width(), least.width())))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self.updateGeometry()

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        own = self.layout()
        return own.heightForWidth(width) if own is not None else -1
