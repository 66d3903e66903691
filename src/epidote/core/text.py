"""Names and other texts from anywhere, made safe to show: control characters are seen, never acted on."""

from __future__ import annotations

import unicodedata

_PICTURES = 0x2400  # Unicode's control pictures: ␀ for 0, ␊ for a line feed, ␛ for escape
_DELETE = "\u2421"
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def visible(text: str, *, lines: bool = False) -> str:
    """Return the text with control characters, terminal escapes and marks that turn the direction of writing shown as
    such.

        ``lines``: line breaks and tabs stay, as in a note.
    """
    if text.isprintable():
        return text
    return "".join(c if lines and c in "\n\t" else _shown(c) for c in text)


def _shown(c: str) -> str:
    code = ord(c)
    if code < 0x20:
        return chr(_PICTURES + code)
    if code == 0x7F:
        return _DELETE
    if unicodedata.category(c) in ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"):
        return f"\\u{code:04x}"
    return c


def spreadsheet_cell(text: str) -> str:
    """Return a cell that no spreadsheet takes for a formula: those that begin like one get an apostrophe before them,
    numbers do not.
    """
    if not text.startswith(_FORMULA):
        return text
    try:
        float(text)
    except ValueError:
        return f"'{text}"
    return text
