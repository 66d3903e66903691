"""Setting a level by hand: a target, and a large, slow indication of how far off it is and which way to turn."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QSizePolicy, QVBoxLayout, QWidget

from epidote.core.live.aim import AimState
from epidote.core.quantities.formatting import MISSING_VALUE
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.scrolled import WrappingWidget
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

TYPED = "typed"
_TOLERANCES = (("0.5", "0.5 dB"), ("0.1", "0.1 dB"))
_ENDS = (6.0, 1.0)  # dB at the ends of the scale: at first, and once it is nearly there


class AimPanel(WrappingWidget):
    """changed: another target. ``show_state`` is called for each reading of the input."""

    changed = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setProperty("help", "watch")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        self.channel, self.like = QComboBox(), QComboBox()
        self.channel.setAccessibleName("Input to set")
        self.channel.setToolTip("The input whose level is set by turning the unit's knob")
        self.like.setAccessibleName("Aim at")
        self.like.setToolTip("A target that is entered, another input, or a snapshot")
        self.target = QLineEdit("0 dB")
        self.target.setAccessibleName("Target")
        self.target.setPlaceholderText("100 mV, -45 dBFS, 0 dB")
        self.target.setToolTip("A level such as 100 mV or -45 dBFS, or a gain from the generator such as 0 dB")
        self.tolerance = SegmentedButtons()
        self.tolerance.set_options(_TOLERANCES, ["0.5"], {key: "Tolerance of the target" for key, _ in _TOLERANCES})
        choices = QGridLayout()
        choices.setHorizontalSpacing(6)
        choices.addWidget(self.channel, 0, 0)
        choices.addWidget(self.like, 0, 1)
        choices.addWidget(self.target, 1, 0)
        choices.addWidget(self.tolerance, 1, 1)
        layout.addLayout(choices)
        self.off, self.words = Label(MISSING_VALUE), Label("")
        self.off.setFont(font(2.4, bold=True))
        self.off.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.words.setWordWrap(True)
        self.scale = AimScale(theme)
        layout.addWidget(self.off)
        layout.addWidget(self.scale, 1)
        layout.addWidget(self.words)
        self.target.editingFinished.connect(self.changed.emit)
        self.channel.activated.connect(lambda _: self.changed.emit())
        self.like.activated.connect(lambda _: self._like_chosen())
        self.tolerance.chosen.connect(lambda _: self.changed.emit())

    def offer(self, inputs: int, snapshots: list[str]) -> None:
        """Offer the inputs there are, and what they can be set like."""
        own = [(f"Input {n + 1}", n) for n in range(inputs)]
        others = [("Entered target", TYPED)]
        others += [(f"As input {n + 1}", f"input {n}") for n in range(inputs)]
        others += [(f"As snapshot “{name}”", f"snapshot {name}") for name in snapshots]
        for box, items in ((self.channel, own), (self.like, others)):
            if [(box.itemText(i), box.itemData(i)) for i in range(box.count())] != items:
                kept = box.currentData()
                box.clear()
                for words, data in items:
                    box.addItem(words, data)
                box.setCurrentIndex(max(0, box.findData(kept)))

    def _like_chosen(self) -> None:
        self.target.setEnabled(self.like.currentData() == TYPED)
        self.changed.emit()

    @property
    def tolerance_db(self) -> float:
        return float(self.tolerance.on()[0])

    def say(self, words: str) -> None:
        """Show a sentence in place of an indication."""
        self.off.setText(MISSING_VALUE)
        self.words.setText(words)
        self.scale.show_off(None, self.tolerance_db, met=False)

    def show_state(self, state: AimState, now: str) -> None:
        """Show how far off it is. now: the value itself, in words."""
        met = state.within(self.tolerance_db)
        self.off.setText(f"{state.off:+.2f} dB")
        if met:
            words = "On target" if state.steady else "On target, still moving"
        elif state.off > 0:
            words = "Too high: turn down"
        else:
            words = "Too low: turn up"
        self.words.setText(f"{words}. Now {now}.")
        self.scale.show_off(state.off, self.tolerance_db, met=met)

    def set_theme(self, theme: Theme) -> None:
        self.scale.theme = theme
        self.scale.update()


class AimScale(QWidget):
    """A line with the target in its middle, the tolerance about it, and a pointer."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._off: float | None = None
        self._tolerance, self._met = 0.5, False
        self.setAccessibleName("Distance from the target")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(46)

    def sizeHint(self) -> QSize:
        return QSize(300, 56)

    def show_off(self, off: float | None, tolerance: float, *, met: bool) -> None:
        self._off, self._tolerance, self._met = off, tolerance, met
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p, t = QPainter(self), self.theme
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        small = font(0.8)
        p.setFont(small)
        height = QFontMetricsF(small).height()
        box = QRectF(self.rect()).adjusted(18, 4, -18, -height - 4)
        near = self._off is not None and abs(self._off) <= _ENDS[1]
        end = _ENDS[1] if near else _ENDS[0]

        def place(db: float) -> float:
            return box.center().x() + max(-1.06, min(1.06, db / end)) * box.width() / 2

        middle = box.center().y()
        wide = place(self._tolerance) - place(-self._tolerance)
        p.fillRect(QRectF(place(-self._tolerance), middle - 9, max(3.0, wide), 18), t.colour("accent_back"))
        p.setPen(QPen(t.colour("edge"), 1.5))
        p.drawLine(QPointF(box.left(), middle), QPointF(box.right(), middle))
        for db in (-end, -end / 2, 0.0, end / 2, end):
            p.setPen(QPen(t.colour("edge"), 1.5))
            p.drawLine(QPointF(place(db), middle - 5), QPointF(place(db), middle + 5))
            p.setPen(t.colour("quiet"))
            where = QRectF(place(db) - 40, box.bottom() + 2, 80, height)
            p.drawText(where, Qt.AlignmentFlag.AlignCenter, f"{db:+g} dB" if db else "0")
        if self._off is not None:
            x = place(self._off)
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(t.colour("accent" if self._met else "caution"))
            p.drawPolygon(QPolygonF([QPointF(x, middle + 2), QPointF(x - 8, middle - 16), QPointF(x + 8, middle - 16)]))
        p.end()
