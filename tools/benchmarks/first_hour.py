#!/usr/bin/env python3
"""The first hour in figures: start page, the demo's first result, menus, panels and dialogs, typing in a form."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="epidote-first-hour-")
for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[name] = HOME

import numpy as np
from speed import EMPTY, started
from timing import row

START = """
import os, sys, time
begun = float(os.environ["BEGUN"])
from epidote.desktop import app
from epidote.desktop.pages.start import page
painted = page._Mark.paintEvent
def paint(self, event):
    painted(self, event)
    print(time.time() - begun); sys.stdout.flush(); os._exit(0)
page._Mark.paintEvent = paint
app.run("")
"""


def start_page() -> None:
    empty = float(np.median([started(EMPTY)[0] for _ in range(9)]))
    page = float(np.median([started(START)[0] for _ in range(9)]))
    row("the start page painted, in empty windows", f"{1000 * page:.0f} ms = {page / empty:.2f}", "at most 1.5")


def in_the_window() -> None:
    """The demo from its choice to the first result; then what is opened, in the window that shows it."""
    from PySide6.QtCore import QEventLoop
    from PySide6.QtWidgets import QApplication

    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    application()
    window = MainWindow()
    window.show()

    def until(condition: Callable[[], bool], most: float = 60.0) -> float:
        begun = time.perf_counter()
        while not condition() and time.perf_counter() - begun < most:
            QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 10)
        return time.perf_counter() - begun

    until(window.start.mark.isVisible)
    window.start.buttons["demo"].click()
    first = until(lambda: window.session.overview is not None and bool(window.session.overview.runs))
    row("the demo, from its choice to the first result", f"{first:.1f} s", "3 s")
    curve = until(lambda: window.matrix.built and window.matrix.graph_panel.graph.figure() is not None)
    row("... and to the first curve of a unit", f"{first + curve:.1f} s", "-")
    until(lambda: len(window.session.overview.runs) > 12, 30)
    window.silence()
    until(lambda: not window.session.runs.under_way)
    until(lambda: False, 1.0)
    opened(window, until)


def opened(window, until: Callable[..., float]) -> None:
    from PySide6.QtWidgets import QApplication, QDialog

    def spent(do: Callable[[], object]) -> float:
        begun = time.perf_counter()
        do()
        QApplication.processEvents()
        return 1000 * (time.perf_counter() - begun)

    menus = {
        name: spent(lambda m=menu: (m.aboutToShow.emit(), m.popup(window.pos())))
        for name, menu in window.menus.menus.items()
    }
    for menu in window.menus.menus.values():
        menu.close()
    worst = max(menus, key=lambda name: menus[name])
    row("opening a menu, the slowest of all", f"{menus[worst]:.0f} ms ({worst})", "under 100 ms")
    panels = {}
    for tab in ("difference", "conditions", "claims", "notes", "readings"):
        panels[tab] = spent(lambda t=tab: window.matrix.beside.show(t))
    worst = max(panels, key=lambda name: panels[name])
    row("opening a panel for the first time, the slowest", f"{panels[worst]:.0f} ms ({worst})", "under 100 ms")
    pages = {title: spent(lambda t=title: window.show_page(t)) for title in ("Chain", "Watch", "Matrix")}
    worst = max(pages, key=lambda name: pages[name])
    row("opening a page for the first time, the slowest", f"{pages[worst]:.0f} ms ({worst})", "-")
    times = {}
    real = QDialog.exec
    for name in ("find command", "help", "preferences", "add row", "add column", "latencies"):
        begun = time.perf_counter()
        shown: list[float] = []

        def show(dialog: QDialog, begun: float = begun, shown: list[float] = shown) -> int:
            dialog.show()
            QApplication.processEvents()
            shown.append(1000 * (time.perf_counter() - begun))
            dialog.close()
            return 0

        QDialog.exec = show
        window.menus.carry_out_named(name)
        until(lambda s=shown: bool(s), 0.5)
        times[name] = shown[0] if shown else 1000 * (time.perf_counter() - begun - 0.5)
    QDialog.exec = real
    worst = max(times, key=lambda name: times[name])
    row("opening a dialog for the first time, the slowest", f"{times[worst]:.0f} ms ({worst})", "under 100 ms")
    row("... the others", ", ".join(f"{n} {t:.0f}" for n, t in times.items() if n != worst), "under 100 ms")
    typing(window, until, spent)


def typing(window, until: Callable[..., float], spent: Callable[[Callable[[], object]], float]) -> None:
    overview = window.session.overview
    empty = next((s.id, c.id) for s in overview.subjects for c in overview.columns if (s.id, c.id) not in overview.runs)
    window.matrix.selection.select([empty[0]], empty[1])
    until(lambda: window.matrix.run_panel.form is not None)

    def line_of() -> object:
        return next(e for e in window.matrix.run_panel.form.editors.values() if hasattr(e, "setText"))

    keys = [spent(lambda n=n: line_of().setText(f"1{n} kHz")) for n in range(20)]
    row("a key typed in a form, the slowest of 20", f"{max(keys):.0f} ms", "under 50 ms")
    window.close()


if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).parent))
    start_page()
    in_the_window()
