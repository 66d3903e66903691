"""A small button with a drawn sign instead of words; its tooltip and its accessible name say what it does."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPixmap
from PySide6.QtWidgets import QToolButton

from epidote.desktop.theme import Theme, text_size
from epidote.desktop.widgets.plain import plain_tip

Sign = Callable[[QPainter, QRectF, QColor], None]
_SIDE, _PADDING = 1.25, 10  # of the sign, in sizes of the text; pixels around it, both sides together


class SignButton(QToolButton):
    """draw: paints the sign into a square. The sign has the colour of the text and grows with it."""

    def __init__(self, draw: Sign, name: str, tip: str, theme: Theme) -> None:
        super().__init__()
        self._draw = draw
        self.setAccessibleName(name)
        self.setToolTip(plain_tip(tip))
        self.setProperty("sign", True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.set_theme(theme)

    def set_theme(self, theme: Theme) -> None:
        side = round(_SIDE * text_size())
        ratio = self.devicePixelRatioF()
        pixmap = QPixmap(QSize(side, side) * ratio)
        pixmap.setDevicePixelRatio(ratio)
        pixmap.fill(Qt.GlobalColor.transparent)
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw(painter, QRectF(1, 1, side - 2, side - 2), theme.colour("text"))
        painter.end()
        icon = QIcon(pixmap)
        self.setIcon(icon)
        self.setIconSize(QSize(side, side))
        self.setFixedSize(side + _PADDING, side + _PADDING)
