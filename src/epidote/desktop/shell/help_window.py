"""The guide's window: pages on the left, the one in view on the right, a line to search in all of them."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, QUrl
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSplitter,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.help.pages import HelpPage, help_pages

KeyedCommand = tuple[str, str, str]  # menu, words, key
_KEY = Qt.ItemDataRole.UserRole
PLACE = "help"  # property of a widget: the key of the page that explains it


def page_for(widget: QWidget | None, otherwise: str) -> str:
    """Return the key of the page that explains a widget, or the nearest of those that it is in."""
    while widget is not None:
        key = widget.property(PLACE)
        if key:
            return str(key)
        widget = widget.parentWidget()
    return otherwise


def show_help(window: QWidget, commands: Sequence[KeyedCommand], key: str) -> None:
    """Open the guide of a window at a page."""
    owner = QApplication.activeModalWidget() or window  # a dialog lets nothing be used but its own windows
    existing = owner.findChild(HelpWindow)
    guide = existing if existing is not None else HelpWindow(owner, commands)
    guide.show_page(key)
    guide.show()
    guide.raise_()
    guide.activateWindow()


class HelpWindow(QDialog):
    """Stays open beside the main window."""

    def __init__(self, owner: QWidget, commands: Sequence[KeyedCommand]) -> None:
        super().__init__(owner)
        self.setWindowTitle("Guide")
        self.resize(900, 620)
        self.pages: dict[str, HelpPage] = help_pages(commands)
        self._texts: dict[str, str] = {}
        layout = QVBoxLayout(self)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search in the guide")
        self.search.setAccessibleName("Search in the guide")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self._list())
        layout.addWidget(self.search)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.setChildrenCollapsible(False)
        self.list, self.text = QListWidget(), QTextBrowser()
        self.list.setAccessibleName("Pages of the guide")
        self.text.setAccessibleName("Page")
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(self._follow)
        self.text.document().setDocumentMargin(14)
        split.addWidget(self.list)
        split.addWidget(self.text)
        split.setSizes([250, 650])
        layout.addWidget(split, 1)
        self.list.currentItemChanged.connect(lambda item, _: self._show(item))
        self._list()

    def _text_of(self, key: str) -> str:
        if key not in self._texts:
            self._texts[key] = self.pages[key].text()
        return self._texts[key]

    def _list(self) -> None:
        """List the pages that hold every word of the search, by group."""
        words = self.search.text().lower().split()
        self.list.clear()
        group = ""
        for page in self.pages.values():
            if words and not all(word in self._text_of(page.key).lower() for word in words):
                continue
            if page.group != group:
                group = page.group
                head = QListWidgetItem(group)
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                self.list.addItem(head)
            item = QListWidgetItem(page.title)
            item.setData(_KEY, page.key)
            self.list.addItem(item)
        first = next((n for n in range(self.list.count()) if self.list.item(n).data(_KEY)), -1)
        self.list.setCurrentRow(first)

    def show_page(self, key: str) -> None:
        """Go to a page; one that is not there leads to the first."""
        self.search.clear()
        rows = [n for n in range(self.list.count()) if self.list.item(n).data(_KEY) == key]
        if rows:
            self.list.setCurrentRow(rows[0])

    def _show(self, item: QListWidgetItem | None) -> None:
        if item is not None and item.data(_KEY):
            self.text.setMarkdown(self._text_of(str(item.data(_KEY))))

    def _follow(self, link: QUrl) -> None:
        if link.scheme() == PLACE:
            self.show_page(link.path())
