"""How the numbers of a text file are written: which sign separates them, which is the decimal sign, which column is
which.

Every way of writing is tried on every line, each in one pass over the text, so the time grows with its length and
nothing else. What fits in one way only is read so; what fits in two ways is for the user to decide.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from epidote.core.signals.signal import Samples

_MINUS = str.maketrans({"\u2212": "-", "\u2013": "-", "\u00a0": " ", "\u202f": " ", "\u2009": " "})
_COMMENT = ("#", "*", ";", "!", "%", '"', "'", "/")
_POINT = re.compile(r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]+)?")
_COMMA = re.compile(r"[+-]?(?:[0-9]+(?:,[0-9]*)?|,[0-9]+)(?:[eE][+-]?[0-9]+)?")
_GROUPED = re.compile(r"[+-]?[0-9]{1,3}(?:,[0-9]{3})+(?:\.[0-9]*)?")
_BEGINS = re.compile(r"[+-]?[0-9.,]")
_LONGEST_LINE, _MOST_COLUMNS = 10_000, 64
SEPARATORS = {"tab": "\t", "semicolon": ";", "comma": ",", "space": " "}
DECIMALS = ("point", "comma")


@dataclass(frozen=True)
class ColumnLayout:
    """One way in which the numbers can be written. thousands: commas group the digits of large numbers."""

    separator: str
    decimal: str
    thousands: bool = False
    pairs: bool = False  # commas both separate and are decimal: two digits groups make one number

    @property
    def words(self) -> str:
        if self.decimal == "comma":
            decimal = "decimal comma"
        else:
            decimal = "decimal point"
        return f"{self.separator}-separated, {decimal}{', commas group thousands' if self.thousands else ''}"


@dataclass(frozen=True, eq=False)
class Table:
    """The numbers (lines, columns) as read in one layout."""

    layout: ColumnLayout
    values: Samples


@dataclass(frozen=True)
class Lines:
    """The lines of a text: heads above the numbers, then the numbers, each with its line's number."""

    heads: tuple[str, ...]
    rows: tuple[tuple[int, str], ...]


def decoded(content: bytes) -> str:
    """Return a text file's text: UTF-8, or UTF-16 by its mark or by its zero bytes, else Latin."""
    if content.startswith((b"\xff\xfe", b"\xfe\xff")):
        return content.decode("utf-16", errors="replace")
    head = content[:2000]
    if head and head[1::2].count(0) > len(head) / 4:
        return content.decode("utf-16-le", errors="replace")
    if head and head[0::2].count(0) > len(head) / 4:
        return content.decode("utf-16-be", errors="replace")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return content.decode("cp1252", errors="replace")


def lines_of(text: str) -> Lines:
    """Comments and heads apart from the lines that begin with a number."""
    heads: list[str] = []
    rows: list[tuple[int, str]] = []
    for number, line in enumerate(text.translate(_MINUS).splitlines(), start=1):
        bare = line.strip(" \t\ufeff")
        if not bare:
            continue
        quoted_number = bare.startswith('"') and _BEGINS.match(bare[1:]) is not None
        if (bare.startswith(_COMMENT) and not quoted_number) or not _BEGINS.match(bare.lstrip('"')):
            if not rows:
                heads.append(bare)
            continue
        rows.append((number, bare.replace('"', "")))
    return Lines(tuple(heads), tuple(rows))


def layouts(lines: Lines, separator: str = "", decimal: str = "") -> list[Table]:
    """Every way in which all lines can be read as at least two columns, the same number in each.

    ``separator`` and ``decimal``: as the user says. Ways that give the same numbers are one.
    """
    rows = [row for _, row in lines.rows]
    if any(len(row) > _LONGEST_LINE for row in rows):
        return []
    tables: list[Table] = []
    for layout in _candidates(rows):
        if (separator and layout.separator != separator) or (decimal and layout.decimal != decimal):
            continue
        values = _numbers(rows, layout)
        if values is not None and not any(np.array_equal(values, other.values) for other in tables):
            tables.append(Table(layout, values))
    return tables


def fault(lines: Lines) -> tuple[int, str]:
    """Return the first line that no way of writing fits, and the line itself; (0, "") when each fits in some."""
    for number, row in lines.rows:
        if not any(_numbers([row], layout) is not None for layout in _candidates([row])):
            return number, row
    return 0, ""


def _candidates(rows: list[str]) -> list[ColumnLayout]:
    """Return the layouts worth trying. A semicolon or a tab in every line separates, whatever else there is."""
    for name in ("semicolon", "tab"):
        if all(SEPARATORS[name] in row for row in rows):
            return [
                ColumnLayout(name, "point"),
                ColumnLayout(name, "comma"),
                ColumnLayout(name, "point", thousands=True),
            ]
    candidates = [
        ColumnLayout("space", "point"),
        ColumnLayout("space", "comma"),
        ColumnLayout("space", "point", thousands=True),
    ]
    if all("," in row for row in rows):
        candidates += [
            ColumnLayout("comma", "point"),
            ColumnLayout("comma", "comma"),
            ColumnLayout("comma", "comma", pairs=True),
        ]
    return candidates


def _cut(layout: ColumnLayout) -> Callable[[str], list[str]]:
    """How a line is cut into fields."""
    if layout.separator == "space":
        return str.split
    sign = SEPARATORS[layout.separator]
    if layout.separator == "comma" and layout.decimal == "comma" and not layout.pairs:
        return lambda row: row.split(", ")  # only a comma with a blank behind it separates
    return lambda row: [field.strip() for field in row.rstrip(f"{sign} ").split(sign)]


def _numbers(rows: list[str], layout: ColumnLayout) -> Samples | None:
    """Return the table, or None where a field is no number in this layout, or the lines have different numbers of
    columns.
    """
    cut = _cut(layout)
    table: list[list[float]] = []
    for row in rows:
        fields = cut(row)
        if layout.pairs:
            joined = _paired(fields)
            if joined is None:
                return None
            fields = joined
        values = [_number(field.strip(), layout) for field in fields]
        numbers = [v for v in values if v is not None]
        if not 2 <= len(numbers) == len(values) <= _MOST_COLUMNS:
            return None
        table.append(numbers)
    width = min(map(len, table), default=0)
    if width:
        return np.array([row[:width] for row in table])
    return None


def _paired(fields: list[str]) -> list[str] | None:
    """Whole numbers joined two by two, as "20,0,-1,5" may be 20.0 and -1.5; None where that is not possible."""
    digits = all(field.lstrip("+-").isdigit() for field in fields)
    if len(fields) not in (4, 6) or not digits or any(field[:1] in "+-" for field in fields[1::2]):
        return None
    return [f"{a},{b}" for a, b in zip(fields[::2], fields[1::2], strict=True)]


def _number(field: str, layout: ColumnLayout) -> float | None:
    if layout.thousands:
        pattern = _GROUPED
    elif layout.decimal == "comma":
        pattern = _COMMA
    else:
        pattern = _POINT
    if layout.thousands and "," not in field:
        pattern = _POINT
    if len(field) > 64 or pattern.fullmatch(field) is None:
        return None
    plain = field.replace(",", "" if layout.thousands else ".")
    return float(plain)
