"""The colours, light and dark. tests/desktop/test_contrast.py measures them by WCAG 2.2."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

from PySide6.QtGui import QColor


@dataclass(frozen=True)
class Theme:
    """Warm stone greys with one green accent, or slate as its twin.

    edge: border of what can be pressed or typed into; line: of what only divides. disabled: text of what cannot be
    used now. rows: colour-blind-safe curve colours, told apart by lightness too.
    """

    name: str
    back: str
    bar: str
    raised: str
    line: str
    faint_line: str
    edge: str
    text: str
    quiet: str
    disabled: str
    accent: str
    accent_back: str
    on_accent: str
    caution: str
    caution_back: str
    chosen_back: str
    rows: tuple[str, ...]

    def colour(self, name: str, alpha: int = 255) -> QColor:
        colour = QColor(getattr(self, name))
        colour.setAlpha(alpha)
        return colour

    def row(self, index: int) -> QColor:
        """Return the colour of a row's curves.

        After the eight come the same hues nearer to the text, then nearer to the background: 24.
        """
        return QColor(_row_colour(self, index))


@lru_cache(maxsize=128)
def _row_colour(theme: Theme, index: int) -> QColor:
    turn, place = divmod(index, len(theme.rows))
    towards, share = ((theme.text, 0.0), (theme.text, 0.55), (theme.back, 0.3))[turn % 3]
    own, other = QColor(theme.rows[place]), QColor(towards)
    pairs = ((own.red(), other.red()), (own.green(), other.green()), (own.blue(), other.blue()))
    return QColor(*(round((1 - share) * a + share * b) for a, b in pairs))


LIGHT = Theme(
    "light",
    back="#fbfaf6",
    bar="#f3f0e9",
    raised="#ffffff",
    line="#d9d4c8",
    faint_line="#e9e5db",
    edge="#868174",
    text="#26251f",
    quiet="#656156",
    disabled="#8f8a7d",
    accent="#4d6b18",
    accent_back="#e4ead2",
    on_accent="#ffffff",
    caution="#9c4607",
    caution_back="#f6e6d5",
    chosen_back="#ebe7dd",
    rows=("#0f6a72", "#7d3f8c", "#96600f", "#2f55a8", "#b23a48", "#4a5d23", "#8a5a44", "#5b6770"),
)
DARK = Theme(
    "dark",
    back="#1e2223",
    bar="#191c1d",
    raised="#272c2d",
    line="#3a4142",
    faint_line="#2c3233",
    edge="#7a8281",
    text="#e6e4de",
    quiet="#a3a6a1",
    disabled="#757a77",
    accent="#a9c857",
    accent_back="#343f22",
    on_accent="#1a1f12",
    caution="#eda055",
    caution_back="#3d2d1d",
    chosen_back="#2d3334",
    rows=("#4fc4cb", "#c78bd6", "#e6a740", "#84a9f2", "#ef8489", "#a9b86a", "#cf9f86", "#a7b3ba"),
)
PAPER = replace(LIGHT, name="paper", back="#ffffff", bar="#ffffff")  # of pictures that leave the application
THEMES = {t.name: t for t in (LIGHT, DARK)}
