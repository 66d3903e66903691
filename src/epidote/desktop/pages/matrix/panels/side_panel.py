"""What stands beside the Matrix page's graph: readings, differences, conditions, claims or notes.

Made when first looked at.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from epidote.desktop.pages.matrix.panels.claims.presenter import ClaimsPresenter
from epidote.desktop.pages.matrix.panels.conditions.presenter import ConditionsPresenter
from epidote.desktop.pages.matrix.panels.difference.presenter import DifferencePresenter
from epidote.desktop.pages.matrix.panels.notes.presenter import NotesPresenter
from epidote.desktop.widgets.scrolled import WrappingWidget, scrolled
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.desktop.theme import Theme

TABS = (
    ("readings", "Readings"),
    ("difference", "Difference"),
    ("conditions", "Conditions"),
    ("claims", "Claims"),
    ("notes", "Notes"),
)
_ALWAYS = ("claims", "notes")  # of an empty cell as well


class _Panel(Protocol):
    """A panel as far as it is dressed from outside."""

    theme: Theme


class PanelPresenter(Protocol):
    """One tab: makes its panel when it is first looked at, and shows in it what is chosen."""

    @property
    def panel(self) -> _Panel | None: ...

    def make(self) -> QWidget: ...

    def show(self) -> None: ...


class SidePanel:
    """Which panel is in view. Answers to questions that are no longer asked are dropped by their number."""

    def __init__(self, selection: MatrixSelection, view: GraphViewState, theme: Theme) -> None:
        self._selection = selection
        self._theme = theme
        self.tab = "readings"
        self.asked = 0
        self.comparing, self.varying = (
            DifferencePresenter(selection, self, view),
            ConditionsPresenter(selection, self, view),
        )
        self.claiming, self.noting = ClaimsPresenter(selection, self), NotesPresenter(selection, self)
        self._parts: dict[str, PanelPresenter] = {
            "difference": self.comparing,
            "conditions": self.varying,
            "claims": self.claiming,
            "notes": self.noting,
        }
        self._made: dict[str, QWidget] = {}
        self._stack: QStackedWidget | None = None
        self._readings: QWidget | None = None
        self.tabs = SegmentedButtons(tabs=True)
        self.tabs.set_options(TABS, [self.tab])
        self.tabs.fill_width()
        self.tabs.chosen.connect(lambda on: self.show(on[0]))

    @property
    def theme(self) -> Theme:
        return self._theme

    @property
    def widget(self) -> QWidget:
        assert self._stack is not None
        return self._stack

    def wrap(self, stack: QStackedWidget, readings: QWidget) -> QWidget:
        """Return the tabs above the stack of panels that they choose from."""
        self._stack, self._readings = stack, readings
        whole = WrappingWidget()
        layout = QVBoxLayout(whole)
        layout.setContentsMargins(0, 6, 0, 0)
        layout.setSpacing(0)
        line = QHBoxLayout()
        line.setContentsMargins(8, 0, 0, 0)
        line.addWidget(self.tabs, 1)
        layout.addLayout(line)
        layout.addWidget(scrolled(stack), 1)
        return whole

    def show(self, tab: str) -> None:
        """Go to a panel."""
        self.tab = tab
        self.tabs.set_options(TABS, [tab])
        self._selection.refresh()

    def panel(self, *, measured: bool) -> QWidget | None:
        """Return the panel of the tab; None where the run to make belongs there."""
        if self.tab not in _ALWAYS and not measured:
            return None
        if self.tab == "readings":
            return self._readings
        made = self._made.get(self.tab)
        if made is None:
            made = self._made[self.tab] = self._parts[self.tab].make()
            made.setProperty("help", self.tab)  # its page of the guide
            assert self._stack is not None
            self._stack.addWidget(made)
        return made

    def set_theme(self, theme: Theme) -> None:
        self._theme = theme
        for part in self._parts.values():
            if part.panel is not None:
                part.panel.theme = theme

    def refresh(self) -> None:
        """Show in the panel in view what is chosen now."""
        self.asked += 1
        part = self._parts.get(self.tab)
        if part is not None and part.panel is not None:
            part.show()
