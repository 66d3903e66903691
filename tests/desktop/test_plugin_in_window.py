"""The window with a procedure of another package: column, form, graph, readings, difference."""

import pytest

from tests.contracts.test_plugin import KEY, plugin, with_column  # noqa: F401  fixtures
from tests.desktop.driver import row_of, wait_for


@pytest.fixture
def path(with_column):  # noqa: F811  the fixture of that name
    where = with_column.path
    with_column.close()
    return where


def test_column_form_graph_readings_and_difference(path, window, qtbot):
    overview = window.session.overview
    column = next(c for c in overview.columns if c.procedure == KEY)
    page = window.matrix
    rows = [s.id for s in overview.subjects]
    page.selection.select(rows, column.id)
    wait_for(qtbot, lambda: page.graph_panel.graph.figure() is not None and page.look.key == "histogram")
    assert len(page.graph_panel.graph.figure().traces) == 2
    assert row_of(page.readings.table, "Distinct values")[0].isdigit()
    assert row_of(page.readings.table, "Smallest step")[0].endswith("dBFS")
