"""The menu bar, the context menus, the search for commands and the guide."""

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QMenu

from epidote.desktop.shell.command_search import CommandSearch, matches
from epidote.desktop.shell.help_window import HelpWindow
from epidote.desktop.shell.menus import CELL_MENU, COLUMN_MENU, ROW_MENU
from tests.desktop.driver import do, wait_for


def opened(window, name: str) -> QMenu:
    """A menu as it is once it was opened."""
    menu = window.menus.menus[name]
    menu.aboutToShow.emit()
    return menu


def test_the_menus_are_those_of_the_desktop_conventions(window):
    """File first, Help last, as the freedesktop and Qt conventions have it (common practice, no source)."""
    titles = [action.text().replace("&", "") for action in window.menuBar().actions()]
    assert titles == ["File", "Edit", "View", "Matrix", "Measure", "Graph", "Help"]
    assert [a.text() for a in window.menus.menus["File"].actions()][-1] == "&Quit"


def test_what_cannot_be_done_is_greyed_with_a_reason(window, rows, columns):
    window.matrix.selection.select([rows["low"]], columns["response"])
    opened(window, "Measure")
    actions = window.actions_by_name
    assert actions["measure"].isEnabled()
    assert not actions["recompute"].isEnabled()
    assert actions["recompute"].statusTip() == "Select a measured cell first."
    window.matrix.selection.select([rows["high"]], columns["response"])
    opened(window, "Measure")
    assert actions["recompute"].isEnabled()
    assert not actions["repeat"].isEnabled()
    assert "This row is the reference" in actions["repeat"].statusTip()


def test_the_key_of_a_greyed_command_says_the_reason(window, rows, columns):
    window.matrix.selection.select([rows["low"]], columns["response"])
    menu = opened(window, "Measure")
    menu.aboutToHide.emit()
    window.actions_by_name["recompute"].trigger()
    assert window.message.text() == "Select a measured cell first."


def test_a_status_tip_is_shown_in_the_strip(window, qtbot):
    from PySide6.QtGui import QStatusTipEvent

    wait_for(qtbot, lambda: window.strip.items["load"].text() != "")
    QApplication.sendEvent(window, QStatusTipEvent("Select a row first."))
    assert window.strip.tip.isVisible() and window.strip.tip.text() == "Select a row first."
    assert not window.strip.items["load"].isVisible()
    QApplication.sendEvent(window, QStatusTipEvent(""))
    assert window.strip.items["load"].isVisible()


@pytest.mark.parametrize(
    ("place", "names"),
    [("cell", CELL_MENU), ("row", ROW_MENU), ("column", COLUMN_MENU)],
)
def test_context_menus_have_the_commands_of_their_place(window, rows, columns, qtbot, place, names):
    table, model = window.matrix.table, window.matrix.model
    wanted = []
    table.menu_wanted.connect(lambda at, where: wanted.append(at))
    cell = model.index_of(rows["a25"], columns["tone"])
    if place == "cell":
        table.offer_menu(cell, QPoint(0, 0))
    elif place == "row":
        table.offer_menu(model.index(cell.row(), 0), QPoint(0, 0))
    else:
        table._head_menu(table.horizontalHeader(), QPoint(table.columnViewportPosition(cell.column()) + 5, 5))
    assert wanted == [place]
    assert window.matrix.selection.current_column().id == columns["tone" if place != "row" else "response"]
    menu = next(w for w in QApplication.topLevelWidgets() if isinstance(w, QMenu) and w.isVisible())
    shown = [a for a in menu.actions() if not a.isSeparator()]
    assert shown == [window.actions_by_name[name] for name in names if name]
    menu.close()


def test_deleting_offers_to_undo(window, rows, qtbot, columns):
    window.matrix.selection.select([rows["low"]], columns["response"])
    do(window, "delete row")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 3)
    assert window.message.text() == "Ostrel P40, gain low deleted."
    assert window.message.button.text() == "Undo"
    window.message.button.click()
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 4)


def test_any_command_is_found_by_a_part_of_its_words(window, qtbot):
    by_name = {c.name: c for c in window.commands}
    assert matches(by_name["add row"], "add r") and matches(by_name["add row"], "row matr")
    assert not matches(by_name["add row"], "dd")
    do(window, "find command")
    search = window.findChild(CommandSearch)
    search.line.setText("chain page")
    assert [c.name for c in search.found] == ["page Chain"]
    assert search.reason.text() == "Enter runs the command."
    qtbot.keyClick(search.line, Qt.Key.Key_Return)
    assert window.page_in_view() == "Chain"


def test_the_search_says_why_a_command_cannot_be_carried_out(window, rows, columns):
    window.matrix.selection.select([rows["low"]], columns["response"])
    do(window, "find command")
    search = window.findChild(CommandSearch)
    search.line.setText("recompute")
    assert search.reason.text() == "Select a measured cell first."
    search.carry_out()
    assert search.isVisible()
    search.line.setText("no such words")
    assert search.reason.text() == "No command matches."
    search.reject()


def test_every_command_can_be_found(window):
    for command in window.commands:
        assert matches(command, command.title.lower().replace("…", "")), command.name


def test_help_opens_at_the_place(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["high"]], columns["response"])
    for widget, title in (
        (window.matrix.table, "Matrix"),
        (window.matrix.graph_panel.graph, "Graph"),
        (window.matrix.readings.table, "Readings"),
    ):
        widget.setFocus()
        wait_for(qtbot, lambda w=widget: QApplication.focusWidget() is w)
        window.show_help()
        guide = window.findChild(HelpWindow)
        assert guide.list.currentItem().text() == title
        guide.close()
        window.activateWindow()


def test_the_guide_has_every_reading_and_caution_in_the_words_of_the_tooltips(window):
    from epidote.core.procedures.registry import procedures
    from epidote.core.results.caution import Caution

    window.show_help("figures")
    guide = window.findChild(HelpWindow)
    text = guide.text.toPlainText()
    for proc in procedures().values():
        assert proc.about.question in text
        for kind in proc.readings:
            assert kind.meaning in text, kind.key
    guide.show_page("cautions")
    text = guide.text.toPlainText()
    for caution in Caution:
        assert caution.words in text, caution
    guide.show_page("shortcuts")
    assert "Ctrl+Shift+C" in guide.text.toPlainText() and "Add column…" in guide.text.toPlainText()
    guide.show_page("about")
    assert "Version" in guide.text.toPlainText()
    guide.close()


def test_the_guide_is_searched_and_its_links_lead_on(window):
    from PySide6.QtCore import QUrl

    window.show_help("start")
    guide = window.findChild(HelpWindow)
    guide.search.setText("ground loop")
    titles = [guide.list.item(n).text() for n in range(guide.list.count())]
    assert titles == ["Tasks", "Find noise and hum"]
    guide.search.clear()
    guide._follow(QUrl("help:latency"))
    assert guide.list.currentItem().text() == "Latency at every buffer size"
    for page in guide.pages.values():  # each link of each page leads somewhere
        for link in page.text().split("](help:")[1:]:
            assert link.partition(")")[0] in guide.pages, page.key
    guide.close()


def test_the_guide_names_commands_that_exist(window):
    """What stands between ** and ends in a key is a command with that key."""
    import re

    from epidote.desktop.help.pages import help_pages

    keys = {c.shortcut: c.title for c in window.commands if c.shortcut}
    for page in help_pages([]).values():
        for words, key in re.findall(r"\*\*([^*]+)\*\* \(((?:Ctrl|Shift|Alt|F\d)[^)]*)\)", page.text()):
            command = keys[key].removesuffix("…").lower()
            assert words.partition(" > ")[2].lower() in command or words.lower() in command, (page.key, words, key)
