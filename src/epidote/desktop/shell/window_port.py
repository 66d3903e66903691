"""The main window as its actions need it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PySide6.QtWidgets import QWidget

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.desktop.state.session import Session
    from epidote.desktop.theme import Theme


class WindowPort(Protocol):
    """session, matrix and theme of the window; widget: the parent of dialogs."""

    session: Session
    matrix: MatrixPage
    theme: Theme

    @property
    def widget(self) -> QWidget: ...

    @property
    def study_title(self) -> str:
        """The title of the open study as the window shows it."""

    def say(self, words: str) -> None:
        """Show a message."""

    def show_page(self, name: str) -> None:
        """Go to a page."""


class WindowCommands(Protocol):
    """What the window itself can do."""

    def new_study(self) -> None: ...
    def choose_study(self) -> None: ...
    def open_demo(self) -> None: ...
    def edit_preferences(self) -> None: ...
    def quit(self) -> None: ...
    def silence(self) -> None: ...
    def whole_graph(self) -> None: ...
    def focus_graph(self) -> None: ...
    def focus_side(self) -> None: ...
    def show_page(self, name: str) -> None: ...
