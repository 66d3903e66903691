"""What the window asks of a page."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from epidote.desktop.theme import Theme


class Page(QWidget):
    """One page of the window.

    failed: a sentence for the user about something that could not be done. action_wanted: the name of one of the
    window's actions that the page asks for.
    """

    failed = Signal(str)
    action_wanted = Signal(str)

    def set_theme(self, theme: Theme) -> None:
        """Show everything in another theme."""
        raise NotImplementedError

    def mute(self) -> None:
        """Learn that all output was stopped."""

    def check_path(self) -> None:
        """Check the signal path, where the page can."""

    def show_part(self, key: str) -> None:
        """Show one part of the page; pages of one part have nothing to do."""
