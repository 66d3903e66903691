"""The way in: the window first, everything that computes after it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from epidote.desktop.state.faults import faults
from epidote.desktop.state.garbage import collect_between_events, keep_what_is_loaded
from epidote.desktop.theme import apply_theme, chosen_theme, load_fonts

if TYPE_CHECKING:
    from epidote.desktop.shell.main_window import MainWindow


def application() -> QApplication:
    """Return the one QApplication, dressed."""
    app = QApplication.instance()
    if isinstance(app, QApplication):
        made = app
    else:
        made = QApplication(sys.argv[:1])
    made.setApplicationName("Epidote")
    made.setOrganizationName("Epidote")
    collect_between_events(made)
    load_fonts()
    apply_theme(made, chosen_theme())
    return made


def run(argument: str) -> int:
    """Show the window with nothing (""), the demo ("demo"), or the study in a folder; return when it is closed."""
    app = application()
    faults().install()
    from epidote.desktop.shell.main_window import MainWindow

    window = MainWindow(at_once=bool(argument))
    window.show()
    if not argument:  # the start page is seen before the rest is loaded
        app.processEvents()
        window.repaint()
    QTimer.singleShot(0, lambda: _go_on(window, argument))
    return app.exec()


def _go_on(window: MainWindow, argument: str) -> None:
    """Complete the window and open what was asked for."""
    if not window.completed:
        window.complete()
    keep_what_is_loaded()
    if argument == "demo":
        window.open_demo()
    elif argument:
        window.session.open_path(Path(argument))
