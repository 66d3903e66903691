"""What the window asks of a page."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from epidote.desktop.theme import Theme

if TYPE_CHECKING:
    from epidote.core.routine.model import Routine


class Page(QWidget):
    """One page of the window.

    failed: a sentence for the user about something that could not be done. action_wanted: the name of one of the
    window's actions that the page asks for. row_wanted: the number of a row to select on the Matrix page.
    """

    failed = Signal(str)
    action_wanted = Signal(str)
    row_wanted = Signal(int)

    def set_theme(self, theme: Theme) -> None:
        """Show everything in another theme."""
        raise NotImplementedError

    def mute(self) -> None:
        """Learn that all output was stopped."""

    def check_path(self) -> None:
        """Check the signal path, where the page can."""

    def take_runs(self, run_ids: Sequence[int]) -> None:
        """Learn which runs are selected in the matrix, where the page can use them."""

    def routine_in_view(self) -> Routine | None:
        """Return the routine that the page shows; None on pages that show none."""
        return None

    def show_part(self, key: str) -> None:
        """Show one part of the page; pages of one part have nothing to do."""
