"""Choosing a procedure by the question it answers, with its settings beside it before it is added."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPersistentModelIndex, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QKeyEvent, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError
from epidote.core.procedures.about import QuestionGroup
from epidote.core.settings import make_settings
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.help_key import listen_for_help
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.preset_button import PresetButton
from epidote.desktop.widgets.settings_form import SettingsForm
from epidote.desktop.widgets.wording import duration_words

_KEY = Qt.ItemDataRole.UserRole
_UP_AND_DOWN = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)
Index = QModelIndex | QPersistentModelIndex


class ProcedureChooser(QDialog):
    """procedures: by key. chain: for how long each takes. reference: settings of the reference row's runs, by key.

    ``chosen()`` and ``values()`` say what is to be added.
    """

    def __init__(
        self,
        parent: QWidget | None,
        procedures: Mapping[str, Any],
        chain: Chain,
        theme: Theme,
        reference: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> None:
        super().__init__(parent)
        listen_for_help(self)
        self.setWindowTitle("Add column")
        self.setProperty("help", "run")
        self.resize(920, 620)
        self._procedures, self._chain, self._reference = dict(procedures), chain, dict(reference or {})
        self.form: SettingsForm | None = None
        layout = QVBoxLayout(self)
        columns = QHBoxLayout()
        columns.setSpacing(20)
        columns.addLayout(self._build_list(theme), 5)
        columns.addLayout(self._build_details(), 6)
        layout.addLayout(columns, 1)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.add = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.add.setText("Add")
        self.add.setProperty("main", True)
        self.add.setDefault(True)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        layout.addWidget(self.buttons)
        self._list()
        self.search.setFocus()

    def _build_list(self, theme: Theme) -> QVBoxLayout:
        layout = QVBoxLayout()
        self.search = QLineEdit()
        self.search.setPlaceholderText("What do you want to know? e.g. “power”, “hum”, “latency”")
        self.search.setAccessibleName("Filter procedures")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self._list())
        self.search.installEventFilter(self)
        self.list = QListWidget()
        self.list.setAccessibleName("Procedures")
        self.list.setItemDelegate(_ProcedureDelegate(self._procedures, theme))
        self.list.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentItemChanged.connect(lambda *_: self._show_details())
        layout.addWidget(self.search)
        layout.addWidget(self.list, 1)
        return layout

    def _build_details(self) -> QVBoxLayout:
        layout = QVBoxLayout()
        layout.setSpacing(6)
        self.title, self.details = Label(), Label()
        self.title.setFont(font(1.2, bold=True))
        self.details.setWordWrap(True)
        self.details.setProperty("quiet", True)
        head = QHBoxLayout()
        self.presets = PresetButton(self.values)
        self.presets.chosen.connect(self._fill)
        self.presets.failed.connect(self._say)
        head.addWidget(self.title, 1)
        head.addWidget(self.presets)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.problem = Label()
        self.problem.setWordWrap(True)
        self.problem.setProperty("error", True)
        layout.addLayout(head)
        layout.addWidget(self.details)
        layout.addWidget(self._area, 1)
        layout.addWidget(self.problem)
        return layout

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Let the arrows move in the list while the line keeps the focus."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress and event.key() in _UP_AND_DOWN:
            self.list.keyPressEvent(event)
            return True
        return super().eventFilter(watched, event)

    def _list(self) -> None:
        """List the procedures whose words hold all that was typed, by group."""
        kept = self.chosen()
        typed = self.search.text().lower().split()
        self.list.clear()
        for group in QuestionGroup:
            members = [
                (key, proc)
                for key, proc in sorted(self._procedures.items(), key=lambda kp: (not kp[1].in_new_study, kp[1].title))
                if proc.about.group is group and all(word in _words_of(proc) for word in typed)
            ]
            if members:
                head = QListWidgetItem(str(group))
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                self.list.addItem(head)
            for key, proc in members:
                item = QListWidgetItem(proc.title)
                item.setData(_KEY, key)
                item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{proc.title}: {proc.about.question}")
                self.list.addItem(item)
        self.choose(kept)
        self._show_details()

    def choose(self, key: str) -> None:
        """Go to a procedure; the first where it is not listed."""
        rows = [n for n in range(self.list.count()) if self.list.item(n).data(_KEY)]
        wanted = [n for n in rows if self.list.item(n).data(_KEY) == key]
        if rows:
            self.list.setCurrentRow((wanted or rows)[0])

    def chosen(self) -> str:
        """Return the key of the procedure in view; "" for none."""
        item = self.list.currentItem()
        return str(item.data(_KEY) or "") if item is not None else ""

    def values(self) -> dict[str, Any]:
        return self.form.values() if self.form is not None else {}

    def _show_details(self) -> None:
        key = self.chosen()
        proc = self._procedures.get(key)
        self.presets.setVisible(proc is not None)
        if proc is None:
            self.form = None
            self._area.takeWidget()
            self.title.setText("No procedure has these words")
            self.details.setText("")
            self.problem.hide()
            self.add.setEnabled(False)
            return
        self.title.setText(proc.title)
        self.presets.show_procedure(proc, self._reference.get(key))
        self._make_form(proc, {})

    def _make_form(self, proc: Any, values: Mapping[str, Any]) -> None:
        self.form = SettingsForm(proc.Settings, dict(values))
        self.form.changed.connect(self.refresh)
        self._area.setWidget(self.form)
        self.refresh()

    def _fill(self, values: Mapping[str, Any]) -> None:
        if self.form is not None:
            self.form.fill(values)

    def _say(self, words: str) -> None:
        self.problem.setText(words)
        self.problem.setVisible(bool(words))

    def refresh(self) -> None:
        """Say what the procedure does, how long it takes, and what is wrong with the settings."""
        proc = self._procedures.get(self.chosen())
        if proc is None or self.form is None:
            return
        words = self.form.problem()
        self._say("" if self.form.said_at_field else words)
        self.add.setEnabled(not words)
        takes = "" if words else self._duration(proc)
        about = proc.about
        lines = [about.gives, f"Plays: {about.played}." if about.played else "", takes]
        lines.append(f"Needs: {about.needs}." if about.needs else "")
        self.details.setText("\n".join(line for line in lines if line))

    def _duration(self, proc: Any) -> str:
        try:
            settings = make_settings(proc.Settings, self.values())
            return f"Takes {duration_words(proc().duration(settings, self._chain)).lower()}."
        except (EpidoteError, OSError):
            return ""


def _words_of(proc: Any) -> str:
    about = proc.about
    readings = " ".join(kind.title for kind in proc.readings)
    return f"{proc.title} {about.question} {about.gives} {about.group} {readings}".lower()


class _ProcedureDelegate(QStyledItemDelegate):
    """Paints a procedure as its title, its question and a small drawing of its curve; a group as a heading."""

    def __init__(self, procedures: Mapping[str, Any], theme: Theme) -> None:
        super().__init__()
        self._procedures, self._theme = procedures, theme

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        line = QFontMetricsF(font()).height()
        if not index.data(_KEY):
            return QSize(100, round(line * 1.7))
        return QSize(100, round(line * 2.6))

    @guarded
    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        t, box = self._theme, QRectF(option.rect)
        key = str(index.data(_KEY) or "")
        p.save()
        if not key:
            p.setFont(font(0.85, bold=True))
            p.setPen(t.colour("quiet"))
            area = box.adjusted(10, 0, -4, -3)
            p.drawText(area, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, str(index.data()))
            p.restore()
            return
        if option.state & QStyle.StateFlag.State_Selected:
            p.fillRect(box, t.colour("accent_back"))
            p.fillRect(QRectF(box.left(), box.top(), 3, box.height()), t.colour("accent"))
        proc = self._procedures[key]
        height = box.height()
        self._sketch(p, QRectF(box.left() + 12, box.top() + 0.2 * height, 1.1 * height, 0.6 * height), proc)
        left = box.left() + 12 + 1.1 * height + 12
        words = QRectF(left, box.top() + 0.08 * height, box.right() - left - 6, 0.84 * height)
        p.setFont(font(1.0, bold=True))
        p.setPen(t.colour("text"))
        p.drawText(words, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, proc.title)
        small = font(0.88)
        p.setFont(small)
        p.setPen(t.colour("quiet"))
        question = QFontMetricsF(small).elidedText(proc.about.question, Qt.TextElideMode.ElideRight, words.width())
        p.drawText(words, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, question)
        p.restore()

    def _sketch(self, p: QPainter, area: QRectF, proc: Any) -> None:
        t = self._theme
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(t.colour("line"), 1))
        p.drawLine(area.bottomLeft(), area.bottomRight())
        p.drawLine(area.topLeft(), area.bottomLeft())
        points = [
            QPointF(area.left() + x * area.width(), area.bottom() - y * area.height()) for x, y in proc.about.sketch
        ]
        p.setPen(QPen(t.colour("accent"), 1.5))
        p.drawPolyline(QPolygonF(points))
