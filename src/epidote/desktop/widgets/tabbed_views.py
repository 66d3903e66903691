"""A page of several views: tabs in a line at the top, the view in sight below."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from epidote.desktop.widgets.scrolled import CurrentStack
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons


def tabs_over_views(
    page: QWidget, options: Sequence[tuple[str, str]]
) -> tuple[SegmentedButtons, CurrentStack, QWidget]:
    """Fill a page with tabs (key and title of each), the first one selected, over a stack whose first view is empty.

    Views take their place before they are filled: `ScrolledArea` says why.
    """
    layout = QVBoxLayout(page)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    tabs = SegmentedButtons(tabs=True)
    tabs.set_options(list(options), [options[0][0]])
    line = QHBoxLayout()
    line.setContentsMargins(12, 4, 12, 0)
    line.addWidget(tabs)
    line.addStretch(1)
    layout.addLayout(line)
    views = CurrentStack()
    layout.addWidget(views, 1)
    first = QWidget()
    views.addWidget(first)
    return tabs, views, first
