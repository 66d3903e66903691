"""In the head of the first column: a line that filters rows, and a menu that sorts and folds them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QMenu, QToolButton, QWidget

from epidote.desktop.pages.matrix.matrix_table.row_order import BY_DATE, BY_UNIT, BY_VERDICT, OWN_ORDER, RowOrder
from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import button_text
from epidote.study.models import Overview

_SORTS = (
    (OWN_ORDER, "Own order, by hand"),
    (BY_UNIT, "Unit"),
    (BY_DATE, "Latest run"),
    (BY_VERDICT, "Claims not met"),
)


class RowTools(QWidget):
    """order_wanted: the rows are to be shown in another order, or others of them."""

    order_wanted = Signal(object)

    def __init__(self, order: Callable[[], RowOrder], overview: Callable[[], Overview | None]) -> None:
        super().__init__()
        self._order, self._overview = order, overview
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 4, 8, 4)
        layout.setSpacing(6)
        self.words = QLineEdit()
        self.words.setPlaceholderText("Filter rows")
        self.words.setAccessibleName("Filter rows")
        self.words.setToolTip("Words of the unit, a condition, the serial number or the device")
        self.words.setClearButtonEnabled(True)
        self.words.textChanged.connect(lambda text: self._want(words=text))
        self.sort = QToolButton()
        self.sort.setText("Rows")
        self.sort.setToolTip("Sort rows, fold the rows of a unit into one, show only some")
        self.sort.setProperty("menu", True)
        self.sort.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self)
        self.menu.aboutToShow.connect(self.fill)
        self.sort.setMenu(self.menu)
        layout.addWidget(self.words, 1)
        layout.addWidget(self.sort)
        self.set_fonts()

    def set_fonts(self) -> None:
        for widget in (self.words, self.sort):
            widget.setFont(font(0.9))

    def _want(self, **changes: object) -> None:
        self.order_wanted.emit(replace(self._order(), **changes))  # type: ignore[arg-type]

    def fill(self) -> None:
        """Make the menu for the study's conditions."""
        menu, order, overview = self.menu, self._order(), self._overview()
        menu.clear()
        if overview is None:
            return
        menu.addSection("Sort by")
        conditions = dict.fromkeys(name for s in overview.subjects for name in s.conditions)
        for key, words in (*_SORTS, *((name, f"Condition {name}") for name in conditions)):
            self._option(menu, words, key == order.key, partial(self._want, key=key))
        menu.addSection("Show")
        self._option(
            menu,
            "Only units with claims not met",
            order.only_not_met,
            partial(self._want, only_not_met=not order.only_not_met),
        )
        units = frozenset(s.unit.id for s in overview.subjects if s.unit is not None)
        menu.addSeparator()
        menu.addAction("Fold all units", partial(self._want, folded=units))
        menu.addAction("Unfold all units", partial(self._want, folded=frozenset()))

    @staticmethod
    def _option(menu: QMenu, words: str, on: bool, do: Callable[[], None]) -> QObject:
        action = menu.addAction(button_text(words), do)
        action.setCheckable(True)
        action.setChecked(on)
        return action
