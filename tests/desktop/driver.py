"""What a user does at the window, for tests: start a command, wait for what follows, export."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from pytestqt.exceptions import TimeoutError as WaitedInVain

LONGEST_WAIT = 60_000  # ms until what is waited for is taken to never come; a loaded machine is slow


def wait_for(qtbot, condition) -> None:
    """Wait until a condition holds, never for a time. What it looks at may still be to come, such as a figure."""

    def holds() -> bool:
        try:
            return bool(condition())
        except AttributeError:  # of None
            return False

    try:
        qtbot.waitUntil(holds, timeout=LONGEST_WAIT)
    except WaitedInVain:
        condition()  # says what was missing to the end
        raise


def do(window, name: str) -> None:
    """Trigger a command as its menu entry or shortcut would."""
    action = window.actions_by_name[name]
    assert action.isEnabled(), name
    action.trigger()


def press(button) -> None:
    """Click a button with the mouse, as the hand does; what the click sends along arrives as well."""
    assert button.isEnabled(), button.text()
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)


def export(qtbot, page, path) -> None:
    """Export what is selected, and wait until the study's thread has written it."""
    with qtbot.waitSignal(page.session.said, timeout=LONGEST_WAIT):
        page.exchange.export(path)


def row_of(table, title: str) -> list[str]:
    """The cells beside a title in a table to read; none where there is no such row."""
    return next((row[1:] for row in table.cells.texts()[1:] if row[0] == title), [])
