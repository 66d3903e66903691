"""Rows and columns where they belong: added, moved, renamed, filtered, sorted, folded; widths; earlier runs."""

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu

from epidote.desktop.pages.matrix.matrix_table.row_order import BY_DATE, BY_UNIT, RowOrder
from epidote.desktop.widgets.dialogs import RowDialog, parse_condition_sets
from tests.desktop.driver import do, wait_for


def traces_shown(window) -> int:
    """How many curves the graph draws; none while they are loaded."""
    figure = window.matrix.graph_panel.graph.figure()
    return 0 if figure is None else len(figure.traces)


def names(window) -> list[str]:
    """The rows as the matrix shows them."""
    model = window.matrix.model
    return [model.subject(row).full_name for row in range(model.rowCount())]


def filled(menu: QMenu) -> list[str]:
    menu.aboutToShow.emit()
    return [action.text() for action in menu.actions() if not action.isSeparator()]


# -- the buttons in a row's head -----------------------------------------------------------------------


def test_a_row_is_hidden_and_made_the_reference_in_its_head(window, rows, columns, qtbot):
    page = window.matrix
    heads, tools = page.table.heads, page.pane.head_tools
    page.selection.select([rows["high"]], columns["tone"])
    low = page.model.index_of(rows["low"], None).row()
    window.setFocus()
    wait_for(qtbot, lambda: not page.table.hasFocus() and not tools.isVisible())
    QTest.mouseMove(heads.viewport(), heads.head_rect(low).center())
    wait_for(qtbot, lambda: tools.isVisible() and tools.row == low)
    assert heads.head_rect(low).contains(tools.geometry())
    assert tools.shown.isChecked() and not tools.reference.isChecked()

    tools.shown.click()
    wait_for(qtbot, lambda: not page.model.subject(low).shown)
    assert page.selection.current_subject().id == rows["low"]
    wait_for(qtbot, lambda: not tools.shown.isChecked())
    tools.reference.click()
    wait_for(qtbot, lambda: window.session.overview.reference == rows["low"])
    wait_for(qtbot, tools.reference.isChecked)

    opened = []
    page.menu_wanted.connect(lambda place, where: opened.append(place))
    window.matrix.menu_wanted.disconnect(window._show_context_menu)  # a menu would wait for a choice
    tools.more.click()
    assert opened == ["row"]
    QApplication.sendEvent(heads.viewport(), QEvent(QEvent.Type.Leave))
    wait_for(qtbot, lambda: not tools.isVisible())


def test_the_current_row_has_its_buttons_while_the_matrix_has_the_focus(window, rows, columns, qtbot):
    page = window.matrix
    page.selection.select([rows["a25"]], columns["tone"])
    page.table.setFocus()
    tools = page.pane.head_tools
    wait_for(qtbot, lambda: tools.isVisible() and tools.row == page.table.currentIndex().row())
    QTest.keyClick(page.table, Qt.Key.Key_Up)
    wait_for(qtbot, lambda: tools.row == page.table.currentIndex().row())


# -- adding ------------------------------------------------------------------------------------------


def test_conditions_with_several_values_make_several_rows():
    sets = parse_condition_sets("buffer = 32 | 64; load = 8 Ω | 4 Ω")
    assert sets == [
        {"buffer": "32", "load": "8 Ω"},
        {"buffer": "32", "load": "4 Ω"},
        {"buffer": "64", "load": "8 Ω"},
        {"buffer": "64", "load": "4 Ω"},
    ]
    assert parse_condition_sets("") == [{}]
    assert parse_condition_sets("a = 1 | 1") == [{"a": "1"}]
    with pytest.raises(ValueError, match="empty value"):
        parse_condition_sets("a = 1 |")


def test_several_rows_at_once_are_one_step_of_undo(window, rows, columns, qtbot, monkeypatch):
    def fill(dialog) -> int:
        dialog.conditions.setText("gain = low | mid | high")
        assert "must differ" in dialog.problem.text()  # "high" is there already
        dialog.conditions.setText("gain = mid | off")
        assert dialog.rows_words.text() == "2 rows: gain mid; gain off"
        return 1

    monkeypatch.setattr(RowDialog, "exec", fill)
    window.matrix.selection.select([rows["high"]], columns["tone"])
    do(window, "duplicate")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 6)
    assert names(window)[1:4] == ["Ostrel P40, gain high", "Ostrel P40, gain mid", "Ostrel P40, gain off"]
    do(window, "undo")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 4)
    do(window, "redo")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 6)


def test_rows_that_exist_are_not_added_twice(window, rows, qtbot):
    from epidote.desktop.state import edits

    unit = window.session.overview.subjects[1].unit
    said = []
    window.session.failed.connect(said.append)
    edits.add_rows(window.session, unit, [{"gain": "mid"}, {"gain": "low"}], "", None)
    wait_for(qtbot, lambda: bool(said))
    assert "already exists" in said[0]
    window.session.refresh()
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 4)


def test_several_selected_rows_are_deleted_together(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["high"], rows["a25"]], columns["response"])
    do(window, "delete row")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 2)
    assert window.message.text() == "2 rows deleted."
    do(window, "undo")
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 4)


# -- moving and renaming -----------------------------------------------------------------------------


def test_rows_are_moved_by_keys_and_by_dragging(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["a25"]], columns["tone"])
    do(window, "row up")
    wait_for(
        qtbot, lambda: names(window)[1:] == ["Ostrel P40, gain high", "Havelmar A25, load 8 Ω", "Ostrel P40, gain low"]
    )
    assert window.matrix.selection.current_subject().id == rows["a25"]
    do(window, "row down")
    wait_for(qtbot, lambda: names(window)[-1] == "Havelmar A25, load 8 Ω")
    heads = window.matrix.table.heads
    from_row, to_row = (heads.rowViewportPosition(r) + 10 for r in (3, 1))
    viewport = heads.viewport()
    qtbot.mousePress(viewport, Qt.MouseButton.LeftButton, pos=QPoint(60, from_row))
    qtbot.mouseMove(viewport, QPoint(60, from_row - 20))
    qtbot.mouseMove(viewport, QPoint(60, to_row - 5))
    qtbot.mouseRelease(viewport, Qt.MouseButton.LeftButton, pos=QPoint(60, to_row - 5))
    wait_for(qtbot, lambda: names(window)[1] == "Havelmar A25, load 8 Ω")
    do(window, "undo")
    wait_for(qtbot, lambda: names(window)[-1] == "Havelmar A25, load 8 Ω")


def test_the_baseline_stays_first(window, rows, columns, qtbot):
    window.matrix.pane.move_row(0, 3)
    window.matrix.pane.move_row(2, 0)  # to the top: below the baseline
    wait_for(qtbot, lambda: names(window)[:2] == ["Baseline", "Ostrel P40, gain low"])


def test_columns_are_moved(window, rows, columns, qtbot):
    titles = lambda: [c.title for c in window.session.overview.columns]  # noqa: E731
    assert titles() == ["Response", "Single tone"]
    window.matrix.table.horizontalHeader().moveSection(1, 2)
    wait_for(qtbot, lambda: titles() == ["Single tone", "Response"])
    header = window.matrix.table.horizontalHeader()
    assert [header.visualIndex(n) for n in range(3)] == [0, 1, 2]
    window.matrix.selection.select([rows["high"]], columns["response"])
    do(window, "column left")
    wait_for(qtbot, lambda: titles() == ["Response", "Single tone"])


@pytest.mark.parametrize(
    ("typed", "maker", "model"),
    [("Ostrel P41", "Ostrel", "P41"), ("Quillon D1 mk2", "Quillon", "D1 mk2"), ("Solo", "", "Solo")],
)
def test_a_name_is_edited_in_place(window, rows, qtbot, typed, maker, model):
    heads = window.matrix.table.heads
    qtbot.mouseDClick(heads.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(80, heads.rowViewportPosition(1) + 10))
    line = heads.viewport().findChild(QLineEdit)
    assert line.text() == "Ostrel P40"
    line.setText(typed)
    qtbot.keyClick(line, Qt.Key.Key_Return)
    wait_for(qtbot, lambda: window.session.overview.subjects[1].unit.model == model)
    assert window.session.overview.subjects[1].unit.maker == maker
    assert window.session.overview.subjects[2].unit.model == model  # both rows are of this unit


# -- which rows, in which order ------------------------------------------------------------------------


def test_rows_are_filtered_by_words(window, rows):
    pane = window.matrix.pane
    pane.tools.words.setText("ostrel low")
    assert names(window) == ["Baseline", "Ostrel P40, gain low"]
    assert pane.hidden_words.text() == "2 rows hidden by the filter" and pane.hidden_words.isVisible()
    pane.show_all.click()
    assert len(names(window)) == 4 and pane.tools.words.text() == ""
    assert not pane.hidden_words.isVisible()


def test_rows_are_sorted_and_cannot_be_moved_then(window, rows, qtbot):
    pane = window.matrix.pane
    said = []
    pane.failed.connect(said.append)
    pane.show_order(RowOrder(key=BY_UNIT))
    assert names(window)[1].startswith("Havelmar")
    pane.move_row(1, 3)
    assert "Rows are sorted" in said[0]
    pane.show_order(RowOrder(key=BY_DATE))
    assert names(window)[1].startswith("Havelmar")  # measured last
    pane.show_order(RowOrder(key="gain"))
    assert names(window)[1:] == ["Ostrel P40, gain high", "Ostrel P40, gain low", "Havelmar A25, load 8 Ω"]
    assert "Condition gain" in filled(pane.tools.menu) and "Claims not met" in filled(pane.tools.menu)


def test_numbers_in_conditions_are_sorted_by_size(window, qtbot):
    from epidote.desktop.state import edits

    unit = window.session.overview.subjects[3].unit
    edits.add_rows(window.session, unit, [{"buffer": "128"}, {"buffer": "32"}, {"buffer": "64 samples"}], "", None)
    wait_for(qtbot, lambda: len(window.session.overview.subjects) == 7)
    window.matrix.pane.show_order(RowOrder(key="buffer"))
    assert [n.rpartition("buffer ")[2] for n in names(window)[1:4]] == ["32", "64 samples", "128"]


def test_the_rows_of_a_unit_are_folded(window, rows, qtbot):
    heads, model = window.matrix.table.heads, window.matrix.model
    assert model.folds(1) == (False, 1) and model.folds(2) is None and model.folds(3) is None
    qtbot.mouseClick(heads.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(8, heads.rowViewportPosition(1) + 12))
    assert names(window) == ["Baseline", "Ostrel P40, gain high", "Havelmar A25, load 8 Ω"]
    assert model.folds(1) == (True, 1)
    qtbot.mouseClick(heads.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(8, heads.rowViewportPosition(1) + 12))
    assert len(names(window)) == 4


# -- heads, readings and runs --------------------------------------------------------------------------


def test_heads_of_columns_are_whole_and_widths_set_by_hand_are_kept(window, columns, qtbot, path):
    pane = window.matrix.pane
    for section in (1, 2):
        assert pane.header.sectionSize(section) >= pane.header.content_width(section)
    pane.header.resizeSection(1, 222)
    wait_for(qtbot, lambda: "222" in window.session.setting("column widths"))
    window.matrix.pane.fit_columns()
    assert pane.header.sectionSize(1) == 222


def test_another_reading_can_stand_in_the_cells(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["high"]], columns["tone"])
    menu = window.actions_by_name["headline"].menu()
    assert "THD" in filled(menu) and filled(menu)[0] == "Usual reading"
    next(a for a in menu.actions() if a.text() == "Level").trigger()
    index = window.matrix.model.index_of(rows["high"], columns["tone"])
    wait_for(qtbot, lambda: window.matrix.model.data(index).endswith("V"))
    do(window, "undo")
    wait_for(qtbot, lambda: window.matrix.model.data(index).endswith("dB"))


def test_earlier_runs_are_looked_at_beside_the_latest(window, rows, columns, qtbot):
    window.session.runs.checks = False
    window.matrix.selection.select([rows["high"]], columns["tone"])
    first = window.session.overview.runs[rows["high"], columns["tone"]]
    do(window, "again")
    wait_for(qtbot, lambda: window.session.overview.runs[rows["high"], columns["tone"]].id != first.id)
    menu = window.actions_by_name["history"].menu()
    filled(menu)
    wait_for(qtbot, lambda: len(menu.actions()) == 2)
    assert menu.actions()[0].text().endswith("(latest)")
    menu.actions()[1].trigger()
    wait_for(qtbot, lambda: traces_shown(window) == 2)
    names_shown = [t.name for t in window.matrix.graph_panel.graph.figure().traces]
    assert f"{first.made.astimezone():%H:%M:%S}" in names_shown[1]
    window.matrix.selection.select([rows["a25"]], columns["tone"])
    wait_for(qtbot, lambda: traces_shown(window) == 1)
