"""How every kind of widget looks. What can be pressed has an edge; tabs are underlined; links are words in the accent.

Properties that widgets carry: main (the button that carries a dialog or panel out), link, tab, segment (of a row of
options in a track), quiet, heading, caution, error.
"""

from __future__ import annotations

from pathlib import Path

from epidote.desktop.theme.palette import Theme

_ICONS = (Path(__file__).parent / "icons").as_posix()


def style_sheet(t: Theme, family: str) -> str:
    """Return the style sheet of the application in a theme."""
    return "".join((_frame(t, family), _buttons(t), _options(t), _fields(t), _tables(t), _menus(t), _marks(t)))


def _frame(t: Theme, family: str) -> str:
    return f"""
    * {{ font-family: "{family}"; }}
    QToolTip {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; padding: 4px; }}
    #topBar, #strip {{ background: {t.bar}; }}
    #topBar {{ border-bottom: 1px solid {t.line}; }}
    #strip {{ border-top: 1px solid {t.line}; }}
    QDialog {{ background: {t.back}; }}
    QSplitter::handle {{ background: {t.line}; }}
    QSplitter::handle:hover {{ background: {t.edge}; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }} QScrollBar:horizontal {{ background:
        transparent; height: 10px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {t.edge}; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    #guided {{ background: {t.bar}; border-right: 1px solid {t.line}; }}
    #live {{ border-left: 1px solid {t.line}; }}
    """


def _buttons(t: Theme) -> str:
    return f"""
    QPushButton, QToolButton {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.edge}; border-radius: 3px;
        padding: 4px 10px; }}
    QToolButton {{ padding: 2px 8px; }}
    QPushButton:hover, QToolButton:hover {{ background: {t.chosen_back}; }}
    QPushButton:pressed, QToolButton:pressed {{ background: {t.accent_back}; }}
    QPushButton:focus, QToolButton:focus {{ border: 2px solid {t.accent}; padding: 3px 9px; }}
    QToolButton:focus {{ padding: 1px 7px; }}
    QPushButton:checked, QToolButton:checked {{ background: {t.accent_back}; color: {t.accent}; border-color:
        {t.accent}; }}
    QPushButton:disabled, QToolButton:disabled {{ background: transparent; color: {t.disabled}; border: 1px dashed
        {t.line}; }}
    QToolButton::menu-indicator, QPushButton::menu-indicator {{ image: url({_ICONS}/down-{t.name}.svg); width: 9px;
        height: 6px; subcontrol-origin: padding; subcontrol-position: right center; right: 6px; }}
    QToolButton[menu="true"], QPushButton[menu="true"] {{ padding-right: 20px; }}
    QPushButton[main="true"] {{ background: {t.accent}; color: {t.on_accent}; border-color: {t.accent}; font-weight:
        bold; }}
    QPushButton[main="true"]:hover {{ border-color: {t.text}; }}
    QPushButton[main="true"]:focus {{ border-color: {t.text}; }}
    QPushButton[main="true"]:disabled {{ background: {t.faint_line}; border: 1px solid {t.faint_line}; color:
        {t.disabled}; }}
    QPushButton[link="true"], QToolButton[link="true"] {{ background: transparent; color: {t.accent}; border: none;
        padding: 3px 2px; text-align: left; font-weight: normal; }}
    QPushButton[link="true"]:checked {{ background: transparent; }}
    QPushButton[link="true"]:hover, QToolButton[link="true"]:hover {{ text-decoration: underline; background:
        transparent; }}
    QPushButton[link="true"]:focus, QToolButton[link="true"]:focus {{ text-decoration: underline; border: 1px solid
        {t.accent}; padding: 2px 1px; }}
    QPushButton[link="true"]:disabled, QToolButton[link="true"]:disabled {{ color: {t.disabled}; border: none; }}
    QWidget[headTools="true"] {{ background: {t.back}; }}
    QToolButton[sign="true"] {{ padding: 0; }}
    QToolButton[sign="true"]:focus {{ padding: 0; }}
    QPushButton[over="true"] {{ background: {t.bar}; border-left: 1px solid {t.line}; text-align: center; }}
    #strip QToolButton {{ color: {t.quiet}; }}
    #strip QToolButton:hover {{ color: {t.text}; }}
    #strip QToolButton[weak="true"] {{ color: {t.caution}; }}
    QPushButton[choice="true"] {{ text-align: left; padding: 8px 12px; }}
    """


def _options(t: Theme) -> str:
    """Return the style of tabs, which lead to another view, and of segments, which switch something."""
    return f"""
    QToolButton[tab="true"] {{ background: transparent; color: {t.quiet}; border: none; border-bottom: 3px solid
        transparent; border-radius: 0; padding: 5px 9px 3px 9px; }}
    QToolButton[tab="true"]:hover {{ color: {t.text}; border-bottom-color: {t.line}; background: transparent; }}
    QToolButton[tab="true"]:checked {{ background: transparent; color: {t.text}; border-bottom-color: {t.accent};
        font-weight: bold; }}
    QToolButton[tab="true"]:focus {{ border: 1px solid {t.accent}; border-bottom: 3px solid {t.accent}; padding:
        4px 8px 3px 8px; }}
    QToolButton[tab="true"]:disabled {{ color: {t.disabled}; }}
    #topBar QToolButton[tab="true"] {{ padding: 8px 14px 6px 14px; }}
    #topBar QToolButton[tab="true"]:focus {{ padding: 7px 13px 6px 13px; }}
    QWidget[track="true"] {{ background: {t.raised}; border: 1px solid {t.edge}; border-radius: 4px; }}
    QToolButton[segment="true"] {{ background: transparent; color: {t.quiet}; border: 1px solid transparent;
        border-radius: 3px; padding: 1px 7px; }}
    QToolButton[segment="true"]:hover {{ color: {t.text}; background: {t.chosen_back}; }}
    QToolButton[segment="true"]:checked {{ background: {t.accent_back}; color: {t.accent}; font-weight: bold; }}
    QToolButton[segment="true"]:focus {{ border-color: {t.accent}; }}
    QToolButton[segment="true"]:disabled {{ color: {t.disabled}; border: none; }}
    QCheckBox::indicator {{ width: 13px; height: 13px; border: 1px solid {t.edge}; border-radius: 2px; background:
        {t.raised}; }}
    QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; image:
        url({_ICONS}/check-{t.name}.svg); }}
    QCheckBox::indicator:focus {{ border: 2px solid {t.accent}; }}
    QCheckBox::indicator:disabled {{ border-color: {t.line}; }}
    """


def _fields(t: Theme) -> str:
    fields = "QLineEdit, QComboBox, QSpinBox, QPlainTextEdit"
    focused = ", ".join(f"{name}:focus" for name in fields.split(", "))
    disabled = ", ".join(f"{name}:disabled" for name in fields.split(", "))
    return f"""
    {fields} {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.edge}; border-radius: 3px; padding:
        3px 6px; selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
    {focused} {{ border-color: {t.accent}; }}
    {disabled} {{ color: {t.disabled}; border-color: {t.line}; background: transparent; }}
    QLineEdit[wrong="true"] {{ border-color: {t.caution}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({_ICONS}/down-{t.name}.svg); width: 10px; height: 6px; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; }}
    """


def _tables(t: Theme) -> str:
    return f"""
    QTableView {{ background: {t.back}; color: {t.text}; border: none; gridline-color: {t.faint_line}; }}
    QTableView::item:selected {{ background: transparent; color: {t.text}; }}
    QHeaderView {{ background: {t.bar}; border: none; }}
    QTableView[plain="true"] QHeaderView {{ background: {t.back}; }}
    QTableView[plain="true"] QHeaderView::section {{ background: {t.back}; border: none; border-bottom: 1px solid
        {t.line}; padding: 3px 6px; }}
    QTableView[plain="true"]:focus {{ border: 1px solid {t.accent}; }}
    QTableCornerButton::section {{ background: {t.bar}; border: none; }}
    QTableView, QListWidget {{ selection-background-color: {t.chosen_back}; selection-color: {t.text}; }}
    QListWidget {{ background: {t.raised}; border: 1px solid {t.edge}; border-radius: 3px; }}
    QListWidget:focus {{ border-color: {t.accent}; }}
    """


def _menus(t: Theme) -> str:
    return f"""
    QMenuBar {{ background: {t.bar}; color: {t.text}; padding: 2px 6px; }}
    QMenuBar::item {{ background: transparent; padding: 4px 9px; border-radius: 3px; }}
    QMenuBar::item:selected, QMenuBar::item:pressed {{ background: {t.accent_back}; color: {t.accent}; }}
    QMenu {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.edge}; padding: 4px 0; }}
    QMenu::item {{ padding: 5px 24px; }} QMenu::item:selected {{ background: {t.accent_back}; }}
    QMenu::item:disabled {{ color: {t.disabled}; }}
    QMenu::separator {{ background: {t.line}; height: 1px; margin: 4px 0; }}
    QMenu::indicator {{ left: 6px; width: 12px; height: 12px; }}
    QMenu::indicator:checked {{ image: url({_ICONS}/tick-{t.name}.svg); }}
    """


def _marks(t: Theme) -> str:
    return f"""
    QProgressBar {{ background: {t.line}; border: none; border-radius: 2px; }}
    QProgressBar::chunk {{ background: {t.accent}; border-radius: 2px; }}
    QLabel[quiet="true"] {{ color: {t.quiet}; }}
    QLabel[heading="true"] {{ font-weight: bold; }}
    QLabel[caution="true"] {{ color: {t.caution}; background: {t.caution_back}; border-radius: 3px; padding: 6px 8px; }}
    QLabel[note="true"] {{ color: {t.quiet}; border-left: 3px solid {t.line}; padding: 2px 8px; }}
    QLabel[pointed="true"] {{ border: 2px solid {t.caution}; border-radius: 3px; }}
    QLabel[error="true"] {{ color: {t.caution}; }}
    QLabel#step {{ border: 1px solid {t.line}; border-radius: 12px; color: {t.quiet}; }}
    QLabel#step[done="true"] {{ background: {t.accent_back}; border-color: {t.accent_back}; color: {t.accent}; }}
    """
