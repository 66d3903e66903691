"""A name from somebody else is shown as it is: no markup is read, no control character acted on, wherever the window
shows it.
"""

import ast
import re
import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel

from tests.desktop.driver import wait_for

SOURCE = Path(__file__).resolve().parents[2] / "src" / "epidote" / "desktop"
EVIL = '<img src="/dev/zero"><b>bold</b>'


def test_the_window_makes_no_label_that_reads_markup():
    """By construction: one class of labels, which shows text as it is."""
    for path in SOURCE.rglob("*.py"):
        if path.name != "plain.py":
            assert not re.search(r"\bQLabel\s*\(", path.read_text()), path


def test_a_study_full_of_markup_is_shown(qtbot, path):
    """Every name of the study is an image that never ends; the window opens, shows the names and draws the graph."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    with closing(sqlite3.connect(path / "study.sqlite")) as c:
        names = {"e": EVIL}
        c.execute("UPDATE unit SET maker = :e, model = :e, notes = :e", names)
        c.execute("UPDATE column_ SET title = :e, summary = :e", names)
        c.execute("UPDATE subject SET conditions = json_object(:e, id) WHERE unit_id IS NOT NULL", names)
        c.execute("INSERT INTO setting VALUES ('title', :e) ON CONFLICT (name) DO UPDATE SET value = :e", names)
        c.execute("UPDATE run SET device = :e", names)
        c.commit()
    application()
    window = MainWindow()
    qtbot.addWidget(window)
    window.show()
    window.session.open_path(path)
    wait_for(qtbot, lambda: window.matrix.built and window.matrix.graph_panel.graph.figure() is not None)
    assert window.page_bar.title.text() == EVIL
    for panel in ("difference", "conditions", "claims", "notes", "readings"):
        window.matrix.beside.show(panel)
        QApplication.processEvents()
        assert not window.grab().isNull()
    window.show_page("Watch")
    wait_for(qtbot, lambda: window.page_named("Watch").row.count() > 0)
    assert EVIL in window.page_named("Watch").row.itemText(1)
    window.close()


def test_every_label_shows_plain_text(window, qtbot):
    for page in ("Chain", "Watch", "Matrix"):
        window.show_page(page)
    wait_for(qtbot, lambda: window.page_named("Chain").form is not None)
    found = [label for label in window.findChildren(QLabel) if label.text()]
    ours = [label for label in found if type(label) is not QLabel]
    assert len(ours) > 20
    assert all(label.textFormat() == Qt.TextFormat.PlainText for label in ours)
    # what is left are the heads of forms, which Qt makes of our own words
    assert all("<" not in label.text() for label in found if label not in ours)


def test_every_tooltip_that_is_made_of_names_is_escaped():
    """By construction: what is set as a tooltip is a constant of ours, or goes through plain_tip."""
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if (
                isinstance(node, ast.Call)
                and isinstance(node.func, ast.Attribute)
                and node.func.attr in ("setToolTip", "showText")
            ):
                told = node.args[1] if node.func.attr == "showText" else node.args[0]
                plain = isinstance(told, ast.Call) and getattr(told.func, "id", "") == "plain_tip"
                assert plain or isinstance(told, ast.Constant), f"{path}:{node.lineno}"


def test_tooltips_of_the_matrix_are_escaped(window, rows, columns):
    model = window.matrix.model
    edited = replace(window.session.overview.subjects[1], conditions={EVIL: "1"})
    overview = window.session.overview
    window.session.overview = replace(overview, subjects=(overview.subjects[0], edited, *overview.subjects[2:]))
    window.session.overview_changed.emit()
    tip = model.data(model.index_of(rows["high"], None), Qt.ItemDataRole.ToolTipRole)
    assert "&lt;img src=" in tip and "<img" not in tip


def test_a_message_and_a_question_show_names_as_text(window, qtbot):
    from epidote.desktop.widgets.question import ask_whether

    window.say(EVIL)
    assert window.message.words.textFormat() == Qt.TextFormat.PlainText
    box = ask_whether(window, "Title", EVIL, "Go", lambda go: None)
    assert box.textFormat() == Qt.TextFormat.PlainText
    box.close()


def test_a_menu_entry_keeps_an_ampersand():
    from epidote.desktop.widgets.plain import button_text, plain_tip

    assert button_text("Rack & Pinion") == "Rack && Pinion"
    assert plain_tip("a < b, c > d") == "a < b, c > d"
    assert plain_tip("<i>x</i>\n&") == "<qt>&lt;i&gt;x&lt;/i&gt;<br>&amp;</qt>"
