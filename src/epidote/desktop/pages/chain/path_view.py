"""The path drawn as a row of blocks joined by arrows, and the baseline's wire beneath them.

Chosen by mouse, or with the arrow keys.
"""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from epidote.desktop.plotting.icons import caution_mark
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import plain_tip

if TYPE_CHECKING:
    from epidote.desktop.pages.chain.blocks import Block

_SIDE, _GAP_SHARE, _PAD = 20, 0.022, 10
_WIRED = ("output", "input")


_MOST_LINES = 3  # of a block, before they are wrapped


def _lines_of(words: str, width: float) -> int:
    """How many lines words take at a width."""
    metrics = QFontMetricsF(font(0.88))
    box = metrics.boundingRect(QRectF(0, 0, max(1.0, width), 10_000), Qt.TextFlag.TextWordWrap, words)
    return max(1, round(box.height() / metrics.height()))


class PathView(QWidget):
    """The signal path as blocks, one of which is selected."""

    chosen = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._blocks: tuple[Block, ...] = ()
        self._key = "source"
        self.wire, self.wire_weak = "", False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Chain blocks")

    def sizeHint(self) -> QSize:
        return QSize(900, round(self._line() * (5.6 + self._text_lines())))

    def minimumSizeHint(self) -> QSize:
        return QSize(300, self.sizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.updateGeometry()

    def _width(self) -> tuple[float, float]:
        """Width of a block, and of the gap between two."""
        count = max(1, len(self._blocks))
        gap = max(14.0, self.width() * _GAP_SHARE)
        return (self.width() - 2 * _SIDE - gap * (count - 1)) / count, gap

    def _text_lines(self) -> int:
        """How many lines the words of a block take at most, wrapped at its width."""
        wide, _ = self._width()
        needed = (sum(_lines_of(words, wide - 1.5 * _PAD) for words in b.lines[:_MOST_LINES]) for b in self._blocks)
        return max(_MOST_LINES, max(needed, default=0))

    def _line(self) -> float:
        return QFontMetricsF(font(0.88)).height() * 1.12

    def show_path(self, blocks: tuple[Block, ...], wire: str, wire_weak: bool) -> None:
        self._blocks, self.wire, self.wire_weak = blocks, wire, wire_weak
        self.updateGeometry()
        self.update()

    def chosen_key(self) -> str:
        return self._key

    def choose(self, key: str) -> None:
        """Before there are blocks, the key is remembered."""
        if key != self._key and (not self._blocks or any(b.key == key for b in self._blocks)):
            self._key = key
            self.update()
            self.chosen.emit(key)

    def boxes(self) -> list[QRectF]:
        wide, gap = self._width()
        height = self._line() * (3.1 + self._text_lines())
        return [QRectF(_SIDE + i * (wide + gap), 6, wide, height) for i in range(max(1, len(self._blocks)))]

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        boxes = self.boxes()
        for block, box in zip(self._blocks, boxes, strict=False):
            self._block(p, block, box)
        p.setPen(QPen(self.theme.colour("quiet"), 1.3))
        for a, b in pairwise(boxes):
            y = a.center().y()
            p.drawLine(QPointF(a.right() + 1, y), QPointF(b.left() - 1, y))
            p.drawPolyline(
                QPolygonF([QPointF(b.left() - 6, y - 4), QPointF(b.left() - 1, y), QPointF(b.left() - 6, y + 4)])
            )
        self._baseline(p, boxes)

    def _block(self, p: QPainter, block: Block, box: QRectF) -> None:
        t, line = self.theme, self._line()
        on = block.key == self._key
        p.setBrush(t.colour("raised"))
        p.setPen(QPen(t.colour("accent") if on else t.colour("line"), 2 if on else 1))
        p.drawRoundedRect(box, 3, 3)
        if on and self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(t.colour("accent"), 1, Qt.PenStyle.DotLine))
            p.drawRoundedRect(box.adjusted(3, 3, -3, -3), 2, 2)
        inner = box.adjusted(_PAD, 7, -_PAD / 2, -4)
        p.setFont(font(1.0, bold=True))
        p.setPen(t.colour("text"))
        p.drawText(
            QRectF(inner.left(), inner.top(), inner.width(), line * 1.2), Qt.AlignmentFlag.AlignVCenter, block.title
        )
        if block.weak:
            caution_mark(p, QRectF(box.right() - 22, inner.top() + 3, 13, 12), t.colour("caution"), t.colour("raised"))
        small = font(0.88)
        p.setFont(small)
        metrics = QFontMetricsF(small)
        p.setPen(t.colour("quiet"))
        p.drawText(
            QRectF(inner.left(), inner.top() + line * 1.15, inner.width(), line),
            Qt.AlignmentFlag.AlignVCenter,
            metrics.elidedText(block.kind, Qt.TextElideMode.ElideMiddle, inner.width()),
        )
        top = inner.top() + line * 2.35
        p.setPen(QPen(t.colour("faint_line"), 1))
        p.drawLine(QPointF(inner.left(), top), QPointF(box.right() - _PAD, top))
        top += 4
        for i, words in enumerate(block.lines[:_MOST_LINES]):
            p.setPen(t.colour("caution") if block.weak and i == 0 else t.colour("text"))
            height = line * _lines_of(words, inner.width())
            where = QRectF(inner.left(), top, inner.width(), height)
            p.drawText(where, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap, words)
            top += height

    def _baseline(self, p: QPainter, boxes: list[QRectF]) -> None:
        places = {b.key: box for b, box in zip(self._blocks, boxes, strict=False)}
        if not all(key in places for key in _WIRED):
            return
        t = self.theme
        left, right = (places[key].center().x() for key in _WIRED)
        top, low = places["output"].bottom() + 3, places["output"].bottom() + self._line() * 1.5
        if self.wire_weak:
            colour = t.colour("caution")
        else:
            colour = t.colour("quiet")
        p.setPen(QPen(colour, 1.4, Qt.PenStyle.DotLine))
        p.drawPolyline(QPolygonF([QPointF(left, top), QPointF(left, low), QPointF(right, low), QPointF(right, top)]))
        p.setFont(font(0.85))
        words = QFontMetricsF(p.font()).elidedText(self.wire, Qt.TextElideMode.ElideRight, right - left - 20)
        p.setPen(colour)
        p.drawText(
            QRectF(left, low - self._line() * 1.15, right - left, self._line()), Qt.AlignmentFlag.AlignCenter, words
        )

    def event(self, event: QEvent) -> bool:
        """Show of a block that is pointed at what is cut short in it."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            QToolTip.showText(event.globalPos(), plain_tip(self.tip_at(QPointF(event.pos()))), self)
            return True
        return super().event(event)

    def tip_at(self, where: QPointF) -> str:
        """Return the whole text of the block there, or of the loopback line."""
        for block, box in zip(self._blocks, self.boxes(), strict=False):
            if box.contains(where):
                return "\n".join([block.kind, *block.lines])
        return self.wire

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for block, box in zip(self._blocks, self.boxes(), strict=False):
            if box.contains(event.position()):
                self.choose(block.key)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        keys = [b.key for b in self._blocks]
        if step is None or self._key not in keys:
            super().keyPressEvent(event)
            return
        self.choose(keys[max(0, min(keys.index(self._key) + step, len(keys) - 1))])

    def focusInEvent(self, event: object) -> None:
        self.update()

    def focusOutEvent(self, event: object) -> None:
        self.update()
