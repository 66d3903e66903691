"""The graph with its choices: which curves, which channels, % or dB; and the commands that need it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from epidote.desktop.plotting.graph_widget import GraphWidget
from epidote.desktop.plotting.icons import inward_mark, outward_mark, sheets_mark
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.channel_choice import ChannelChoice
from epidote.desktop.widgets.flow_layout import FlowLayout
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.scrolled import WrappingWidget
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.desktop.widgets.sign_button import SignButton

if TYPE_CHECKING:  # what holds curves needs NumPy, which is loaded after the window shows
    from epidote.desktop.plotting.figure import Figure

_NARROW = 860
_OTHERS = 3
_LEAST_HEIGHT = 15  # of a graph, as a multiple of the size of the text


class OtherGraph(QWidget):
    """One of the further graphs: another curve of the same runs; its title brings it to the main graph."""

    view_wanted = Signal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._key = ""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.title = QPushButton()
        self.title.setProperty("link", True)
        self.title.setToolTip("Show this curve in the main graph")
        self.title.clicked.connect(lambda _: self.view_wanted.emit(self._key))
        self.graph = GraphWidget(theme)
        self.graph.setMinimumHeight(round(_LEAST_HEIGHT * font().pointSizeF()))
        layout.addWidget(self.title)
        layout.addWidget(self.graph, 1)

    def show_figure(self, key: str, title: str, figure: Figure | None) -> None:
        """Show a figure of a curve; None: there is nothing to show here."""
        self._key = key
        self.title.setText(title)
        self.title.setVisible(figure is not None)
        self.graph.setVisible(figure is not None)
        self.graph.setAccessibleName(f"Graph, {title}")
        self.graph.set_figure(figure, keep_zoom=True)


class GraphPanel(WrappingWidget):
    """The graph and the options above it."""

    choice_changed = Signal()
    step_wanted = Signal(int)
    view_wanted = Signal(str)  # the key of a curve that another graph shows
    action_wanted = Signal(str)  # one of the window's commands

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setProperty("help", "graph")
        self.theme = theme
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 8, 4)
        layout.setSpacing(2)
        self._build_choices()
        self._build_buttons(theme)
        self._build_step()
        for widgets in (
            (
                self.heading,
                self.views,
                None,
                self.pins,
                self.lines,
                self.extra,
                self.export,
                self.copy,
                self.large,
                self.smaller,
            ),
            (self.variants, self.step, self.aligning, None, self.axes, self.units, self.channels),
        ):
            line = FlowLayout(spacing=10)
            for widget in widgets:
                if widget is None:
                    line.add_gap()
                else:
                    line.addWidget(widget)
            layout.addLayout(line)
        self.graph = GraphWidget(theme)
        self.graph.setMinimumHeight(round(_LEAST_HEIGHT * font().pointSizeF()))
        self.grid = QGridLayout()
        self.grid.setSpacing(4)
        self.grid.addWidget(self.graph, 0, 0, 2, 2)
        self.empty = QPushButton("Select measured cells in column")
        self.empty.clicked.connect(lambda _: self.action_wanted.emit("whole column"))
        self.empty.hide()
        self.grid.addWidget(self.empty, 1, 0, 1, 2, Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter)
        self.whole = QToolButton()
        self.whole.setText("Reset zoom")
        self.whole.setToolTip("Show the whole graph (Ctrl+0)")
        self.whole.clicked.connect(lambda _: self.action_wanted.emit("whole graph"))
        self.whole.hide()
        self.grid.addWidget(self.whole, 0, 0, 1, 2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
        self.graph.zoom_changed.connect(self._offer_whole)
        layout.addLayout(self.grid, 1)
        self.others: list[OtherGraph] = []
        self.four_shown = False
        for choice in (self.views, self.variants, self.axes, self.units, self.channels, self.aligning):
            choice.chosen.connect(lambda _: self.choice_changed.emit())

    def _build_choices(self) -> None:
        """Build what selects which curves are drawn, and how."""
        self.heading = Label()
        self.heading.setProperty("heading", True)
        self.views, self.variants, self.axes, self.units, self.aligning = (
            SegmentedButtons(tabs=True),
            SegmentedButtons(),
            SegmentedButtons(),
            SegmentedButtons(),
            SegmentedButtons(),
        )
        self.aligning.setToolTip("Align the gain of each curve with the reference before comparing")
        self.axes.setToolTip("X-axis quantity")
        self.channels = ChannelChoice(several=True)
        self.channels.setToolTip("Channels shown")

    def _build_buttons(self, theme: Theme) -> None:
        """Build the commands that the graph needs."""
        self.export = QToolButton()
        self.export.setText("Export…")
        self.lines = QToolButton()
        self.lines.setText("Limits")
        self.lines.setToolTip("Show, add or edit guides, limits and claims in this graph")
        self.lines.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.lines.setProperty("menu", True)
        self.pins = QToolButton()
        self.pins.setText("Pins")
        self.pins.setToolTip("Mark points of the curves; a double-click in the graph adds a pin")
        self.pins.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.pins.setProperty("menu", True)
        self.copy = SignButton(
            sheets_mark,
            "Copy graph",
            "Copy the graph as a picture, with its settings and cautions (Ctrl+Shift+G)",
            theme,
        )
        self.copy.clicked.connect(lambda _: self.action_wanted.emit("copy graph"))
        self._extra_action = ""
        self.extra = QToolButton()  # what only this procedure's runs have
        self.extra.clicked.connect(lambda _: self.action_wanted.emit(self._extra_action))
        self.show_extra("", "")
        self.large = SignButton(outward_mark, "Larger graph", "Fill the window with the graph (F11)", theme)
        self.smaller = SignButton(inward_mark, "Smaller graph", "Show matrix and panel again (F11)", theme)
        self.smaller.clicked.connect(lambda _: self.action_wanted.emit("large graph"))
        self.large.clicked.connect(lambda _: self.action_wanted.emit("large graph"))
        self.export.clicked.connect(lambda _: self.action_wanted.emit("export"))
        self.smaller.hide()

    def _build_step(self) -> None:
        """Build what goes from step to step of a sweep."""
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

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.heading.setVisible(self.width() > _NARROW)  # where room is scarce the matrix' own bold head says it

    def offer_cells(self, on: bool) -> None:
        """Offer to select measured cells, where none is selected and there are some in the column."""
        self.empty.setVisible(on)
        self.empty.raise_()

    def _offer_whole(self, on: bool) -> None:
        self.whole.setVisible(on)
        self.whole.raise_()

    def show_extra(self, words: str, action: str) -> None:
        """Offer a command that these runs have beside the usual ones; "" for none."""
        self._extra_action = action
        self.extra.setText(words)
        self.extra.setVisible(bool(words))

    def show_four(self, on: bool) -> None:
        """Show three more graphs beside the main one, or that one alone."""
        self.four_shown = on
        while on and len(self.others) < _OTHERS:
            other = OtherGraph(self.theme)
            other.view_wanted.connect(self.view_wanted)
            self.others.append(other)
        span = 1 if on else 2
        self.grid.addWidget(self.graph, 0, 0, span, span)
        self.grid.addWidget(self.whole, 0, 0, 1, span, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
        for number, other in enumerate(self.others, start=1):
            if on:
                self.grid.addWidget(other, number // 2, number % 2)
            other.setVisible(on)

    def show_large(self, large: bool) -> None:
        """Offer the other size of the graph."""
        self.large.setVisible(not large)
        self.smaller.setVisible(large)

    def show_step(self, words: str) -> None:
        """Which step of a staircase is in view; "": none is to choose."""
        self.step_words.setText(words)
        self.step.setVisible(bool(words))

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        for button in (self.copy, self.large, self.smaller):
            button.set_theme(theme)
        self.graph.set_theme(theme)
        for other in self.others:
            other.graph.set_theme(theme)
