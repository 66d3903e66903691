"""What a presenter of a side panel may ask of the side panel that shows it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PySide6.QtWidgets import QWidget

if TYPE_CHECKING:
    from epidote.desktop.theme import Theme


class PanelHost(Protocol):
    """tab: which panel is in view. asked: number of the latest question; an answer to an earlier one is dropped."""

    tab: str
    asked: int

    @property
    def theme(self) -> Theme: ...

    @property
    def widget(self) -> QWidget:
        """The parent of dialogs."""

    def refresh(self) -> None:
        """Show in the panel in view what is selected now."""
