"""Shows one of the pictures of a reading over units; points tell their unit."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QSize, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from epidote.core.quantities.formatting import format_quantity
from epidote.desktop.pages.routine.statistics_pictures import PICTURES
from epidote.desktop.pages.routine.statistics_pictures.canvas import Canvas
from epidote.desktop.pages.routine.statistics_pictures.picture import Picture, Plotted, PlottedReading
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import plain_tip

_NEAR = 8.0  # pixels


class StatisticsPlot(QWidget):
    """unit_picked: place of the unit that was clicked."""

    unit_picked = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self.picture: Picture = next(iter(PICTURES.values()))
        self.plotted: Plotted | None = None
        self._instead = ""
        self._points: list[tuple[QPointF, int]] = []
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Plot of the reading over all units")

    def set_theme(self, theme: Theme) -> None:
        """Show the same in another theme."""
        self.theme = theme
        self.update()

    def show_plotted(self, plotted: Plotted | None, key: str, instead: str = "") -> None:
        """Show a reading or a curve in a picture; without any the words that say why there is none."""
        self.plotted, self.picture, self._instead = plotted, PICTURES[key], instead
        self.setAccessibleDescription(self.words())
        self.update()

    def words(self) -> str:
        """Return in a sentence what the picture shows."""
        return self.picture.words(self.plotted) if self.plotted is not None else ""

    def sizeHint(self) -> QSize:
        return QSize(560, 420)

    def minimumSizeHint(self) -> QSize:
        return QSize(300, 220)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        canvas = Canvas(p, self.theme, self.size())
        if self.plotted is None:
            canvas.frame("", "")
            canvas.say(self._instead)
        else:
            self.picture.paint(canvas, self.plotted)
        self._points = canvas.points
        p.end()

    # -- the pointer ---------------------------------------------------------------------------------

    def _at(self, where: QPointF) -> int | None:
        """Return the place of the unit under the pointer."""
        near = [((point - where).manhattanLength(), place) for point, place in self._points]
        distance, place = min(near, default=(_NEAR + 1, -1))
        return place if distance <= _NEAR else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place, reading = self._at(event.position()), self.plotted
        if place is None or not isinstance(reading, PlottedReading):
            QToolTip.hideText()
            return
        value = format_quantity(float(reading.statistics.values[place]), reading.unit, digits=4)
        QToolTip.showText(event.globalPosition().toPoint(), plain_tip(f"{reading.names[place]}: {value}"), self)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self._at(event.position())
        if place is not None:
            self.unit_picked.emit(place)
