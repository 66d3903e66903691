"""How the matrix's heads and cells are painted."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPoint, QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QHeaderView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from epidote.desktop.pages.matrix.matrix_table.model import (
    MatrixModel,
    headline_name,
    headline_text,
    marked,
    verdict_counts,
)
from epidote.desktop.plotting.icons import caution_mark, eye_mark, fold_mark, page_mark
from epidote.desktop.state.run_queue import CellProgress
from epidote.desktop.theme import TEXT_SIZES, Theme, font, text_size
from epidote.desktop.widgets.painting import guarded
from epidote.study.models import Subject

PAD = 10
_ROW_HEIGHT, _HEAD_WIDTH, _WIDEST_HEAD = 48, 256, 400  # at the normal text size
_NARROWEST = 112
_WIDEST_TITLE = 200  # a longer title is cut; its tooltip has the whole
_KEPT_PICTURES = 600
_CHIP, _IN_CHIP, _GAP = 0.78, 12, 5


def scaled(length: float) -> int:
    """Return a length, given for the normal text size, at the chosen one."""
    return round(length * text_size() / TEXT_SIZES["normal"])


def row_height() -> int:
    """Return the height of a row at the chosen text size."""
    return scaled(_ROW_HEIGHT)


def head_width() -> int:
    """Width of the row heads; at the largest text sizes the columns need the room more."""
    return min(scaled(_HEAD_WIDTH), _WIDEST_HEAD)


def fitting(chips: Sequence[str], room: float) -> list[str]:
    """Return the chips that have room side by side, and how many more there are; the first is cut short rather than
    left out.
    """
    metrics = QFontMetricsF(font(_CHIP))

    def width(text: str) -> float:
        return metrics.horizontalAdvance(text) + _IN_CHIP + _GAP

    for shown in range(len(chips), 0, -1):
        if shown < len(chips):
            rest = [f"+{len(chips) - shown}"]
        else:
            rest = []
        if sum(width(text) for text in (*chips[:shown], *rest)) <= room + _GAP:
            return [*chips[:shown], *rest]
    if len(chips) > 1:
        rest = [f"+{len(chips) - 1}"]
    else:
        rest = []
    left = room - _IN_CHIP - sum(width(text) for text in rest)
    if chips:
        return [metrics.elidedText(chips[0], Qt.TextElideMode.ElideRight, left), *rest]
    return []


class MatrixDelegate(QStyledItemDelegate):
    """Paints the matrix's cells; each is kept as a picture until it changes."""

    def __init__(self, model: MatrixModel, theme: Theme) -> None:
        super().__init__()
        self._model = model
        self.theme = theme
        self.covered: QWidget | None = None  # a view whose own row heads nobody sees
        self._pictures: dict[tuple[object, ...], QPixmap] = {}

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(scaled(130), row_height())

    @guarded
    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        subject = self._model.subject(index.row())
        if subject is None or (index.column() == 0 and option.widget is self.covered):
            return
        state = option.state
        chosen = bool(state & QStyle.StateFlag.State_Selected)
        key = self._key(index, subject, option.rect.size(), p.device().devicePixelRatioF(), chosen=chosen)
        if key is None:
            self.paint_cell(p, option.rect, index, subject, chosen=chosen)
        else:
            p.drawPixmap(option.rect.topLeft(), self._kept(key, option.rect.size(), index, subject))
        if state & QStyle.StateFlag.State_HasFocus:
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(self.theme.colour("accent"), 1.5))
            p.drawRect(QRectF(option.rect).adjusted(1, 1, -1.5, -1.5))

    def _key(
        self, index: QModelIndex | QPersistentModelIndex, subject: Subject, size: QSize, ratio: float, *, chosen: bool
    ) -> tuple[object, ...] | None:
        """Return what a cell's picture depends on; None for those that change too often to be kept."""
        appearance = (
            size.width(),
            size.height(),
            ratio,
            self.theme.name,
            text_size(),
            subject.colour,
            subject.shown,
            subject.is_baseline,
        )
        if chosen or subject.is_claims or self._model.under(index) is not None:
            return None
        if index.column() == 0:
            return (
                *appearance,
                subject.full_name,
                self._model.is_reference(index.row()),
                self._model.beside(subject) > 0,
                self._model.folds(index.row()),
            )
        run = self._model.run(index)
        return (*appearance, run.id if run is not None else None, self._model.chosen_headline(index))

    def _kept(
        self, key: tuple[object, ...], size: QSize, index: QModelIndex | QPersistentModelIndex, subject: Subject
    ) -> QPixmap:
        """Return a cell's picture, painted once: scrolling shows the same ones over and over."""
        picture = self._pictures.get(key)
        if picture is None:
            ratio = float(key[2])  # type: ignore[arg-type]
            picture = QPixmap(size * ratio)
            picture.setDevicePixelRatio(ratio)
            inner = QPainter(picture)
            inner.setFont(font())
            self.paint_cell(inner, QRect(QPoint(0, 0), size), index, subject, chosen=False)
            inner.end()
            while len(self._pictures) >= _KEPT_PICTURES:
                self._pictures.pop(next(iter(self._pictures)))
            self._pictures[key] = picture
        return picture

    def paint_cell(
        self, p: QPainter, box: QRect, index: QModelIndex | QPersistentModelIndex, subject: Subject, *, chosen: bool
    ) -> None:
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        p.fillRect(box, t.colour("bar" if subject.is_baseline or subject.is_claims else "back"))
        if subject.is_baseline:
            colour = t.colour("quiet")
        else:
            colour = t.row(subject.colour)
        if not subject.shown:
            p.setOpacity(0.45)
        if subject.is_claims:
            if index.column() == 0:
                self._claims_head(p, box, subject, colour)
            else:
                self._verdicts(p, box, index, colour, chosen)
        elif index.column() == 0:
            self._head(p, box, subject, colour, self._model.is_reference(index.row()))
            self._fold(p, box, index.row())
        else:
            self._cell(p, box, index, subject, colour, chosen=chosen)
        p.setOpacity(1.0)
        p.setPen(QPen(t.colour("faint_line"), 1))
        p.drawLine(box.bottomLeft(), box.bottomRight())
        p.drawLine(box.topRight(), box.bottomRight())
        p.restore()

    def _head(self, p: QPainter, box: QRect, subject: Subject, colour: QColor, reference: bool) -> None:
        """Paint the row's colour and line, unit and conditions: this is the graph's legend."""
        t = self.theme
        if not subject.is_baseline:
            p.fillRect(QRect(box.left(), box.top(), 4, box.height()), colour)
        pen = QPen(colour, 2)
        if subject.is_baseline:
            pen.setDashPattern([1.5, 2.5])
        p.setPen(pen)
        line = box.top() + scaled(16)
        p.drawLine(box.left() + scaled(18), line, box.left() + scaled(38), line)
        name = font(1.0, bold=not subject.is_baseline)
        p.setFont(name)
        p.setPen(t.colour("quiet" if subject.is_baseline else "text"))
        left = box.left() + scaled(46)
        p.drawText(
            QRectF(left, box.top() + scaled(5), box.right() - left - 8, scaled(22)),
            Qt.AlignmentFlag.AlignVCenter,
            subject.name,
        )
        small = font(0.8)
        p.setFont(small)
        if reference:
            self._chip(
                p,
                "Reference",
                box.right() - scaled(84),
                box.top() + scaled(7),
                t.colour("accent"),
                fill=t.colour("accent_back"),
                bold=True,
            )
        if not subject.shown:
            eye_mark(
                p,
                QRectF(box.right() - scaled(20), box.bottom() - scaled(19), scaled(14), scaled(10)),
                t.colour("quiet"),
            )
        note_count = self._model.beside(subject)
        if note_count:
            page_mark(
                p,
                QRectF(
                    box.right() - scaled(38 if not subject.shown else 20),
                    box.bottom() - scaled(21),
                    scaled(11),
                    scaled(13),
                ),
                t.colour("quiet"),
            )
        x: float = left
        if subject.is_baseline:
            p.setPen(t.colour("quiet"))
            p.drawText(
                QRectF(left, box.top() + scaled(26), box.right() - left - 4, scaled(18)),
                Qt.AlignmentFlag.AlignVCenter,
                "Loopback: output to input",
            )
        elif not subject.conditions:
            p.setPen(t.colour("quiet"))
            p.drawText(
                QRectF(left, box.top() + scaled(26), box.right() - left - 4, scaled(18)),
                Qt.AlignmentFlag.AlignVCenter,
                "No conditions",
            )
        room = box.right() - left - scaled(24 if note_count or not subject.shown else 8)
        for chip in fitting(subject.chips, room):
            x += self._chip(p, chip, x, box.top() + scaled(27), t.colour("quiet"), fill=None) + _GAP

    def _fold(self, p: QPainter, box: QRect, row: int) -> None:
        """Paint the triangle that folds the rows of a unit, and how many are folded away."""
        folds = self._model.folds(row)
        if folds is None:
            return
        folded, others = folds
        fold_mark(
            p,
            QRectF(box.left() + 6, box.top() + scaled(12), scaled(8), scaled(8)),
            self.theme.colour("quiet"),
            folded=folded,
        )
        if folded:
            words = f"+{others}"
            p.setFont(font(_CHIP))
            p.setPen(self.theme.colour("quiet"))
            p.drawText(
                QRectF(box.left() + 6, box.top() + scaled(26), scaled(40), scaled(18)),
                Qt.AlignmentFlag.AlignVCenter,
                words,
            )

    def _claims_head(self, p: QPainter, box: QRect, subject: Subject, colour: QColor) -> None:
        """Paint the head of published figures, which stand under their unit's rows: a dash-dotted line as on the
        graph, and how many there are.
        """
        t = self.theme
        pen = QPen(colour, 1.4)
        pen.setDashPattern([6, 2.5, 1.5, 2.5])
        p.setPen(pen)
        line = box.top() + scaled(16)
        p.drawLine(box.left() + scaled(18), line, box.left() + scaled(38), line)
        left = box.left() + scaled(46)
        p.setFont(font(1.0))
        p.setPen(t.colour("text"))
        p.drawText(
            QRectF(left, box.top() + scaled(5), box.right() - left - 8, scaled(22)),
            Qt.AlignmentFlag.AlignVCenter,
            subject.name,
        )
        p.setFont(font(0.8))
        p.setPen(t.colour("quiet"))
        words = f"{subject.claims} claim{'s' if subject.claims > 1 else ''}"
        p.drawText(
            QRectF(left, box.top() + scaled(26), box.right() - left - 4, scaled(18)),
            Qt.AlignmentFlag.AlignVCenter,
            words,
        )

    def _verdicts(
        self, p: QPainter, box: QRect, index: QModelIndex | QPersistentModelIndex, colour: QColor, chosen: bool
    ) -> None:
        t = self.theme
        if chosen:
            tint = QColor(colour)
            tint.setAlpha(38)
            p.fillRect(box, tint)
        verdicts = self._model.verdicts(index)
        counts = verdict_counts(verdicts)
        for i, words in enumerate(counts[:2]):
            bad = words.endswith("not met")
            ink = "quiet"
            if bad:
                ink = "caution"
            elif words.endswith(" met"):
                ink = "text"
            p.setFont(font(0.9, bold=bad))
            p.setPen(t.colour(ink))
            p.drawText(
                QRectF(box.left() + PAD, box.top() + scaled(4 + 19 * i), box.width() - PAD - 4, scaled(20)),
                Qt.AlignmentFlag.AlignVCenter,
                words,
            )
        if any(w.endswith("not met") for w in counts):
            caution_mark(p, self._mark_box(box), t.colour("caution"), t.colour("back"))

    @staticmethod
    def _mark_box(box: QRect) -> QRectF:
        """Return where a cell's caution mark is."""
        return QRectF(box.right() - scaled(20), box.bottom() - scaled(20), scaled(13), scaled(12))

    def _chip(
        self, p: QPainter, text: str, x: float, y: float, ink: QColor, *, fill: QColor | None, bold: bool = False
    ) -> float:
        chosen = font(_CHIP, bold=bold)
        metrics = QFontMetricsF(chosen)
        box = QRectF(x, y, metrics.horizontalAdvance(text) + _IN_CHIP, metrics.height() + 2)
        p.setFont(chosen)
        if fill is not None:
            p.fillRect(box, fill)
        else:
            p.setPen(QPen(self.theme.colour("line"), 1))
            p.drawRoundedRect(box, 3, 3)
        p.setPen(ink)
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        return box.width()

    def _cell(
        self,
        p: QPainter,
        box: QRect,
        index: QModelIndex | QPersistentModelIndex,
        subject: Subject,
        colour: QColor,
        *,
        chosen: bool,
    ) -> None:
        t = self.theme
        run, under = self._model.run(index), self._model.under(index)
        if chosen:
            tint = QColor(colour)
            tint.setAlpha(38)
            p.fillRect(box, tint)
            p.setPen(QPen(colour, 1.2))
            p.drawRect(QRectF(box).adjusted(0.5, 0.5, -1.5, -1.5))
        if under is not None:
            self._progress(p, box, under)
            return
        if run is None:
            p.setPen(t.colour("quiet"))
            p.setFont(font(1.1))
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, "+")
            return
        p.setFont(font(1.0))
        p.setPen(t.colour("quiet" if subject.is_baseline else "text"))
        line = QRectF(box).adjusted(PAD, 4, -6, -box.height() / 2 + 3)
        chosen_reading = self._model.chosen_headline(index)
        value = headline_text(run, chosen_reading)
        p.drawText(line, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, value)
        value_width = QFontMetricsF(p.font()).horizontalAdvance(value) + 10
        small, name = font(0.78), headline_name(run, chosen_reading)
        if QFontMetricsF(small).horizontalAdvance(name) < line.width() - value_width:
            p.setFont(small)
            p.setPen(t.colour("quiet"))
            p.drawText(
                line.adjusted(value_width, 1, 0, 1), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name
            )
        if run.thumbnail:
            p.setPen(QPen(colour, 1.2))
            drawing = QRectF(
                box.left() + PAD, box.top() + scaled(26), box.width() - 2 * PAD - scaled(18), box.height() - scaled(33)
            )
            points = [
                QPointF(drawing.left() + x * drawing.width(), drawing.bottom() - y * drawing.height())
                for x, y in run.thumbnail
            ]
            p.drawPolyline(QPolygonF(points))
        if marked(run):
            caution_mark(p, self._mark_box(box), t.colour("caution"), t.colour("back"))

    def _progress(self, p: QPainter, box: QRect, under: CellProgress) -> None:
        t = self.theme
        if under.waiting:
            words = "Queued"
        else:
            words = f"{100 * under.share:.0f} %" + (f", {under.left:.0f} s left" if under.left is not None else "")
        p.setFont(font(0.9))
        p.setPen(t.colour("quiet"))
        p.drawText(
            QRectF(box).adjusted(PAD, 6, -4, -box.height() / 2 + 4),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft,
            words,
        )
        bar = QRectF(box.left() + PAD, box.top() + scaled(31), box.width() - 2 * PAD, scaled(4))
        p.fillRect(bar, t.colour("line"))
        bar.setWidth(bar.width() * under.share)
        p.fillRect(bar, t.colour("accent"))


class MatrixHeader(QHeaderView):
    """Two lines per column: the procedure, and its settings in a few words; the column in view is bold."""

    def __init__(self, theme: Theme, parent: QWidget | None = None) -> None:
        super().__init__(Qt.Orientation.Horizontal, parent)
        self.theme = theme
        self.current = -1
        self.setSectionsClickable(True)

    def sizeHint(self) -> QSize:
        return QSize(130, round(QFontMetricsF(font(1.0)).height() * 2.35))

    def content_width(self, section: int) -> int:
        """Width in pixels in which a column's settings are whole, and its title unless it names many settings."""
        words = str(self.model().headerData(section, Qt.Orientation.Horizontal) or "")
        title, _, summary = words.partition("\n")
        widest = max(
            min(scaled(_WIDEST_TITLE), QFontMetricsF(font(0.95, bold=True)).horizontalAdvance(title)),
            QFontMetricsF(font(0.8)).horizontalAdvance(summary),
        )
        return max(scaled(_NARROWEST), math.ceil(widest) + PAD + 8)

    @guarded
    def paintSection(self, p: QPainter, rect: QRect, section: int) -> None:
        t = self.theme
        p.save()
        p.fillRect(rect, t.colour("bar"))
        model = self.model()
        title, _, summary = str(model.headerData(section, Qt.Orientation.Horizontal) or "").partition("\n")
        inner = QRectF(rect).adjusted(PAD if section else 16, 4, -4, -3)
        p.setFont(font(0.95, bold=section == self.current and section > 0))
        p.setPen(t.colour("text"))
        half = inner.height() / 2
        if section > 0:
            whole = QFontMetricsF(p.font()).elidedText(title, Qt.TextElideMode.ElideRight, inner.width())
            p.drawText(QRectF(inner.left(), inner.top(), inner.width(), half), Qt.AlignmentFlag.AlignVCenter, whole)
            small = font(0.8)
            p.setFont(small)
            p.setPen(t.colour("quiet"))
            fitting = QFontMetricsF(small).elidedText(summary, Qt.TextElideMode.ElideRight, inner.width())
            p.drawText(
                QRectF(inner.left(), inner.top() + half, inner.width(), half), Qt.AlignmentFlag.AlignVCenter, fitting
            )
        p.setPen(QPen(t.colour("line"), 1))
        p.drawLine(rect.bottomLeft(), rect.bottomRight())
        p.setPen(QPen(t.colour("faint_line"), 1))
        p.drawLine(rect.topRight(), rect.bottomRight())
        p.restore()
