"""What the window relies on of every page: a new one passes by being in the list."""

import pytest

from epidote.desktop.pages.page import Page
from epidote.desktop.shell.page_list import FIRST, PAGES
from tests.desktop.conftest import measured_study, path, window  # noqa: F401  fixtures


@pytest.mark.parametrize("kind", PAGES, ids=lambda kind: kind.title)
def test_a_page_is_made_shown_dressed_and_muted(kind, window, qtbot):  # noqa: F811
    assert (window.page_named(kind.title) is not None) == (kind.title == FIRST)
    window.show_page(kind.title)
    qtbot.waitUntil(lambda: window.page_named(kind.title) is not None and window.page_named(kind.title).isVisible())
    page = window.page_named(kind.title)
    assert isinstance(page, Page)
    assert window.page_bar.buttons[kind.title].isChecked()
    said = []
    page.failed.connect(said.append)
    page.failed.emit("A sentence.")
    assert window.message.text() == "A sentence."
    window.apply_theme()
    window.silence()
    assert page.theme is window.theme


def test_titles_are_unique():
    titles = [kind.title for kind in PAGES]
    assert len(set(titles)) == len(titles)
    assert FIRST in titles
