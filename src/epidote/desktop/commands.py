"""Every command as data: name, words, shortcut, what it does. Menu, context menu and keyboard are made from this one list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Command:
    """``group``: the menu it stands in. ``edits``: it changes the study, so a read-only one greys it out."""

    name: str
    words: str
    shortcut: str
    group: str
    do: Callable[[], None]
    edits: bool = False


GROUPS = ("Study", "Row", "Run", "Graph", "View")
