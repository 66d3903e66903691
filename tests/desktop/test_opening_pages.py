"""A page opens at once: what takes the time is Qt's style sheet, which gives each widget its style anew, and all within
it, whenever it comes to another parent. Pages are built from the outside to the inside, so that few are moved twice.
"""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QApplication, QWidget

from epidote.desktop.shell.page_list import FIRST, PAGES

MOST_CHANGES = 3.5  # of style for each widget; 4.6 to 8.3 where pages were built from the inside to the outside


class _StyleCounter(QObject):
    """Counts the changes of style among all widgets."""

    changes = 0

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802  Qt's name
        self.changes += event.type() is QEvent.Type.StyleChange
        return False


@pytest.mark.parametrize("title", [kind.title for kind in PAGES if kind.title != FIRST])
def test_widgets_of_a_page_get_their_style_few_times(window, title):
    counter = _StyleCounter()
    QApplication.instance().installEventFilter(counter)
    try:
        window.show_page(title)
    finally:
        QApplication.instance().removeEventFilter(counter)
    widgets = window.page_named(title).findChildren(QWidget)
    assert len(widgets) > 50
    assert counter.changes <= MOST_CHANGES * len(widgets)
