"""No text is cut and nothing lies over anything else.

Every page, panel and dialog at 1024x700, in three sizes of text up to twice the usual one; the themes share their
metrics.
"""

import pytest
from PySide6.QtWidgets import QApplication, QDialog

from epidote.desktop.preferences import preferences
from epidote.desktop.theme import TEXT_SIZES, apply_theme, chosen_theme
from tests.desktop.driver import wait_for
from tests.desktop.fit import clipped, outside, overlapping


@pytest.fixture(params=[("light", "normal"), ("dark", "large"), ("light", "double")], ids="-".join)
def dressed(request, path, qtbot):
    """The main window at 1024x700 in a theme and a size of text, with a study open."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    theme, size = request.param
    preferences().setValue("theme", theme)
    preferences().setValue("text", size)
    app = application()
    apply_theme(app, chosen_theme())
    made = MainWindow()
    qtbot.addWidget(made)
    made.resize(1024, 700)
    made.show()
    made.session.open_path(path)
    wait_for(qtbot, lambda: made.matrix.built and made.matrix.graph_panel.graph.figure() is not None)
    yield made
    made.close()
    preferences().setValue("theme", "dark")
    preferences().setValue("text", "normal")
    apply_theme(app, chosen_theme())


def settle(qtbot) -> None:
    """Let layouts that ask for another round have it."""
    for _ in range(20):
        QApplication.processEvents()


def faults_of(widget) -> list[str]:
    return clipped(widget) + outside(widget) + overlapping(widget)


def test_pages_and_panels(dressed, qtbot):
    window, found = dressed, {}

    def look(name: str) -> None:
        settle(qtbot)
        if faults := faults_of(window):
            found[name] = faults

    overview = window.session.overview
    response = overview.columns[0].id
    for tab in ("readings", "difference", "conditions", "claims", "notes"):
        window.matrix.beside.show(tab)
        look(f"matrix, {tab}")
    window.matrix.beside.show("readings")
    window.matrix.selection.select([overview.subjects[2].id], response)
    wait_for(qtbot, lambda: window.matrix.side.currentWidget() is window.matrix.run_panel)
    wait_for(qtbot, lambda: window.matrix.run_panel.form is not None)
    look("matrix, a run to make")
    window.matrix.toggle_panel_below()
    look("matrix, panel below")
    window.matrix.toggle_panel_below()
    window.matrix.toggle_large_graph()
    look("matrix, large graph")
    window.matrix.toggle_large_graph()
    window.show_page("Chain")
    wait_for(qtbot, lambda: window.page_named("Chain").form is not None)
    look("chain")
    window.show_page("Watch")
    wait_for(qtbot, lambda: window.page_named("Watch").row.count() == 3)
    look("watch")
    window.show_page("Listen")
    listen = window.page_named("Listen")
    for kind in ("forced-choice", "grading", "preference", "free"):
        listen.view.kinds.button(kind).click()
        look(f"listen, {kind}")
    for part in ("differences", "tests"):
        listen.tabs.button(part).click()
        look(f"listen, {part}")
    window.show_page("Routine")
    routine = window.page_named("Routine")
    look("routine")
    routine.tabs.button("statistics").click()
    wait_for(qtbot, lambda: bool(routine.statistics.readings))
    look("routine, statistics")
    window.page_named("Watch").show_aim(True)
    look("watch, aim")
    window.show_guided()
    wait_for(qtbot, lambda: window.guided is not None and window.guided.title.text() != "")
    look("guided")
    window._leave_guided()
    window.show_start()
    wait_for(qtbot, lambda: len(window.start.recent) >= 1)
    look("start")
    assert found == {}


def test_dialogs(dressed, qtbot, monkeypatch):
    from epidote.core.chain.chain import Chain
    from epidote.core.procedures.registry import procedures
    from epidote.desktop.shell.command_search import CommandSearch
    from epidote.desktop.shell.help_window import HelpWindow
    from epidote.desktop.widgets.dialogs import PreferencesDialog, RowDialog
    from epidote.desktop.windows.latency_window import LatencyWindow
    from epidote.desktop.windows.procedure_chooser import ProcedureChooser

    window, found = dressed, {}
    overview = window.session.overview
    made: list[QDialog] = [
        RowDialog(window, tuple(s.unit for s in overview.subjects if s.unit), []),
        RowDialog(window, (overview.subjects[1].unit,), [], overview.subjects[1], duplicate=True),
        PreferencesDialog(window),
        ProcedureChooser(window, procedures(), Chain(), window.theme),
        CommandSearch(window, window.menus),
        HelpWindow(window, []),
        LatencyWindow(window.session, window.theme, window),
    ]
    for number, dialog in enumerate(made):
        dialog.resize(dialog.size().boundedTo(window.size()))
        dialog.show()
        settle(qtbot)
        if faults := faults_of(dialog):
            found[f"{number} {type(dialog).__name__}"] = faults
        dialog.close()
    assert found == {}


def test_the_largest_text_is_twice_the_usual_one():
    assert TEXT_SIZES["double"] == 2 * TEXT_SIZES["normal"]


def test_the_walk_sees_what_is_cut(qtbot):
    """The measure itself: a label without room, a widget outside its parent and one over another are found."""
    from PySide6.QtWidgets import QHBoxLayout, QWidget

    from epidote.desktop.app import application
    from epidote.desktop.widgets.plain import Label

    application()
    root = QWidget()
    qtbot.addWidget(root)
    layout = QHBoxLayout(root)
    one, other = Label("Some words that need room"), Label("Others")
    layout.addWidget(one)
    layout.addWidget(other)
    root.resize(400, 40)
    root.show()
    settle(qtbot)
    assert faults_of(root) == []
    one.setFixedWidth(20)
    other.setGeometry(10, 5, 380, 30)
    assert len(clipped(root)) == 1
    assert overlapping(root)
    other.setGeometry(300, 5, 380, 30)
    assert len(outside(root)) == 1
