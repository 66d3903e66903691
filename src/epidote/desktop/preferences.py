"""What the user prefers, as Qt stores it: theme, text size, how the window is laid out, recent studies."""

from __future__ import annotations

from PySide6.QtCore import QSettings


def preferences() -> QSettings:
    """Return the user's preferences as Qt stores them."""
    return QSettings("Epidote", "Epidote")
