"""Every button by mouse: it does what its key does, and what a click sends along lands in no parameter."""

import ast
import re
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QDialog, QFileDialog, QInputDialog, QMenu

from epidote.desktop.pages.watch.settings_bar import ZERO
from epidote.desktop.shell.page_list import PAGES
from epidote.desktop.state.faults import faults
from tests.desktop.driver import press, wait_for

DESKTOP = Path(__file__).resolve().parents[2] / "src" / "epidote" / "desktop"


def _methods_with_open_defaults() -> dict[str, list[str]]:
    """Names of methods with a positional parameter that has a default, each with the files that define it."""
    found: dict[str, list[str]] = {}
    for path in sorted(DESKTOP.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef) and node.args.defaults:
                found.setdefault(node.name, []).append(str(path.relative_to(DESKTOP)))
    return found


def test_no_signal_is_connected_to_a_method_whose_default_it_could_fill():
    """``clicked`` sends whether the button is down. A method connected to it takes that for its first parameter, and
    a default hides the mistake: the button of the generator said "nothing has changed" for that reason.
    """
    risky = _methods_with_open_defaults()
    wrong = []
    for path in sorted(DESKTOP.rglob("*.py")):
        place = str(path.relative_to(DESKTOP))
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call) or not node.args or not isinstance(node.func, ast.Attribute):
                continue
            receiver = node.args[0]
            if node.func.attr != "connect" or not isinstance(receiver, ast.Attribute):
                continue
            homes = risky.get(receiver.attr, [])
            if ast.unparse(receiver.value) == "self":
                homes = [home for home in homes if home == place]
            wrong += [f"{place}:{node.lineno} connects {ast.unparse(receiver)}, see {home}" for home in homes]
    assert not wrong


# -- buttons that carry out a command -------------------------------------------------------------


@pytest.fixture
def carried(window, monkeypatch):
    """Names of the commands that are asked for, in order; none is carried out."""
    names: list[str] = []
    monkeypatch.setattr(window.menus, "carry_out", lambda command: names.append(command.name))
    return names


def _key_in(tip: str) -> str:
    """The key that a tooltip names at its end, in brackets."""
    found = re.search(r"\(([^()]+)\)$", tip)
    return found.group(1).split(" or ")[0] if found else ""


def _visible_buttons(page) -> list[QAbstractButton]:
    return [b for b in page.findChildren(QAbstractButton) if b.isVisible() and b.isEnabled() and b.text()]


@pytest.mark.parametrize("title", [kind.title for kind in PAGES])
def test_a_button_asks_for_the_command_of_its_key(window, carried, qtbot, title):
    window.show_page(title)
    wait_for(qtbot, lambda: window.page_named(title) is not None and window.page_named(title).isVisible())
    commands = {QKeySequence(c.shortcut).toString(): c.name for c in window.commands if c.shortcut}
    compared = 0
    for button in _visible_buttons(window.page_named(title)):
        name = commands.get(QKeySequence(_key_in(button.toolTip())).toString() if _key_in(button.toolTip()) else "")
        if name is None:
            continue
        carried.clear()
        press(button)
        assert carried == [name], button.text()
        carried.clear()
        window.actions_by_name[name].activate(window.actions_by_name[name].ActionEvent.Trigger)
        assert carried == [name], button.text()
        compared += 1
    assert compared >= {"Matrix": 3}.get(title, 0)


@pytest.mark.parametrize("title", [kind.title for kind in PAGES])
def test_every_button_of_a_page_can_be_clicked(window, qtbot, monkeypatch, title):
    """Whatever a click opens is closed again; no click ends in a fault of the program."""
    for chooser in ("getOpenFileName", "getOpenFileNames", "getSaveFileName"):
        monkeypatch.setattr(QFileDialog, chooser, staticmethod(lambda *_, **__: ("", "")))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", staticmethod(lambda *_, **__: ""))
    for asker in ("getText", "getItem"):
        monkeypatch.setattr(QInputDialog, asker, staticmethod(lambda *_, **__: ("", False)))
    monkeypatch.setattr(QMenu, "exec", lambda *_: None)
    monkeypatch.setattr(QDialog, "exec", lambda *_: 0)
    told = []
    faults().told.connect(lambda words, details: told.append(details))
    window.show_page(title)
    wait_for(qtbot, lambda: window.page_named(title) is not None and window.page_named(title).isVisible())
    page = window.page_named(title)
    clicked = set()
    while True:  # a click may bring further buttons
        button = next((b for b in _visible_buttons(page) if b.text() not in clicked), None)
        if button is None:
            break
        clicked.add(button.text())
        if getattr(button, "menu", lambda: None)() is None:
            press(button)
        for opened in window.findChildren(QDialog):
            opened.close()
        for menu in (w for w in QApplication.topLevelWidgets() if isinstance(w, QMenu)):
            menu.close()
        window.show_page(title)
    window.silence()
    window.session.live.wait()
    wait_for(qtbot, lambda: not window.session.runs.under_way)
    assert len(clicked) >= 4
    assert told == []


# -- buttons of the live view, whose keys are no commands -----------------------------------------


@pytest.fixture
def watch(window, qtbot):
    window.show_page("Watch")
    page = window.page_named("Watch")
    wait_for(qtbot, lambda: page.row.count() == 3)
    press(page.listen)
    wait_for(qtbot, lambda: page.frame is not None and page.frame.filled)
    yield page
    window.session.live.stop()
    window.session.live.wait()


def loudest(page) -> float:
    return float(np.nanmax(page.frame.high[0]))


def test_the_button_stops_the_output_and_starts_it_as_the_space_bar_does(watch, qtbot):
    press(watch.generator.switch)
    assert watch.generator.switch.text() == "Stop output"
    wait_for(qtbot, lambda: loudest(watch) > -25)
    press(watch.generator.switch)
    assert watch.generator.switch.text() == "Start output"
    wait_for(qtbot, lambda: loudest(watch) < -60)
    watch.canvas.setFocus()
    QTest.keyClick(watch.canvas, Qt.Key.Key_Space)
    wait_for(qtbot, lambda: loudest(watch) > -25)
    QTest.keyClick(watch.canvas, Qt.Key.Key_Space)
    wait_for(qtbot, lambda: loudest(watch) < -60)


def test_snapshot_zero_and_restart_by_button_and_by_key(watch, qtbot, monkeypatch):
    restarts = []
    monkeypatch.setattr(watch.watch, "restart", lambda: restarts.append(1))
    for times, act in enumerate(
        (lambda: press(watch.settings.again), lambda: QTest.keyClick(watch.canvas, Qt.Key.Key_R)), start=1
    ):
        act()
        assert len(restarts) == times
    press(watch.states.hold)
    QTest.keyClick(watch.canvas, Qt.Key.Key_H)
    assert list(watch.states.states) == ["Snapshot 1", "Snapshot 2"]
    press(watch.settings.units.button(ZERO))
    by_button = watch.offset()
    assert by_button != 0
    press(watch.settings.units.button("dBFS"))
    assert watch.offset() == 0
    QTest.keyClick(watch.canvas, Qt.Key.Key_Z)
    wait_for(qtbot, lambda: watch.offset() != 0)
