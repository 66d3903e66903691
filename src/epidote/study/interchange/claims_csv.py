"""Published figures from a CSV file: a column of figures as they are written, and perhaps one that says where."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from epidote.audio.files.sound_file import read_bounded
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.column_text import decoded

_MOST_BYTES = 4_000_000
_CLAIM, _SOURCE = ("claim", "figure", "specification", "spec", "text"), ("source", "published", "where", "reference")


def read_claims(path: Path) -> list[tuple[str, str]]:
    """(figure, source) of each line.

    With a head line its columns are used; else the first is the figure, the second the source; a file of two or three
    columns "quantity, figure, conditions" is joined. Raises UnusableInputError.
    """
    return claims_in(decoded(read_bounded(path, _MOST_BYTES, "a CSV file of claims")), path.name)


def claims_in(text: str, name: str = "the text") -> list[tuple[str, str]]:
    """Return the same of a text."""
    if "\0" in text:
        raise UnusableInputError(f"{name} is not text. Nothing was added; select a CSV file of claims.")
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    if not lines:
        raise UnusableInputError(f"{name} contains no claims. Nothing was added; select another file.")
    separator = max(";\t", key=lines[0].count) if any(c in lines[0] for c in ";\t") else ","
    try:
        rows = [
            [cell.strip() for cell in row] for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=separator)
        ]
    except csv.Error as error:  # a field of more than 131,072 characters, as a quotation mark without its twin makes
        raise UnusableInputError(
            f"{name} is not a CSV file: a field has no end. Nothing was added; correct the quotation marks."
        ) from error
    heads = [h.casefold() for h in rows[0]]
    if any(name in heads for name in _CLAIM):
        return _by_heads(heads, rows[1:])
    if separator == ",":  # a figure has commas of its own: without a head line each line is one figure
        return [(line.strip().strip('"'), "") for line in lines]
    return [(row[0], row[1] if len(row) > 1 else "") for row in rows if row and row[0]]


def _by_heads(heads: list[str], rows: list[list[str]]) -> list[tuple[str, str]]:
    """(claim, source) of each row, the columns named by a head line."""

    def place(*names: str) -> int | None:
        return next((heads.index(name) for name in names if name in heads), None)

    parts = [column for column in (place("quantity"), place(*_CLAIM), place("conditions")) if column is not None]
    source = place(*_SOURCE)
    claims = []
    for row in rows:
        cells = [row[column] for column in parts if column < len(row) and row[column]]
        if cells:
            claims.append((", ".join(cells), row[source] if source is not None and source < len(row) else ""))
    return claims
