#!/usr/bin/env python3
"""A monkey at the window: random clicks, keys, texts and commands, seeded, on a copy of a small measured study.

It reports exceptions, Qt's warnings, and every gap of more than 300 ms in which the interface's thread did not answer
although the machine gave it the time (its own processor time, not the clock's).

    tools/trials/monkey.py [--seed N] [--minutes M | --actions N]
"""

from __future__ import annotations

import argparse
import collections
import faulthandler
import os
import random
import shutil
import signal
import sys
import tempfile
import time
from pathlib import Path
from types import FrameType

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="epidote-monkey-")
for variable in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
    os.environ[variable] = HOME

from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QInputDialog,
    QLineEdit,
    QMenu,
    QWidget,
)

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

from epidote.desktop.app import application
from epidote.desktop.shell.main_window import MainWindow
from epidote.desktop.state.faults import faults
from tools.trials.small_study import make_small_study

LONGEST_GAP = 0.3  # s of the thread's own time, where it has a processor to itself
TEXTS = (
    "",
    "1 kHz",
    "-20 dBFS",
    "²",
    "1, 2, ²",
    "9" * 60,
    "<b>x</b>",
    "a=b; c",
    "THD < 0,1 %",
    "-3 dB",
    "1 W",
    "\x1b",
    "gain = high",
    "inf",
    "1e400",
)
KEYS = (
    Qt.Key.Key_Up,
    Qt.Key.Key_Down,
    Qt.Key.Key_Left,
    Qt.Key.Key_Right,
    Qt.Key.Key_Return,
    Qt.Key.Key_Escape,
    Qt.Key.Key_Space,
    Qt.Key.Key_Tab,
    Qt.Key.Key_Delete,
    Qt.Key.Key_Backspace,
    Qt.Key.Key_Home,
    Qt.Key.Key_End,
    Qt.Key.Key_P,
    Qt.Key.Key_H,
    Qt.Key.Key_S,
    Qt.Key.Key_R,
    Qt.Key.Key_Z,
    Qt.Key.Key_Plus,
    Qt.Key.Key_Minus,
    Qt.Key.Key_F6,
    Qt.Key.Key_F7,
    Qt.Key.Key_F8,
    Qt.Key.Key_A,
    Qt.Key.Key_I,
)
MODIFIERS = (
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
)
NOT_PRESSED = (
    "quit",
    "preferences",
    "guided",
)  # what ends the trial; what dresses every widget anew, which takes Qt half a second and is asked for


class Sampler:
    """Looks every hundredth of a second of processor time where the interface's thread is, so that a gap can be told
    with its place.

    By a signal, which Python handles on that very thread: a look from another thread would hold on to frames and to the
    painters in them.
    """

    def __init__(self) -> None:
        self._places: collections.Counter[str] = collections.Counter()
        signal.signal(signal.SIGPROF, self._look)
        signal.setitimer(signal.ITIMER_PROF, 0.01, 0.01)

    def _look(self, number: int, frame: FrameType | None) -> None:
        own = []
        while frame is not None and len(own) < 4:
            if f"{os.sep}epidote{os.sep}" in frame.f_code.co_filename:
                own.append(f"{Path(frame.f_code.co_filename).stem}.{frame.f_code.co_name}")
            frame = frame.f_back
        self._places["; ".join(own)] += 1

    def begin(self) -> None:
        self._places.clear()

    def end(self) -> None:
        signal.setitimer(signal.ITIMER_PROF, 0)

    def most(self) -> str:
        """Where it was most often since ``begin``."""
        found = self._places.most_common(2)
        return " | ".join(f"{place or 'Qt'} ({count})" for place, count in found)


class Monkey:
    def __init__(self, window: MainWindow, folder: Path, seed: int, longest_gap: float = LONGEST_GAP) -> None:
        self.window, self.folder, self.longest_gap = window, folder, longest_gap
        self.random = random.Random(seed)
        self.barred = [a for n, a in window.actions_by_name.items() if n in NOT_PRESSED]
        self.gaps: list[str] = []
        self.done = 0
        self.sampler = Sampler()
        self._inner = 0.0
        self._free_later()

    def _free_later(self) -> None:
        # one timer after the other: Qt does not let a repeating one fire while its own last call waits in a loop within
        QTimer.singleShot(150, self.free)

    def free(self) -> None:
        """A menu or dialog that waits in a loop of its own is answered from within, or nothing would go on."""
        self._free_later()
        popup, modal = QApplication.activePopupWidget(), QApplication.activeModalWidget()
        if isinstance(popup, QMenu):
            actions = [
                a
                for a in popup.actions()
                if a.isEnabled() and a.menu() is None and not a.isSeparator() and a not in self.barred
            ]
            popup.close()
            if actions and self.random.random() < 0.5:
                self.random.choice(actions).trigger()
        elif popup is not None:
            popup.close()
        elif isinstance(modal, QDialog) and self.random.random() < 0.3:
            modal.reject()

    def widgets(self, kind: type[QWidget]) -> list[QWidget]:
        """What of a kind is in sight, in the window on top."""
        top = QApplication.activePopupWidget() or QApplication.activeModalWidget() or self.window
        tops = [
            w
            for w in QApplication.topLevelWidgets()
            if w.isVisible() and (w is top or (top is self.window and isinstance(w, QDialog)))
        ]
        return [w for t in tops or [top] for w in t.findChildren(kind) if w.isVisible() and w.isEnabled()]

    def act(self) -> str:
        """One thing a hand could do; what it was."""
        chance = self.random.random()
        if chance < 0.25:
            return self.press_button()
        if chance < 0.5:
            return self.run_command()
        if chance < 0.68:
            return self.press_key()
        if chance < 0.8:
            return self.click_somewhere()
        if chance < 0.88:
            return self.type_text()
        if chance < 0.94:
            return self.select_item()
        return self.turn_wheel()

    def press_button(self) -> str:
        found = [b for b in self.widgets(QAbstractButton) if b.text() not in ("Quit",)]
        if not found:
            return "nothing"
        button = self.random.choice(found)
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        return f"button {button.text()!r}"

    def run_command(self) -> str:
        if QApplication.activeModalWidget() is not None:
            return self.press_key()
        name, action = self.random.choice(
            [(n, a) for n, a in self.window.actions_by_name.items() if n not in NOT_PRESSED]
        )
        if action.isEnabled():
            action.trigger()
        return f"command {name}"

    def press_key(self) -> str:
        target = QApplication.focusWidget() or self.window
        key, modifier = self.random.choice(KEYS), self.random.choice(MODIFIERS)
        QTest.keyClick(target, key, modifier)
        return f"key {key.name} on {type(target).__name__}"

    def click_somewhere(self) -> str:
        found = self.widgets(QWidget)
        if not found:
            return "nothing"
        target = self.random.choice(found)
        place = QPoint(self.random.randrange(max(1, target.width())), self.random.randrange(max(1, target.height())))
        action = self.random.choice((QTest.mouseClick, QTest.mouseDClick, QTest.mousePress))
        button = self.random.choice((Qt.MouseButton.LeftButton, Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton))
        action(target, button, Qt.KeyboardModifier.NoModifier, place)
        if action is QTest.mousePress:
            QTest.mouseMove(target, place + QPoint(self.random.randint(-80, 80), self.random.randint(-40, 40)))
            QTest.mouseRelease(target, button, Qt.KeyboardModifier.NoModifier, place)
        return f"click on {type(target).__name__}"

    def type_text(self) -> str:
        found = self.widgets(QLineEdit)
        if not found:
            return "nothing"
        target, text = self.random.choice(found), self.random.choice(TEXTS)
        target.setText(text)
        if self.random.random() < 0.5:
            QTest.keyClick(target, Qt.Key.Key_Return)
        return f"text {text!r}"

    def select_item(self) -> str:
        found = [c for c in self.widgets(QComboBox) if c.count()]
        if not found:
            return "nothing"
        combo = self.random.choice(found)
        index = self.random.randrange(combo.count())
        combo.setCurrentIndex(index)
        combo.activated.emit(index)
        return f"item {index} of {combo.accessibleName()!r}"

    def turn_wheel(self) -> str:
        found = self.widgets(QWidget)
        if not found:
            return "nothing"
        target = self.random.choice(found)
        where = QPointF(target.width() / 2, target.height() / 2)
        turn = QPoint(0, self.random.choice((-120, 120)))
        event = QWheelEvent(
            where,
            target.mapToGlobal(where),
            QPoint(),
            turn,
            Qt.MouseButton.NoButton,
            self.random.choice(MODIFIERS),
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(target, event)
        return f"wheel on {type(target).__name__}"

    def step(self) -> None:
        begun, inner = time.thread_time(), self._inner
        self.sampler.begin()
        what = self.act()
        QApplication.processEvents()
        whole = time.thread_time() - begun
        spent = whole - (self._inner - inner)  # steps within, in a dialog's own loop, count for themselves
        self._inner = inner + whole
        self.done += 1
        if spent > self.longest_gap:
            self.gaps.append(f"{spent * 1000:.0f} ms after {what}, in {self.sampler.most()}")
        for dialog in [w for w in QApplication.topLevelWidgets() if isinstance(w, QDialog) and w.isVisible()]:
            if self.random.random() < 0.15:
                dialog.reject()


def harmless_dialogs(monkey: Monkey) -> None:
    """Dialogs that would wait for a hand answer by themselves, at random."""

    def path(*_: object, **__: object) -> tuple[str, str]:
        names = (
            "",
            str(monkey.folder / "out.csv"),
            str(monkey.folder / "nowhere" / "x.wav"),
            str(monkey.folder / "letter.txt"),
            str(monkey.folder / "curve.txt"),
        )
        return monkey.random.choice(names), "Curves, CSV (*.csv)"

    QFileDialog.getSaveFileName = staticmethod(path)
    QFileDialog.getOpenFileName = staticmethod(path)
    QFileDialog.getOpenFileNames = staticmethod(lambda *_, **__: ([p for p in (path()[0],) if p], ""))
    QFileDialog.getExistingDirectory = staticmethod(
        lambda *_, **__: monkey.random.choice(("", str(monkey.folder / "unpacked")))
    )
    QInputDialog.getItem = staticmethod(lambda *a, **_: (monkey.random.choice(a[3]), monkey.random.random() < 0.7))
    QInputDialog.getText = staticmethod(lambda *_, **__: (monkey.random.choice(TEXTS), monkey.random.random() < 0.7))
    QInputDialog.getInt = staticmethod(lambda *_, **__: (1, monkey.random.random() < 0.5))

    def execute(dialog: QDialog) -> int:
        dialog.show()
        for _ in range(4):
            monkey.step()
        accepting = [
            b
            for box in dialog.findChildren(QDialogButtonBox)
            for b in box.buttons()
            if box.buttonRole(b) is QDialogButtonBox.ButtonRole.AcceptRole and b.isEnabled()
        ]
        if not dialog.isHidden() and accepting and monkey.random.random() < 0.5:
            QTest.mouseClick(accepting[0], Qt.MouseButton.LeftButton)
        if not dialog.isHidden():
            dialog.reject()
        return dialog.result()

    QDialog.exec = execute
    QMenu.exec = lambda menu, *_: menu.popup(QPoint(10, 10))


def trial(seed: int, actions: int, minutes: float, longest_gap: float) -> tuple[int, list[str]]:
    """Actions done, and everything that was wrong."""
    folder = Path(tempfile.mkdtemp(prefix="epidote-monkey-study-"))
    (folder / "letter.txt").write_text("Dear all")
    (folder / "curve.txt").write_text("20 -1\n1000 0\n20000 -3\n")
    (folder / "unpacked").mkdir()
    app = application()
    faults().install()
    window = MainWindow()
    window.show()
    window.session.open_path(make_small_study(folder / "Small.epidote"))
    monkey = Monkey(window, folder, seed, longest_gap)
    harmless_dialogs(monkey)
    until = time.monotonic() + 20
    while time.monotonic() < until and not window.matrix.built:
        app.processEvents()
    ends = time.monotonic() + 60 * minutes
    faults().latest.clear()
    while monkey.done < actions and time.monotonic() < ends:
        monkey.step()
        if monkey.random.random() < 0.1:
            QTest.qWait(20)
    monkey.sampler.end()
    for widget in QApplication.topLevelWidgets():
        if isinstance(widget, QDialog):
            widget.reject()
    window.close()
    app.processEvents()
    wrong = [fault.details for fault in faults().latest] + monkey.gaps
    shutil.rmtree(folder, ignore_errors=True)
    return monkey.done, wrong


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--actions", type=int, default=1_000_000)
    parser.add_argument("--longest-gap", type=float, default=LONGEST_GAP)
    given = parser.parse_args()
    faulthandler.enable()
    done, wrong = trial(given.seed, given.actions, given.minutes, given.longest_gap)
    for words in dict.fromkeys(wrong):
        print(words)
    print(f"monkey: seed {given.seed}, {done} actions, {len(wrong)} faults")
    shutil.rmtree(HOME, ignore_errors=True)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
