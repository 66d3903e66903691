"""Colours, type and the style of every widget, light and dark."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

# its figures are all of one width, so that columns of numbers align without a second, monospaced face
FAMILY = "B612"
TEXT_SIZES = {"small": 9.0, "normal": 10.0, "large": 12.0, "very large": 14.0}
_ICONS = (Path(__file__).parent / "icons").as_posix()


@dataclass(frozen=True)
class Theme:
    """Warm stone greys with one green accent, or slate as its twin.

    ``rows``: colour-blind-safe curve colours, told apart by lightness too.
    """

    name: str
    back: str
    bar: str
    raised: str
    line: str
    faint_line: str
    text: str
    quiet: str
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
    text="#26251f",
    quiet="#6d695e",
    accent="#55751c",
    accent_back="#e4ead2",
    on_accent="#ffffff",
    caution="#a34a08",
    caution_back="#f6e6d5",
    chosen_back="#ebe7dd",
    rows=("#0f6a72", "#7d3f8c", "#a86a10", "#2f55a8", "#b23a48", "#4a5d23", "#8a5a44", "#5b6770"),
)
DARK = Theme(
    "dark",
    back="#1e2223",
    bar="#191c1d",
    raised="#272c2d",
    line="#3a4142",
    faint_line="#2c3233",
    text="#e6e4de",
    quiet="#9a9d98",
    accent="#a9c857",
    accent_back="#343f22",
    on_accent="#1a1f12",
    caution="#eda055",
    caution_back="#3d2d1d",
    chosen_back="#2d3334",
    rows=("#4fc4cb", "#c78bd6", "#e6a740", "#84a9f2", "#ef8489", "#a9b86a", "#cf9f86", "#a7b3ba"),
)
THEMES = {t.name: t for t in (LIGHT, DARK)}


def preferences() -> QSettings:
    """Return the user's preferences as Qt stores them."""
    return QSettings("Epidote", "Epidote")


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
    ):
        palette.setColor(role, theme.colour(name))
    for role in (QPalette.ColorRole.Text, QPalette.ColorRole.WindowText, QPalette.ColorRole.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, theme.colour("quiet"))
    app.setPalette(palette)
    app.setStyleSheet(_style(theme))


def _style(t: Theme) -> str:
    return f"""
    * {{ font-family: "{FAMILY}"; }}
    QToolTip {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; padding: 4px; }}
    #topBar, #strip {{ background: {t.bar}; }}
    #topBar {{ border-bottom: 1px solid {t.line}; }}
    #strip {{ border-top: 1px solid {t.line}; }}
    QPushButton {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; border-radius: 3px; padding:
        5px 10px; }}
    QPushButton:hover {{ border-color: {t.quiet}; }}
    QPushButton:focus {{ border-color: {t.accent}; }}
    QPushButton:disabled {{ color: {t.quiet}; border-color: {t.faint_line}; }}
    QPushButton[main="true"] {{ background: {t.accent}; color: {t.on_accent}; border-color: {t.accent}; font-weight:
        bold; }}
    QPushButton[main="true"]:disabled {{ background: {t.faint_line}; border-color: {t.faint_line}; color: {t.quiet}; }}
    QPushButton[link="true"], QPushButton[link="true"]:checked {{ background: transparent; color: {t.accent};
        font-weight: normal; padding: 2px 0; border: none; text-align: left; }}
    QPushButton[link="true"]:hover, QPushButton[link="true"]:focus {{ text-decoration: underline; }}
    QToolButton {{ background: transparent; color: {t.quiet}; border: 1px solid transparent; border-radius: 3px;
        padding: 2px 7px; }}
    QToolButton:hover {{ color: {t.text}; }}
    QToolButton:focus {{ border-color: {t.line}; }}
    QToolButton:checked {{ background: {t.accent_back}; color: {t.accent}; font-weight: bold; }}
    QToolButton:disabled {{ color: {t.faint_line}; }}
    QToolButton::menu-indicator {{ image: none; }}
    #topBar QToolButton[page="true"] {{ border: none; border-radius: 0; padding: 10px 14px; }}
    #topBar QToolButton[page="true"]:checked {{ background: transparent; color: {t.text}; border-bottom: 3px solid
        {t.accent}; }}
    #strip QToolButton[weak="true"] {{ color: {t.caution}; }}
    QLabel[quiet="true"] {{ color: {t.quiet}; }}
    QLabel[heading="true"] {{ font-weight: bold; }}
    QLabel[caution="true"] {{ color: {t.caution}; background: {t.caution_back}; border-radius: 3px; padding: 6px 8px; }}
    QLabel[error="true"] {{ color: {t.caution}; }}
    QLineEdit, QComboBox, QSpinBox, QPlainTextEdit {{ background: {t.raised}; color: {t.text}; border: 1px solid
        {t.line}; border-radius: 3px; padding: 3px 6px;
        selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
    QLineEdit:focus, QComboBox:focus, QSpinBox:focus, QPlainTextEdit:focus {{ border-color: {t.accent}; }}
    QLineEdit[wrong="true"] {{ border-color: {t.caution}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({_ICONS}/down-{t.name}.svg); width: 10px; height: 6px; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; }}
    QTableView {{ background: {t.back}; color: {t.text}; border: none; gridline-color: {t.faint_line}; }}
    QTableView::item:selected {{ background: transparent; color: {t.text}; }}
    QHeaderView {{ background: {t.bar}; border: none; }}
    QTableView[plain="true"] QHeaderView {{ background: {t.back}; }}
    QTableView[plain="true"] QHeaderView::section {{ background: {t.back}; border: none; border-bottom: 1px solid
        {t.line}; padding: 3px 6px; }}
    QTableCornerButton::section {{ background: {t.bar}; border: none; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }} QScrollBar:horizontal {{ background:
        transparent; height: 10px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QSplitter::handle {{ background: {t.line}; }}
    QMenu {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; padding: 4px 0; }}
    QMenu::item {{ padding: 5px 22px; }} QMenu::item:selected {{ background: {t.chosen_back}; }}
    QMenu::item:disabled {{ color: {t.quiet}; }}
    QMenu::separator {{ background: {t.faint_line}; height: 1px; margin: 4px 0; }}
    QTableView, QListWidget {{ selection-background-color: {t.chosen_back}; selection-color: {t.text}; }}
    QListWidget {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 3px; }}
    QDialog {{ background: {t.back}; }}
    QLabel#step {{ border: 1px solid {t.line}; border-radius: 12px; color: {t.quiet}; }}
    QLabel#step[done="true"] {{ background: {t.accent_back}; border-color: {t.accent_back}; color: {t.accent}; }}
    QPushButton:checked {{ background: {t.accent_back}; color: {t.accent}; border-color: {t.accent}; }}
    #live {{ border-left: 1px solid {t.line}; }}
    """
