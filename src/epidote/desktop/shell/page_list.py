"""The pages of the window, in the order of the bar. A new page is added here."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PySide6.QtWidgets import QWidget

    from epidote.desktop.pages.page import Page
    from epidote.desktop.state.session import Session
    from epidote.desktop.theme import Theme


@dataclass(frozen=True)
class PageKind:
    """title: as the bar shows it. module, name: of the page's class, which is loaded when the page is first shown.
    letter: place in the title of the letter that opens it from the menu. views: modules of what else the page shows,
    which it loads by itself when somebody looks at it.
    """

    title: str
    module: str
    name: str
    letter: int = 0
    views: tuple[str, ...] = ()

    @property
    def menu_words(self) -> str:
        """The title with the mark of its letter."""
        return f"{self.title[: self.letter]}&{self.title[self.letter :]} page"

    def make(self, session: Session, theme: Theme, parent: QWidget) -> Page:
        page: Page = getattr(import_module(self.module), self.name)(session, theme, parent)
        return page


FIRST = "Matrix"  # the page that the window opens with
PAGES = (
    PageKind("Chain", "epidote.desktop.pages.chain.page", "ChainPage"),
    PageKind("Watch", "epidote.desktop.pages.watch.page", "WatchPage"),
    PageKind("Matrix", "epidote.desktop.pages.matrix.page", "MatrixPage"),
    PageKind(
        "Routine",
        "epidote.desktop.pages.routine.page",
        "RoutinePage",
        letter=6,
        views=("epidote.desktop.pages.routine.statistics_view",),
    ),
    PageKind("Listen", "epidote.desktop.pages.listen.page", "ListenPage", letter=1),
)


def load_the_rest() -> None:
    """On the study's thread, before somebody waits for it: the other pages' modules, and what analyses and unequal
    grids need.
    """
    pages = [kind.module for kind in PAGES]
    views = [view for kind in PAGES for view in kind.views]
    for name in (*pages, "scipy.fft", "scipy.interpolate", "scipy.special", *views):
        import_module(name)
