"""What is not there yet says “Loading…”, and nothing false: the study's thread is held up, and each place is read."""

import threading

import pytest

from epidote.desktop.pages.matrix.graph.view_state import NOTHING_MEASURED, NOTHING_SELECTED
from epidote.desktop.shell.page_list import PAGES
from epidote.desktop.widgets.wording import LOADING
from epidote.desktop.windows.latency_window import LatencyWindow
from tests.desktop.driver import wait_for


@pytest.fixture
def held(window, qtbot):
    """Hold up the study's thread; call what is given to let it go on."""
    go_on, reached = threading.Event(), threading.Event()

    def wait() -> None:
        reached.set()
        go_on.wait(60)

    window.session.aside(wait, lambda _: None, lambda _: None)
    wait_for(qtbot, reached.is_set)
    yield go_on.set
    go_on.set()


def test_the_graph_and_the_readings(window, rows, columns, held, qtbot):
    page = window.matrix
    page.selection.select([rows["high"], rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: page.graph_panel.graph.instead == LOADING)
    assert page.readings.likeness.text() == LOADING and page.readings.table.row_count() == 0
    held()
    wait_for(qtbot, lambda: page.graph_panel.graph.instead == "")
    wait_for(qtbot, lambda: page.readings.table.row_count() > 0)
    page.selection.select([rows["low"]], columns["tone"])
    wait_for(qtbot, lambda: page.graph_panel.graph.instead == NOTHING_SELECTED)
    assert page.graph_panel.empty.isVisible()


def test_a_column_in_which_nothing_was_measured(window, rows, qtbot):
    from epidote.core.procedures.registry import procedure
    from epidote.desktop.state import edits

    edits.add_column(window.session, "noise", procedure("noise").Settings().model_dump(mode="json"))
    wait_for(qtbot, lambda: len(window.session.overview.columns) == 3)
    window.matrix.selection.select([rows["high"]], window.session.overview.columns[2].id)
    wait_for(qtbot, lambda: window.matrix.graph_panel.graph.instead == NOTHING_MEASURED)


def test_the_form_of_a_run(window, rows, columns, held, qtbot):
    page = window.matrix
    page.selection.select([rows["low"]], columns["tone"])
    assert page.side.currentWidget() is page.run_panel
    assert page.run_panel.note.text() == LOADING and not page.run_panel.go.isEnabled()
    held()
    wait_for(qtbot, lambda: page.run_panel.form is not None)
    assert page.run_panel.note.text() != LOADING


def test_the_latency_table(window, held, qtbot):
    table = LatencyWindow(window.session, window.theme)
    qtbot.addWidget(table)
    table.wanted.setText("5 ms")
    assert table.equals.text() == LOADING
    held()
    wait_for(qtbot, lambda: table.equals.text().startswith("No measured latency matches"))


def test_recent_studies(window, held, qtbot):
    window.start._none.setText(LOADING)
    window.show_start()
    assert window.start._none.text() == LOADING
    held()
    wait_for(qtbot, lambda: window.start._none.text() != LOADING)


def test_listening_tests_and_last_units(window, held, qtbot):
    window.show_page("Listen")
    page = window.page_named("Listen")
    page.show_part("tests")
    assert page.tests.none.text() == LOADING
    held()
    wait_for(qtbot, lambda: page.tests.none.text().startswith("No listening tests"))


def test_no_page_calls_it_otherwise():
    """One word for it: what ends in … on the screen is a command, a number that runs, or this word."""
    from tests.test_wording import screen_texts

    assert len(PAGES) > 3
    waiting = [text for _, text in screen_texts() if text.endswith("…")]
    assert waiting and not [text for text in waiting if text.startswith(("Computing", "Reading", "Checking"))]
