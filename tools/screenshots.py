#!/usr/bin/env python3
"""Retake docs/screenshots from the demo study, without a display.

With a name as argument: only pictures whose name holds it.
"""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="epidote-shots-")
os.environ["XDG_CONFIG_HOME"] = HOME  # the pictures do not depend on anybody's preferences

from PySide6.QtCore import QDeadlineTimer, QEventLoop
from PySide6.QtWidgets import QApplication, QWidget

from epidote.audio.files.sound_file import encode
from epidote.core.signals.signal import Signal
from epidote.demo.scenario import fill_demo, missing_orders, open_demo
from epidote.desktop.app import application
from epidote.desktop.preferences import preferences
from epidote.desktop.shell.help_window import HelpWindow
from epidote.desktop.shell.main_window import MainWindow
from epidote.desktop.windows.align_paths.window import AlignWindow
from epidote.desktop.windows.latency_window import LatencyWindow
from epidote.desktop.windows.segment_dialog import SegmentDialog

OUT = Path(__file__).resolve().parents[1] / "docs" / "screenshots"


def settle(window: MainWindow, seconds: float = 1.2) -> None:
    """Let the workers answer and the window paint."""
    deadline = QDeadlineTimer(round(seconds * 1000))
    while not deadline.hasExpired():
        QApplication.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 50)


def shoot(window: MainWindow, name: str, wanted: str) -> None:
    settle(window)
    if wanted in name:
        OUT.mkdir(parents=True, exist_ok=True)
        window.grab().save(str(OUT / f"{name}.png"))
        print(OUT / f"{name}.png")


def main() -> None:
    wanted = sys.argv[1] if len(sys.argv) > 1 else ""
    path = Path(os.environ.get("EPIDOTE_DEMO", str(Path(HOME) / "Dome refit.epidote")))
    study = open_demo(path)
    if missing_orders(study):
        fill_demo(study, print)
    study.close()
    application()
    window = MainWindow()
    window.show()
    window.session.open_path(path)
    settle(window, 3)
    page = window.matrix
    overview = window.session.overview
    assert overview is not None
    found = {c.procedure: c.id for c in reversed(overview.columns)}  # of several, the first
    _, p40_high, _, a25, *_ = (s.id for s in overview.subjects)

    def dressed(theme: str, width: int, height: int) -> None:
        preferences().setValue("theme", theme)
        window.resize(width, height)
        window.apply_theme()

    first_hour(window, dressed, wanted)
    graphs(window, dressed, wanted, found, tuple(s.id for s in overview.subjects))
    page.pins.clear()
    settle(window)
    beside_the_graph(window, dressed, wanted, found, (p40_high, a25))
    by_hand(
        window,
        dressed,
        wanted,
        next(s.id for s in overview.subjects if s.conditions.get("program") == "steady"),
        found["paths"],
    )
    watch_and_chain(window, dressed, wanted, p40_high, a25)
    routine(window, dressed, wanted)
    listen(window, dressed, wanted)
    guided(window, dressed, wanted)
    window.close()


def first_hour(window: MainWindow, dressed: Callable[[str, int, int], None], wanted: str) -> None:
    """What a new user meets: the start page, the guide."""
    dressed("light", 1280, 800)
    window.show_start()
    shoot(window, "start-light", wanted)
    window.show_page("Matrix")
    settle(window)
    window.show_help("compare-amplifiers")
    settle(window)
    guide = window.findChildren(HelpWindow)[-1]
    keep(guide, "guide-light", wanted)
    guide.close()


def guided(window: MainWindow, dressed: Callable[[str, int, int], None], wanted: str) -> None:
    """The first measurement step by step, in a study of its own."""
    dressed("light", 1280, 800)
    window.session.create(Path(HOME) / "My interface", "My interface")
    settle(window, 2)
    window.show_guided()
    settle(window, 2)
    window.show_chain("source")
    shoot(window, "guided-light", wanted)


def graphs(
    window: MainWindow,
    dressed: Callable[[str, int, int], None],
    wanted: str,
    found: dict[str, int],
    rows: tuple[int, ...],
) -> None:
    page = window.matrix
    response, tone = found["response"], found["tone"]
    baseline, p40_high, p40_low, a25, c12, k3_cold, k3_warm, *_ = rows
    dressed("dark", 1280, 800)
    page.selection.select([p40_low, p40_high, a25], response)
    settle(window)
    page.pins.corners()
    page.table.scrollToTop()
    shoot(window, "matrix-response-dark", wanted)
    dressed("light", 1280, 800)
    page.toggle_large_graph()
    page.toggle_four_graphs()
    shoot(window, "four-graphs-light", wanted)
    page.toggle_four_graphs()
    page.toggle_large_graph()
    dressed("light", 1280, 800)
    page.selection.select([baseline, a25, p40_high], tone)
    shoot(window, "matrix-tone-light", wanted)
    page.selection.select([p40_high, c12, k3_cold, k3_warm], found["distortion-level"])
    shoot(window, "matrix-level-light", wanted)
    dressed("dark", 1024, 700)
    overview = window.session.overview
    assert overview is not None
    kelwin = [s.id for s in overview.subjects if s.name == "Kelwin T2"]
    page.selection.select(kelwin, found["impulsive-distortion"])
    settle(window, 2)
    shoot(window, "air-rattle-narrow", wanted)
    dressed("light", 1280, 800)
    page.selection.select([p40_high, a25], response)
    settle(window)
    if wanted in "exported-graph":
        page.look.show_view("level")
        settle(window, 0.5)
        page.exchange.export(OUT / "exported-graph.png")
        while "exported" not in window.message.text():
            settle(window, 0.2)
        window.message.hide()  # what the next pictures show is something else


def beside_the_graph(
    window: MainWindow,
    dressed: Callable[[str, int, int], None],
    wanted: str,
    found: dict[str, int],
    rows: tuple[int, int],
) -> None:
    """Differences with limits and a band, published figures, and a reading over conditions."""
    page, (p40_high, a25) = window.matrix, rows
    dressed("light", 1280, 800)
    page.beside.show("difference")
    page.selection.select([a25, p40_high], found["response"])
    settle(window, 2)
    page.look.show_view("level")
    page.look.align = "1k"
    page.look.set_band((200.0, 20000.0))
    page.line_editor.about_reference(1.0)
    shoot(window, "matrix-difference-light", wanted)
    window.session.undo.undo()
    page.look.align = "no"
    page.look.set_band(None)
    dressed("dark", 1280, 800)
    page.beside.show("claims")
    page.selection.select([p40_high, a25], found["distortion-level"])
    settle(window, 3)
    assert page.beside.claiming.panel is not None
    page.beside.claiming.panel.typed.setText("THD 0,02 % at 1 kHz, 20 W into 8 ohms")
    shoot(window, "matrix-claims-dark", wanted)
    page.beside.claiming.panel.typed.clear()
    dressed("light", 1280, 800)
    page.beside.show("conditions")
    overview = window.session.overview
    assert overview is not None
    page.selection.select([s.id for s in overview.subjects if s.name == "Sorvane L8"], found["latency"])
    shoot(window, "matrix-conditions-light", wanted)
    page.beside.show("readings")


def by_hand(window: MainWindow, dressed: Callable[[str, int, int], None], wanted: str, row: int, paths: int) -> None:
    """The windows in which paths are laid over each other, stretches picked and latencies compared."""
    dressed("light", 1280, 800)
    window.matrix.selection.select([row], paths)
    settle(window)
    window.rows.align_paths()
    align = window.findChildren(AlignWindow)[-1]
    settle(window, 5)
    align.nudge(0.6)
    settle(window, 0.5)
    keep(align, "align-light", wanted)
    held: list[Signal] = []
    window.session.ask(lambda study: study.recordings(align.run.id)[0].signal, held.append)
    settle(window, 2)
    align.close()
    file = Path(HOME) / "feed.wav"
    file.write_bytes(encode(held[0].samples, held[0].rate, "WAV", "24"))
    pick = SegmentDialog(window.theme, [file], window)
    pick.show()
    settle(window, 3)
    pick.wave.show_frames(0.45 * held[0].rate, 0.56 * held[0].rate)
    pick.wave.set_stretch(0.5, 0.54)
    settle(window, 1)
    keep(pick, "stretch-light", wanted)
    pick.reject()
    window.rows.show_latencies()
    seen = window.findChildren(LatencyWindow)[-1]
    settle(window, 2)
    seen.table.setCurrentIndex(seen.table.cells.index(1, 2))
    keep(seen, "latencies-light", wanted)
    seen.close()


def keep(widget: QWidget, name: str, wanted: str) -> None:
    if wanted in name:
        OUT.mkdir(parents=True, exist_ok=True)
        widget.grab().save(str(OUT / f"{name}.png"))
        print(OUT / f"{name}.png")


def watch_and_chain(
    window: MainWindow, dressed: Callable[[str, int, int], None], wanted: str, p40: int, a25: int
) -> None:
    """The pages with live sound, over the demo's stand-ins."""
    dressed("dark", 1280, 800)
    window.show_page("Chain")
    settle(window, 2)
    chain = window.page_named("Chain")
    assert chain is not None
    chain.path.choose("input")
    chain.begin_guide("input_by_wire")
    chain.guide.play.click()
    settle(window, 6)
    chain.guide.takes["level"].click()
    shoot(window, "chain-guide-dark", wanted)
    window.session.live.stop()
    chain.path.choose("load")
    dressed("light", 1280, 800)
    window.show_page("Watch")
    settle(window)
    watch = window.page_named("Watch")
    assert watch is not None
    watch.row.setCurrentIndex(watch.row.findData(p40))
    watch.start()
    settle(window, 3)
    watch.hold(name="P40 idle")
    watch.row.setCurrentIndex(watch.row.findData(a25))
    watch.start()
    settle(window, 3)
    watch.hold(name="A25 idle")
    watch.lines.hearing.click()
    watch.generator.level.setText("-30 dBFS")
    watch.generator.toggle()
    settle(window, 4)
    watch.show_aim(True)
    watch.aim.panel.target.setText("4.5 V")
    settle(window, 2)
    shoot(window, "watch-light", wanted)
    window.session.live.stop()
    settle(window)


def routine(window: MainWindow, dressed: Callable[[str, int, int], None], wanted: str) -> None:
    """A unit of the line that fails; the study the pictures are made of keeps that pass."""
    if wanted not in "routine-light":
        return
    dressed("light", 1280, 800)
    window.show_page("Routine")
    settle(window)
    page = window.page_named("Routine")
    assert page is not None
    page.passing.real_time = False
    page.unit.serial.setText("H20-131")
    page.press_enter()
    while page.report is None:
        settle(window, 0.2)
    settle(window)
    shoot(window, "routine-light", wanted)
    page.next_unit()


def listen(window: MainWindow, dressed: Callable[[str, int, int], None], wanted: str) -> None:
    """A trial of a forced choice; the study the pictures are made of keeps the test that is begun for it."""
    if wanted not in "listen-light":
        return
    dressed("light", 1280, 800)
    overview = window.session.overview
    assert overview is not None
    rows = [s.id for s in overview.subjects if s.name in ("Velmora T2", "Dome Patch cable")]
    music = next(c.id for c in overview.columns if c.procedure == "programme")
    window.show_page("Matrix")
    window.matrix.selection.select(rows, music)
    settle(window)
    window.show_page("Listen")
    settle(window)
    page = window.page_named("Listen")
    assert page is not None
    while page.listening.drawn is None or page.listening.busy:
        settle(window, 0.2)
    page.view.kinds.button("forced-choice").click()
    page.design.listener.setText("Ada")
    page.design.start.click()
    while not page.listening.in_test:
        settle(window, 0.2)
    for _ in range(6):
        for label in ("A", "B", "?"):
            page.playback.select(label)
            while label not in page.listening.sitting.heard:
                settle(window, 0.1)
        page.view.answers.choices["A"].click()
        settle(window, 0.5)
    page.view.loop.set_stretch(1.7, 4.1)
    for label in ("A", "B", "?"):
        page.playback.select(label)
        settle(window, 0.8)
    shoot(window, "listen-light", wanted)
    page.listening.leave()
    page.playback.stop()


if __name__ == "__main__":
    main()
