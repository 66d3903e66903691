"""What a screen reader is told and what the keyboard reaches on every page: names, roles, visible focus, order."""

from itertools import pairwise

import pytest
from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAccessible, QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QLineEdit,
    QScrollArea,
    QScrollBar,
    QWidget,
)

from tests.desktop.driver import wait_for

PAGES = ("start", "Chain", "Watch", "Matrix", "Matrix, a run to make", "Routine", "Listen")
INTERACTIVE = {
    *(QAccessible.Role.Button, QAccessible.Role.CheckBox, QAccessible.Role.RadioButton, QAccessible.Role.ComboBox),
    *(QAccessible.Role.EditableText, QAccessible.Role.Table, QAccessible.Role.List, QAccessible.Role.ButtonMenu),
}


@pytest.fixture(params=PAGES)
def page(request, window, rows, columns, qtbot):
    """The widget of each page, as shown with a study open."""
    name = request.param
    if name == "start":
        window.show_start()
        return window.start
    title = name.partition(",")[0]
    window.show_page(title)
    wait_for(qtbot, lambda: window.page_named(title) is not None)
    if title == "Chain":
        wait_for(qtbot, lambda: window.page_named("Chain").form is not None)
    if title == "Watch":
        wait_for(qtbot, lambda: window.page_named("Watch").row.count() > 0)
    if name.endswith("make"):
        window.matrix.selection.select([rows["low"]], columns["response"])
        wait_for(qtbot, lambda: window.matrix.run_panel.form is not None)
    return window.page_named(title)


def tree(interface):
    """An accessible object and all that are in it, as a screen reader walks them."""
    yield interface
    for number in range(interface.childCount()):
        child = interface.child(number)
        if child is not None and child.isValid():
            yield from tree(child)


def require_names_and_roles(page):
    """What can be used has a name and a role."""
    nameless = []
    for interface in tree(QAccessible.queryAccessibleInterface(page)):
        shown = not interface.state().invisible and not interface.state().offscreen
        if shown and interface.role() in INTERACTIVE and interface.object() is not None:
            name = interface.text(QAccessible.Text.Name)
            widget = interface.object()
            inside = isinstance(widget.parent(), QComboBox | QScrollArea | QAbstractItemView)
            if not name and not inside and isinstance(widget, QWidget) and widget.isVisible():
                nameless.append(f"{type(widget).__name__} in {type(widget.parent()).__name__}")
    assert nameless == []


def reached(window: QWidget) -> list[QWidget]:
    """The widgets that Tab goes through, from the first and once round."""
    begin = widget = window.focusWidget() or window
    found = []
    while True:
        if widget.isVisible() and widget.isEnabled() and widget.focusPolicy() & Qt.FocusPolicy.TabFocus:
            found.append(widget)
        widget = widget.nextInFocusChain()
        if widget is begin:
            break
    return found


def checked_of_group(button: QAbstractButton) -> QAbstractButton | None:
    """The checked one of buttons of which one is on: Tab leads to it, the arrow keys to the others."""
    group = button.group()
    if group is None or not group.exclusive():
        return None
    return group.checkedButton()


def require_keyboard(page, window):
    """Everything is reached by the keyboard."""
    chain = reached(window)
    proxies = [w for w in chain if w.focusProxy() is not None]
    missing = []
    for widget in page.findChildren(QWidget):
        usable = isinstance(widget, QAbstractButton | QComboBox | QLineEdit) and not isinstance(widget, QScrollBar)
        own_key = type(widget) is QAbstractButton  # the corner of a table, which selects all
        inside = isinstance(widget.parent(), QComboBox | QLineEdit)
        shown = widget.isVisibleTo(window) and widget.isEnabled() and not own_key and not inside
        by_arrow = isinstance(widget, QAbstractButton) and checked_of_group(widget) in chain
        if usable and shown and widget not in chain and widget not in proxies and not by_arrow:
            missing.append(f"{type(widget).__name__} “{widget.accessibleName() or getattr(widget, 'text', str)()}”")
    assert missing == []


def test_arrow_keys_lead_from_tab_to_tab(window, rows, columns, qtbot):
    tabs = window.matrix.beside.tabs
    first, second = tabs.keys()[:2]
    tabs.button(first).setFocus(Qt.FocusReason.TabFocusReason)
    QTest.keyClick(tabs.button(first), Qt.Key.Key_Right)
    assert tabs.on() == (second,)
    wait_for(qtbot, lambda: QApplication.focusWidget() is tabs.button(second))


def require_order_of_reading(page, window):
    """From one control to the next it does not jump up by more than a third of the page, but where a column begins."""
    inside = [w for w in reached(window) if page.isAncestorOf(w)]
    tops = [w.mapTo(page, w.rect().topLeft()).y() for w in inside]
    jumps = sum(1 for a, b in pairwise(tops) if b < a - page.height() / 3)
    assert jumps <= 3, [(type(w).__name__, top) for w, top in zip(inside, tops, strict=True)]


class ShownWindows(QObject):
    """Notes every widget that is shown as a window of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.names: list[str] = []

    def eventFilter(self, widget, event) -> bool:  # noqa: N802  Qt's name
        if event.type() is QEvent.Type.Show and isinstance(widget, QWidget) and widget.isWindow():
            self.names.append(type(widget).__name__)
        return False


@pytest.fixture
def shown_windows(qtbot):
    watcher = ShownWindows()
    QApplication.instance().installEventFilter(watcher)
    yield watcher.names
    QApplication.instance().removeEventFilter(watcher)


def test_each_page_is_named_reached_in_order_and_does_not_flash(shown_windows, page, window):
    # a part that is shown before it has a parent is a window for a moment, and takes the focus with it
    assert shown_windows == ["MainWindow"]
    require_names_and_roles(page)
    require_keyboard(page, window)
    require_order_of_reading(page, window)


def test_the_focus_can_be_seen(window, rows, columns, qtbot):
    """Between a button with the focus and the same without it, pixels differ by the colour of the focus."""
    button = window.matrix.graph_panel.export
    window.matrix.table.setFocus()
    before = button.grab().toImage()
    button.setFocus(Qt.FocusReason.TabFocusReason)
    wait_for(qtbot, lambda: QApplication.focusWidget() is button)
    after = button.grab().toImage()
    changed = [
        after.pixelColor(x, y)
        for x in range(after.width())
        for y in range(after.height())
        if after.pixelColor(x, y) != before.pixelColor(x, y)
    ]
    assert QColor(window.theme.accent) in changed and len(changed) > 2 * (after.width() + after.height()) * 0.8


def test_verdicts_and_marks_are_not_said_by_colour_alone(window, rows, columns, qtbot):
    """A doubtful reading has a sign before it, a weak item of the strip a triangle, a verdict its word."""
    wait_for(qtbot, lambda: window.strip.items["load"].text() != "")
    for item in window.strip.items.values():
        assert item.text().startswith("▲ ") == bool(item.property("weak"))
    window.matrix.selection.select([rows["a25"]], columns["tone"])
    table = window.matrix.readings
    wait_for(qtbot, lambda: table.model.rowCount() > 3)
    for row, one in enumerate(table.shown_table.rows):
        for column, cell in enumerate(one.cells, start=1):
            assert table.model.text(row, column).startswith("! ") == bool(cell.cautions)
