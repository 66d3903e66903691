"""A page that is made when it is first looked at: what it needs is not loaded before the window shows."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from epidote.desktop.widgets.scrolled import ScrolledArea

P = TypeVar("P", bound=QWidget)


class LazyPage(QWidget, Generic[P]):
    """``page`` is None until it is first shown. make: the page, as a child of a widget."""

    def __init__(self, make: Callable[[QWidget], P]) -> None:
        super().__init__()
        self._make = make
        self.page: P | None = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)

    def showEvent(self, event: QShowEvent) -> None:
        if self.page is None:
            area = ScrolledArea()
            self._layout.addWidget(area)
            self.page = self._make(area.viewport())
            area.hold(self.page)
            self.setFocusProxy(self.page)
