"""Type and the chosen look of the application; colours are in ``palette``, the look of widgets in ``style_sheet``."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from PySide6.QtGui import QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from epidote.desktop.preferences import preferences
from epidote.desktop.theme.palette import DARK, LIGHT, PAPER, THEMES, Theme
from epidote.desktop.theme.style_sheet import style_sheet

__all__ = [
    "DARK",
    "LIGHT",
    "PAPER",
    "TEXT_SIZES",
    "THEMES",
    "Theme",
    "apply_theme",
    "chosen_theme",
    "font",
    "load_fonts",
    "text_size",
]

# its figures are all of one width, so that columns of numbers align without a second, monospaced face
FAMILY = "B612"
TEXT_SIZES = {"small": 9.0, "normal": 10.0, "large": 12.0, "very large": 14.0, "double": 20.0}


def chosen_theme() -> Theme:
    """Return the theme that the preferences name, the dark one where they name none."""
    return THEMES.get(str(preferences().value("theme", "dark")), DARK)


@lru_cache(maxsize=1)
def text_size() -> float:
    """In points; read anew when the application is dressed."""
    return TEXT_SIZES.get(str(preferences().value("text", "normal")), TEXT_SIZES["normal"])


def load_fonts() -> None:
    """Load the fonts that ship with the application."""
    for file in sorted((Path(__file__).parent / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))


def font(share: float = 1.0, *, bold: bool = False) -> QFont:
    """Return the application's type at a share of the chosen text size."""
    return QFont(_font(share, bold, text_size()))


@lru_cache(maxsize=64)
def _font(share: float, bold: bool, size: float) -> QFont:
    made = QFont(FAMILY)
    made.setPointSizeF(size * share)
    made.setBold(bold)
    made.setHintingPreference(QFont.HintingPreference.PreferNoHinting)
    return made


def apply_theme(app: QApplication, theme: Theme) -> None:
    """Set palette, style sheet and text size of the whole application."""
    text_size.cache_clear()
    app.setStyle("Fusion")
    app.setFont(font())
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, "back"),
        (QPalette.ColorRole.Base, "raised"),
        (QPalette.ColorRole.AlternateBase, "back"),
        (QPalette.ColorRole.WindowText, "text"),
        (QPalette.ColorRole.Text, "text"),
        (QPalette.ColorRole.ButtonText, "text"),
        (QPalette.ColorRole.Button, "raised"),
        (QPalette.ColorRole.ToolTipBase, "raised"),
        (QPalette.ColorRole.ToolTipText, "text"),
        (QPalette.ColorRole.Highlight, "accent"),
        (QPalette.ColorRole.HighlightedText, "on_accent"),
        (QPalette.ColorRole.PlaceholderText, "quiet"),
        (QPalette.ColorRole.Link, "accent"),
    ):
        palette.setColor(role, theme.colour(name))
    for role in (QPalette.ColorRole.Text, QPalette.ColorRole.WindowText, QPalette.ColorRole.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, theme.colour("disabled"))
    app.setPalette(palette)
    app.setStyleSheet(style_sheet(theme, FAMILY))
