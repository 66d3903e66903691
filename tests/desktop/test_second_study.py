"""One study opened after another: what is shown belongs to the open one, on every page and in every file written.

The second study has the same numbers of rows, columns and runs as the first, but other units and levels. What the
window shows is compared with what the command line prints of the same study.
"""

import json
import shutil

import numpy as np
import pytest
from PySide6.QtWidgets import QDialog

from epidote.cli.app import run_command
from tests.conftest import measured
from tests.desktop.driver import export, press, wait_for


@pytest.fixture(scope="session")
def other_study(tmp_path_factory):
    """As many rows, columns and runs as ``measured_study`` has, of other units."""
    from epidote.core.chain.chain import Chain
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.core.settings import make_settings
    from epidote.measurement.request import add_column
    from epidote.study.store import create_study

    path = tmp_path_factory.mktemp("other") / "Other.epidote"
    study = create_study(path, "Other")
    study.set_setting("chain", chain_to_toml(Chain(name="Second bench", rate=48000)))
    first, second = study.add_unit("Ostrel", "H20"), study.add_unit("Plain", "Wire")
    study.add_subject(first, {"gain": "low"}, "standin:havelmar-a25")
    study.add_subject(first, {"gain": "high"}, "standin:wire")
    study.add_subject(second, {}, "standin:wire")
    for key, settings in (("response", {"duration": 0.6, "level": -12}), ("tone", {"duration": 0.2, "level": -12})):
        add_column(study, key, make_settings(procedure(key).Settings, settings))
    for row in (1, 3):
        for column in (0, 1):
            measured(study, row, column, seed=9)
    study.close()
    return path


@pytest.fixture
def other(other_study, tmp_path):
    return shutil.copytree(other_study, tmp_path / "Other.epidote")


def open_study(window, qtbot, path) -> None:
    window.session.open_path(path)
    wait_for(qtbot, lambda: window.session.study is not None and window.session.study.path == path)
    select(window, qtbot, "response")


def rows_of(window, procedure: str) -> tuple[int, list[int]]:
    overview = window.session.overview
    column = next(c for c in overview.columns if c.procedure == procedure)
    return column.id, [s.id for s in overview.subjects if not s.is_baseline and (s.id, column.id) in overview.runs]


def select(window, qtbot, procedure: str) -> None:
    """Select every measured unit of a column, and wait until it is drawn."""
    column, rows = rows_of(window, procedure)
    page = window.matrix
    page.selection.select(rows, column)

    def is_drawn() -> bool:
        return page.built and page.selection.curves_ready() and bool(figure(window) and figure(window).traces)

    wait_for(qtbot, is_drawn)


def figure(window):
    return window.matrix.graph_panel.graph.figure()


def exported(qtbot, window, path):
    export(qtbot, window.matrix, path)
    return path.read_bytes()


@pytest.mark.parametrize("procedure", ["response", "tone"])
def test_graph_readings_and_exports_are_those_of_the_open_study(window, qtbot, path, other, tmp_path, procedure):
    """A, B, A: what is drawn, read and exported is that which the command line writes of the very study."""
    seen = []
    for number, opened in enumerate((path, other, path)):
        open_study(window, qtbot, opened)
        select(window, qtbot, procedure)
        _, rows = rows_of(window, procedure)
        numbers = [run.id for _, run in window.matrix.selection.selected_runs()]
        by_window = json.loads(exported(qtbot, window, tmp_path / f"window {number}.json"))
        by_command = tmp_path / f"command {number}.json"
        chosen = [word for run in numbers for word in ("--run", str(run))]
        assert run_command(["study", "export", str(opened), str(by_command), *chosen]) == 0
        assert by_window == json.loads(by_command.read_text())
        curves = {
            curve["channel"]: np.array(curve["y"])
            for run in by_window["runs"]
            for curve in run["curves"]
            if run["name"] == by_window["runs"][0]["name"] and curve["key"] == window.matrix.look.key
        }
        first = figure(window).traces[0]
        assert np.array_equal(first.y, curves[first.channel]), "the graph draws what the study holds"
        assert len(figure(window).traces) == len(rows)
        picture = exported(qtbot, window, tmp_path / f"{number}.png")
        seen.append((by_window, window.matrix.readings.table.model().texts(), picture))
    first, second, again = seen
    assert first[:2] == again[:2] and first[2] == again[2]
    assert first[0] != second[0] and first[1] != second[1] and first[2] != second[2]


def test_what_was_looked_at_in_one_study_is_not_asked_of_the_next(window, qtbot, path, other):
    """View, axis, channel, band, filter, a compared row, an offered run form: each belonged to the first study."""
    page = window.matrix
    open_study(window, qtbot, path)
    page.look.show_view("phase")
    page.look.set_band((100.0, 1000.0))
    page.look.toggle_channel(2)
    page.pane.tools.words.setText("P40")
    page.beside.comparing._compare_row(rows_of(window, "response")[1][0])
    page.offer_measure()
    open_study(window, qtbot, other)
    assert (page.look.key, page.look.band, page.look.channels) == ("level", None, {1})
    assert page.pane.tools.words.text() == "" and page.model.rowCount() == 4
    assert page.side.currentWidget() is page.readings


def test_windows_of_the_study_that_was_left_are_closed(window, qtbot, path, other):
    open_study(window, qtbot, path)
    window.rows.show_latencies()
    window.show_help("matrix")
    open_study(window, qtbot, other)
    wait_for(qtbot, lambda: [d.windowTitle() for d in window.findChildren(QDialog) if d.isVisible()] == ["Guide"])


def test_a_note_that_is_being_written_is_saved_to_its_own_study(window, qtbot, path, other):
    open_study(window, qtbot, path)
    window.matrix.beside.show("notes")
    panel = window.matrix.beside.noting.panel
    panel.text.setFocus()
    panel.text.setPlainText("Written as the next study was opened.")
    open_study(window, qtbot, other)
    assert window.session.overview.of_kind("note") == ()
    open_study(window, qtbot, path)
    wait_for(qtbot, lambda: len(window.session.overview.of_kind("note")) == 1)
    assert window.session.overview.of_kind("note")[0].data["text"] == "Written as the next study was opened."


def test_live_view_and_snapshots_end_with_their_study(window, qtbot, path, other):
    open_study(window, qtbot, path)
    window.show_page("Watch")
    page = window.page_named("Watch")
    wait_for(qtbot, lambda: page.row.count() == 3)
    press(page.listen)
    wait_for(qtbot, lambda: page.frame is not None and page.frame.filled)
    press(page.generator.switch)
    press(page.states.hold)
    open_study(window, qtbot, other)
    assert not page.generator.on and not window.session.live.on
    assert page.states.states == {} and page.frame is None
    window.show_page("Watch")
    wait_for(qtbot, lambda: page.row.itemText(0).startswith("Ostrel H20"))
    window.session.live.wait()


def test_a_run_under_way_is_shown_in_no_cell_of_the_next_study(window, qtbot, path, other, rows, columns):
    open_study(window, qtbot, path)
    from epidote.desktop.state.run_queue import RunRequest

    cell = (rows["low"], columns["response"])
    settings = {**window.session.overview.columns[0].settings, "duration": 20.0}
    window.session.runs.measure([RunRequest(cell, settings)])
    wait_for(qtbot, lambda: cell in window.session.runs.under_way)
    open_study(window, qtbot, other)
    assert window.session.runs.under_way == {}
    window.session.runs.after(lambda: None)
    done = []
    window.session.runs.after(lambda: done.append(True))
    wait_for(qtbot, lambda: bool(done))
    assert cell not in window.session.overview.runs


def test_an_answer_about_a_study_that_was_closed_is_dropped(window, qtbot, path, other):
    open_study(window, qtbot, path)
    answers, asked = [], []
    window.session.open_path(other)  # is opened after what is asked below was asked
    window.session.ask(lambda study: study.path, asked.append)
    window.session.compute(lambda: "late", answers.append, answers.append)
    wait_for(qtbot, lambda: window.session.study.path == other)
    done = []
    window.session.compute(lambda: None, done.append, done.append)
    wait_for(qtbot, lambda: bool(done))
    assert asked == [] and answers in ([], ["late"]), "late only where it came before the other was open"
    reached = []
    window.session.ask(lambda study: study.path, reached.append)
    wait_for(qtbot, lambda: bool(reached))
    assert reached == [other]
