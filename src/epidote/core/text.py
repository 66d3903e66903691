"""Names and other texts from anywhere, made safe to show: control characters are seen, never acted on."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

_PICTURES = 0x2400  # Unicode's control pictures: ␀ for 0, ␊ for a line feed, ␛ for escape
_DELETE = "\u2421"
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_LIST_MARKS = ",;=|\n"  # after which a quotation can begin
_OPENING = re.compile(r'(?:^|[,;=|\n])\s*"')


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


def quoted(text: str, marks: str) -> str:
    """Return a text as an item of a list that a person edits: in quotation marks where it holds one of ``marks``, has
    a blank at an end, is empty, or would itself be taken for the beginning of a quotation. 12" stays as it is.
    """
    plain = text and text == text.strip() and not any(c in text for c in marks) and not _OPENING.search(text)
    return text if plain else '"' + text.replace('"', '""') + '"'


def split_unquoted(text: str, marks: str) -> list[str]:
    """Return the parts of a text between ``marks``, without blanks around them; marks in quotation marks separate
    nothing. The parts keep their quotation marks, see ``unquoted``.
    """
    cuts, inside, begins = [0], False, True
    for place, c in enumerate(text):
        if c == '"' and inside:
            inside = False
            begins = text[place + 1 : place + 2] == '"'  # doubled: a quotation mark inside the quotation
        elif c == '"' and begins:
            inside, begins = True, False
        elif not inside:
            if c in marks:
                cuts.append(place + 1)
            begins = c in _LIST_MARKS or (begins and c.isspace())
    if inside:  # the quotation has no end, so it is none
        cuts = [0, *(place + 1 for place, c in enumerate(text) if c in marks)]
    ends = [cut - 1 for cut in cuts[1:]] + [len(text)]
    return [text[a:b].strip() for a, b in zip(cuts, ends, strict=True)]


def unquoted(part: str) -> str:
    """Return the text that ``quoted`` was given."""
    if len(part) >= 2 and part[0] == part[-1] == '"':
        return part[1:-1].replace('""', '"')
    return part


def list_text(items: Sequence[str]) -> str:
    """Return texts as they are edited in one field: "left, right", or "seat 2, mic 1; seat 2, mic 2" where they have
    commas in them.
    """
    if any("," in item for item in items):
        shown = "; ".join(quoted(item, ";") for item in items)
        return f"{shown};" if len(items) == 1 else shown
    return ", ".join(quoted(item, ",;") for item in items)


def list_items(text: str) -> tuple[str, ...]:
    """Return the texts of a field: separated by semicolons if it has any, else by commas; without empty ones."""
    mark = ";" if len(split_unquoted(text, ";")) > 1 else ","
    return tuple(unquoted(part) for part in split_unquoted(text, mark) if part)
