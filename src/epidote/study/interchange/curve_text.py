"""Curves as plain text, in and out: frequency, level, perhaps phase, in columns.

Reading is patient about separators, decimal commas and comments.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from epidote.audio.files.sound_file import read_bounded
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.column_text import decoded, fault, layouts, lines_of
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.outside import load_json
from epidote.core.results.result import Curve, curve_fault
from epidote.core.signals.signal import Samples

_LEAST_POINTS, _MOST_BYTES = 2, 64 * 1024 * 1024
_MOST_HEAD_WORDS = 8


def text_of(level: Curve, phase: Curve | None = None, notes: Sequence[str] = (), separator: str = "\t") -> str:
    """Return a level curve, and its phase where there is one, as text; notes stand above as comments."""
    columns = [level.x, level.y]
    heads = [
        f"Frequency [{level.x_unit}]" if level.x_unit == "Hz" else f"x [{level.x_unit}]",
        f"Level [{level.y_unit}]",
    ]
    if phase is not None:
        columns.append(np.interp(level.x, phase.x, phase.y))
        heads.append("Phase [°]")
    lines = [f"# {n}" for n in notes] + [f"# {separator.join(heads)}"]
    lines += [separator.join(f"{v:.10g}" for v in row) for row in zip(*columns, strict=True)]
    return "\n".join(lines) + "\n"


@dataclass(frozen=True)
class TextOptions:
    """What the user says about a text file where it can be read in two ways; "" and 0: as found.

    separator: tab, semicolon, comma or space; decimal: point or comma; frequency: Hz or kHz; first: the column (from 1)
    of the frequency.
    """

    separator: str = ""
    decimal: str = ""
    frequency: str = ""
    first: int = 0


AS_FOUND = TextOptions()


@dataclass(frozen=True, eq=False)
class TextReading:
    """One way to read a file: what was understood, the options that ask for it, and the curves."""

    words: str
    options: TextOptions
    level: Curve
    phase: Curve | None

    @property
    def preview(self) -> str:
        """The first, second and last point as read."""
        points = list(zip(self.level.x.tolist(), self.level.y.tolist(), strict=True))
        if len(points) <= 3:
            shown = points
        else:
            shown = [*points[:2], points[-1]]
        words = [f"{format_plain(x, 'Hz')}: {y:g} {self.level.y_unit}" for x, y in shown]
        if len(points) > 3:
            return f"{', '.join(words[:-1])} … {words[-1]}"
        return ", ".join(words)


def read_text_curve(path: Path, options: TextOptions = AS_FOUND) -> tuple[Curve, Curve | None]:
    """Level and phase curves (channel 1) of a text file.

    Raises UnusableInputError that names the line, or the option that decides.
    """
    return _the_one(readings_of_file(path, options), path.name)


def readings_of_file(path: Path, options: TextOptions = AS_FOUND) -> list[TextReading]:
    """Every way to read a file; never none. Raises UnusableInputError that names the line."""
    text = decoded(read_bounded(path, _MOST_BYTES, "a curve"))
    if text.lstrip().startswith(("{", "[")):
        level, phase = _from_json(text, path.name)
        return [TextReading("JSON exported by Epidote", options, level, phase)]
    return text_readings(text, path.name, options)


def parse_text_curve(text: str, name: str, options: TextOptions = AS_FOUND) -> tuple[Curve, Curve | None]:
    """Return the curves of a text. Raises UnusableInputError."""
    return _the_one(text_readings(text, name, options), name)


def _the_one(interpretations: list[TextReading], name: str) -> tuple[Curve, Curve | None]:
    if len(interpretations) == 1:
        return interpretations[0].level, interpretations[0].phase
    choices = "; or ".join(f"{r.words} ({r.preview})" for r in interpretations[:3])
    raise UnusableInputError(
        f"{name} can be read in {len(interpretations)} ways: {choices}. Nothing was read; decide with"
        f" {_deciding(interpretations)}."
    )


def _deciding(interpretations: list[TextReading]) -> str:
    """Return the command line's options in which the readings differ."""
    names = {
        "separator": "--separator",
        "decimal": "--decimal",
        "frequency": "--frequency-unit",
        "first": "--frequency-column",
    }
    differing = [
        option for name, option in names.items() if len({getattr(r.options, name) for r in interpretations}) > 1
    ]
    return " or ".join(differing)


def text_readings(text: str, name: str, options: TextOptions = AS_FOUND) -> list[TextReading]:
    """Every way to read a text as a curve; never none. Raises UnusableInputError that names the line."""
    lines = lines_of(text)
    if len(lines.rows) < _LEAST_POINTS:
        raise UnusableInputError(
            f"{name} contains no curve: fewer than two lines start with a number. Nothing was read; select another"
            " file."
        )
    tables = layouts(lines, options.separator, options.decimal)
    if not tables:
        number, line = fault(lines)
        if number and re.fullmatch(r"[+-]?[0-9.,]+", line):
            raise UnusableInputError(
                f"{name}, line {number}: only one number; frequency and level are needed. Nothing was read."
            )
        if number:
            place = f", line {number}: “{line[:60]}” is not numeric"
        else:
            place = ": the lines are written in different ways"
        raise UnusableInputError(
            f"{name}{place}. Nothing was read; correct the file, or name the separator and the decimal sign."
        )
    interpretations: list[TextReading] = []
    wrong = ""
    for table in tables:
        for first in _frequency_columns(table.values, options.first):
            for unit in _frequency_units(table.values[:, first], lines.heads, first, options.frequency):
                try:
                    level, phase = _curves(table.values[:, first:], unit, lines.heads, name)
                except UnusableInputError as error:
                    wrong = str(error)
                    continue
                words = f"{table.layout.words}, frequency in {unit}{f' in column {first + 1}' if first else ''}"
                interpretations.append(
                    TextReading(
                        words, TextOptions(table.layout.separator, table.layout.decimal, unit, first + 1), level, phase
                    )
                )
    if not interpretations:
        raise UnusableInputError(wrong or f"{name} contains no curve. Nothing was read; select another file.")
    return interpretations


def _frequency_columns(values: Samples, said: int) -> list[int]:
    """Return the columns (from 0) that may be the frequency: the first, or the second where the first only counts the
    lines.
    """
    if said:
        if said < values.shape[1]:
            return [said - 1]
        return [0]
    counted = values[:, 0] - values[0, 0]
    counts = bool(np.array_equal(counted, np.arange(values.shape[0]))) and values[0, 0] in (0.0, 1.0)
    rises = values.shape[1] > 2 and bool(np.all(np.diff(values[:, 1]) > 0)) and values[0, 1] > 0
    if counts and rises:
        return [0, 1]
    return [0]


def _frequency_units(frequencies: Samples, heads: Sequence[str], column: int, said: str) -> list[str]:
    """Hz, or kHz where the head of that very column says so; both where no head does and the numbers look like kHz."""
    if said:
        return [said]
    head = _head_of(heads, column).lower()
    if "khz" in head:
        return ["kHz"]
    low, high = float(frequencies.min()), float(frequencies.max())
    if "hz" not in head and 0 < low < 1 and 1 <= high <= 200:
        return ["Hz", "kHz"]
    return ["Hz"]


def _head_of(heads: Sequence[str], column: int) -> str:
    """Return the head of a column: a part of the last line above the numbers, if that has as many parts; else
    nothing.
    """
    if not heads:
        return ""
    line = heads[-1].lstrip("#*;!%/ ")
    for separator in ("\t", ";", ","):
        if separator in line:
            parts = line.split(separator)
            if column < len(parts):
                return parts[column]
            return ""
    parts = line.split()
    if len(parts) <= _MOST_HEAD_WORDS:
        return " ".join(parts[column : column + 2])
    return ""


def _from_json(text: str, name: str) -> tuple[Curve, Curve | None]:
    """Return the first level curve of a JSON document as this program writes it, and its phase."""
    try:
        lists = _curves_in(load_json(text, name))
        level = next(c for c in lists if c["key"] == "level")
        phase = next((c for c in lists if c["key"] == "phase" and c["channel"] == level["channel"]), None)
        made = [
            (
                None
                if c is None
                else Curve(
                    c["key"],
                    1,
                    np.array(c["x"], float),
                    np.array(c["y"], float),
                    c["x_unit"],
                    c["y_unit"],
                    None,
                    {"imported": name},
                )
            )
            for c in (level, phase)
        ]
    except StopIteration:
        raise UnusableInputError(f"{name} contains no “level” curve. Nothing was read.") from None
    except (ValueError, KeyError, TypeError, OverflowError) as error:
        raise UnusableInputError(
            f"{name} is not a JSON file of curves exported by Epidote. Nothing was read."
        ) from error
    assert made[0] is not None
    for curve in made:
        wrong = ""
        if curve is not None:
            wrong = curve_fault(curve)
        if wrong:
            raise UnusableInputError(f"{name} contains a curve that cannot be used: {wrong}. Nothing was read.")
    return made[0], made[1]


def _curves_in(data: Any) -> list[Any]:
    """Every list of curves in a document, in order."""
    if isinstance(data, dict):
        if isinstance(data.get("curves"), list):
            own = data["curves"]
        else:
            own = []
        return [*own, *(c for k, v in data.items() if k != "curves" for c in _curves_in(v))]
    if isinstance(data, list):
        return [c for v in data for c in _curves_in(v)]
    return []


def _curves(table: Samples, unit: str, heads: Sequence[str], name: str) -> tuple[Curve, Curve | None]:
    """Columns frequency, level and perhaps phase as curves, in order of frequency. Raises UnusableInputError."""
    order = np.argsort(table[:, 0], kind="stable")
    table = table[order]
    x = table[:, 0] * (1000.0 if unit == "kHz" else 1.0)
    x, first = np.unique(x, return_index=True)
    table = table[first][:, :3]
    if not np.isfinite(table).all() or x.size < _LEAST_POINTS:
        raise UnusableInputError(f"{name} contains invalid values or only one frequency. Nothing was read.")
    if x[0] <= 0:
        keep = x > 0
        x, table = x[keep], table[keep]
    if x.size < _LEAST_POINTS:
        raise UnusableInputError(f"{name}: frequencies must be greater than 0. Nothing was read.")
    words = " ".join(heads).lower()
    if "spl" in words:
        y_unit = "dB SPL"
    elif "dbv" in words:
        y_unit = "dBV"
    else:
        y_unit = "dB"
    level = Curve("level", 1, x, table[:, 1], "Hz", y_unit, None, {"imported": name})
    if table.shape[1] < 3:
        return level, None
    if re.search(r"\brad", words):
        degrees = np.degrees(table[:, 2])
    else:
        degrees = table[:, 2]
    return level, Curve("phase", 1, x, degrees, "Hz", "°", None, {"imported": name})
