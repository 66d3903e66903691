"""The level as it is: the last ten seconds, the figures, and the other inputs."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from epidote.core.quantities.formatting import MISSING_VALUE, format_quantity
from epidote.desktop.state.live_audio import LiveAudio
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.dropout_label import DropoutLabel
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.scrolled import WrappingWidget

if TYPE_CHECKING:
    from epidote.core.chain.chain import Chain
    from epidote.core.live.level_meter import LevelSnapshot

_LEAST_SPAN_DB = 0.01
_SILENT_DBFS = -70.0


def spread_words(spread: float) -> str:
    """Return a spread in dB, to a ten-thousandth."""
    return f"{max(spread, 1e-4):.4f} dB"


class LevelTrail(QWidget):
    """How the level moved, about where it is now, in dB."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._now: LevelSnapshot | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(90)
        self.setAccessibleName("Level over the last 10 s")

    def sizeHint(self) -> QSize:
        return QSize(500, 170)

    def show_levels(self, now: LevelSnapshot | None) -> None:
        self._now = now
        self.update()

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = self.theme
        small = font(0.82)
        p.setFont(small)
        metrics = QFontMetricsF(small)
        left = metrics.horizontalAdvance("+0.000 dB") + 8
        box = QRectF(left, 6, self.width() - left - 2, self.height() - metrics.height() - 12)
        p.setPen(QPen(t.colour("line"), 1))
        p.drawRect(box)
        p.setPen(t.colour("quiet"))
        p.drawText(
            QRectF(box.left(), box.bottom() + 3, box.width(), metrics.height()),
            Qt.AlignmentFlag.AlignRight,
            "Last 10 s",
        )
        now = self._now
        if now is None or now.levels.size < 2:
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, "No steady tone" if now is not None else "Stopped")
            return
        middle = float(now.levels[-1])
        span = max(_LEAST_SPAN_DB, 1.15 * float(abs(now.levels - middle).max()))
        for share in (-1, -0.5, 0, 0.5, 1):
            y = box.center().y() - share * box.height() / 2
            p.setPen(QPen(t.colour("faint_line"), 1))
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            if share in (-1, 0, 1):
                p.setPen(t.colour("quiet"))
                if share:
                    words = f"{share * span:+.3f} dB"
                else:
                    words = "Now"
                where = QRectF(
                    0,
                    min(max(y - metrics.height() / 2, 0), box.bottom() - metrics.height() / 2),
                    left - 6,
                    metrics.height(),
                )
                p.drawText(where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
        p.setPen(QPen(t.row(0), 1.6))
        points = [
            QPointF(box.right() + x / 10 * box.width(), box.center().y() - (y - middle) / span * box.height() / 2)
            for x, y in zip(now.times.tolist(), now.levels.tolist(), strict=True)
        ]
        p.drawPolyline(QPolygonF(points))


class LevelPanel(WrappingWidget):
    """The live level of one input with its trail."""

    listen_wanted = Signal(bool)
    channel_chosen = Signal(int)

    def __init__(self, theme: Theme, link: LiveAudio) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 12, 20, 12)
        head = QHBoxLayout()
        heading = Label("Live level")
        heading.setProperty("heading", True)
        self.channel = QComboBox()
        self.channel.setAccessibleName("Input")
        self.listen = QPushButton("Start")
        self.listen.setCheckable(True)
        self.listen.setToolTip("Show the input level live; nothing is played")
        head.addWidget(heading)
        head.addStretch(1)
        head.addWidget(self.channel)
        head.addWidget(self.listen)
        layout.addLayout(head)
        self.trail = LevelTrail(theme)
        layout.addWidget(self.trail, 1)
        table = QGridLayout()
        table.setHorizontalSpacing(18)
        table.setColumnStretch(0, 3)
        table.setColumnStretch(1, 3)
        table.setColumnStretch(2, 4)
        self.values: dict[str, tuple[Label, Label]] = {}
        for row, (key, words) in enumerate(
            (
                ("level", "Level"),
                ("spread", "Std. deviation, 3 s"),
                ("rest", "Distortion + noise"),
                ("frequency", "Frequency"),
                ("peak", "Peak level"),
                ("others", "Other inputs"),
                ("latency", "Reported latency"),
            )
        ):
            value, remark = Label(MISSING_VALUE), Label()
            value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            value.setFont(font(1.0, bold=True))
            remark.setProperty("quiet", True)
            table.addWidget(Label(words), row, 0)
            table.addWidget(value, row, 1)
            table.addWidget(remark, row, 2)
            self.values[key] = (value, remark)
        layout.addLayout(table)
        self.faults = DropoutLabel(link)
        layout.addWidget(self.faults)
        self.weak = Label()
        self.weak.setProperty("caution", True)
        self.weak.setWordWrap(True)
        self.weak.hide()
        layout.addWidget(self.weak)
        self.listen.clicked.connect(lambda on=False: self.listen_wanted.emit(on))
        self.channel.activated.connect(lambda i: self.channel_chosen.emit(i + 1))

    def set_channels(self, chain: Chain) -> None:
        names = [
            chain.input_names[i] if i < len(chain.input_names) else f"Input {n}" for i, n in enumerate(chain.inputs)
        ]
        if [self.channel.itemText(i) for i in range(self.channel.count())] != names:
            self.channel.clear()
            self.channel.addItems(names)

    def set_weak(self, words: str) -> None:
        self.weak.setText(words)
        self.weak.setVisible(bool(words))

    def set_latency(self, seconds: float | None) -> None:
        self._say(
            "latency", MISSING_VALUE if seconds is None else format_quantity(seconds, "s"), "as reported by the driver"
        )

    def show_levels(self, now: LevelSnapshot | None, chain: Chain) -> None:
        """None: nothing is listened to."""
        self.trail.show_levels(now)
        self.listen.setText("Stop" if now is not None else "Start")
        self.listen.setChecked(now is not None)
        if now is None:
            for key in self.values:
                self._say(key, MISSING_VALUE)
            return
        mine = now.channels[now.watched - 1]
        level = mine.level
        if level is None:
            self._say("level", f"{mine.rms:.1f} dBFS", "broadband; no tone found")
        else:
            volts = chain.input_full_scale
            if volts:
                absolute = format_quantity(volts * 10 ** (level / 20), "V", digits=5)
            else:
                absolute = f"{level:.3f} dBFS"
            self._say("level", absolute, f"{level:.3f} dBFS" if volts else "calibrate the input for volts")
        steady = mine.steadiness
        steadiness = ""
        if steady.steady:
            steadiness = "steady"
        elif level is not None:
            steadiness = "not steady"
        self._say(
            "spread",
            spread_words(steady.spread) if math.isfinite(steady.spread) and level is not None else MISSING_VALUE,
            steadiness,
        )
        tone = mine.tone
        self._say(
            "rest",
            format_quantity(tone.rest, "dB") if tone else MISSING_VALUE,
            "clean source" if tone and tone.rest < -60 else "",
        )
        self._say("frequency", format_quantity(tone.frequency, "Hz", digits=6) if tone else MISSING_VALUE)
        self._say("peak", f"{mine.peak:.1f} dBFS", "clipping: reduce level" if mine.peak > -0.01 else "")
        others = [(n, c.rms) for n, c in enumerate(now.channels, start=1) if n != now.watched]
        loud = [n for n, rms in others if rms > _SILENT_DBFS]
        self._say(
            "others",
            ", ".join(f"{n} silent" if r <= _SILENT_DBFS else f"{n} at {r:.0f} dBFS" for n, r in others[:3]) or "none",
            "signal on another input" if loud and mine.rms <= _SILENT_DBFS else "",
        )

    def _say(self, key: str, value: str, remark: str = "") -> None:
        for label, words in zip(self.values[key], (value, remark), strict=True):
            if label.text() != words:
                label.setText(words)
