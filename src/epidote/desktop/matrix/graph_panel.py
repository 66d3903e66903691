"""The graph with its choices: which curves, which channels, % or dB; and the commands that need it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from epidote.desktop.plot.view import GraphView
from epidote.desktop.theme import Theme
from epidote.desktop.widgets.choice import Choice


class GraphPanel(QWidget):
    choice_changed = Signal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 8, 4)
        layout.setSpacing(4)
        top = QHBoxLayout()
        top.setSpacing(10)
        self.heading = QLabel()
        self.heading.setProperty("heading", True)
        self.views = Choice()
        self.variants = Choice()
        self.units = Choice()
        self.channels = Choice(several=True)
        self.channels.setToolTip("Channels shown")
        self.export = QToolButton()
        self.export.setText("Export …")
        top.addWidget(self.heading)
        top.addWidget(self.views)
        top.addWidget(self.variants)
        top.addStretch(1)
        top.addWidget(self.units)
        top.addWidget(self.channels)
        top.addWidget(self.export)
        layout.addLayout(top)
        self.graph = GraphView(theme)
        layout.addWidget(self.graph, 1)
        for choice in (self.views, self.variants, self.units, self.channels):
            choice.chosen.connect(lambda _: self.choice_changed.emit())

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.graph.set_theme(theme)
