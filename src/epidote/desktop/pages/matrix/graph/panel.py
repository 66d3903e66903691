"""The graph with its choices: which curves, which channels, % or dB; and the commands that need it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from epidote.desktop.plotting.graph_widget import GraphWidget
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

_NARROW = 700


class GraphPanel(QWidget):
    """The graph and the options above it."""

    choice_changed = Signal()
    step_wanted = Signal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 8, 4)
        layout.setSpacing(2)
        self.heading = Label()
        self.heading.setProperty("heading", True)
        self.views, self.variants, self.axes, self.units, self.aligning = (
            SegmentedButtons(),
            SegmentedButtons(),
            SegmentedButtons(),
            SegmentedButtons(),
            SegmentedButtons(),
        )
        self.aligning.setToolTip("Align the gain of each curve with the reference before comparing")
        self.axes.setToolTip("X-axis quantity")
        self.channels = SegmentedButtons(several=True)
        self.channels.setToolTip("Channels shown")
        self.export = QToolButton()
        self.export.setText("Export…")
        self.lines = QToolButton()
        self.lines.setText("Limits")
        self.lines.setToolTip("Show, add or edit guides, limits and claims in this graph")
        self.lines.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.step = QWidget()
        step = QHBoxLayout(self.step)
        step.setContentsMargins(0, 0, 0, 0)
        step.setSpacing(2)
        self.step_words = Label()
        for text, by, words in (("‹", -1, "Previous step"), ("›", 1, "Next step")):
            button = QToolButton()
            button.setText(text)
            button.setToolTip(plain_tip(words))
            button.setAccessibleName(words)
            button.clicked.connect(lambda _=False, n=by: self.step_wanted.emit(n))
            step.addWidget(button)
            if by < 0:
                step.addWidget(self.step_words)
        self.step.hide()
        for widgets in (
            (self.heading, self.views, None, self.lines, self.export),
            (self.variants, self.step, self.aligning, None, self.axes, self.units, self.channels),
        ):
            line = QHBoxLayout()
            line.setSpacing(10)
            for widget in widgets:
                if widget is None:
                    line.addStretch(1)
                else:
                    line.addWidget(widget)
            layout.addLayout(line)
        self.graph = GraphWidget(theme)
        layout.addWidget(self.graph, 1)
        for choice in (self.views, self.variants, self.axes, self.units, self.channels, self.aligning):
            choice.chosen.connect(lambda _: self.choice_changed.emit())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.heading.setVisible(self.width() > _NARROW)  # where room is scarce the matrix' own bold head says it

    def show_step(self, words: str) -> None:
        """Which step of a staircase is in view; "": none is to choose."""
        self.step_words.setText(words)
        self.step.setVisible(bool(words))

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.graph.set_theme(theme)
