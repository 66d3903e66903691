"""Curves as plain text, in and out: frequency, level, perhaps phase, in columns. Reading is patient about separators, decimal commas and comments."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from epidote.core.errors import UnusableInputError
from epidote.core.result import Curve
from epidote.core.signal import Samples

_LEAST_POINTS, _MOST_BYTES = 2, 64 * 1024 * 1024
_COMMENT = re.compile(r'^\s*([#*;!%"\'/]|//)')
_NUMBER = r"[+-]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][+-]?\d+)?"


def text_of(level: Curve, phase: Curve | None = None, notes: Sequence[str] = (), separator: str = "\t") -> str:
    """A level curve, and its phase where there is one, as text; notes stand above as comments."""
    columns = [level.x, level.y]
    heads = [f"Frequency [{level.x_unit}]" if level.x_unit == "Hz" else f"x [{level.x_unit}]", f"Level [{level.y_unit}]"]
    if phase is not None:
        columns.append(np.interp(level.x, phase.x, phase.y))
        heads.append("Phase [°]")
    lines = [f"# {n}" for n in notes] + [f"# {separator.join(heads)}"]
    lines += [separator.join(f"{v:.10g}" for v in row) for row in zip(*columns, strict=True)]
    return "\n".join(lines) + "\n"


def read_text_curve(path: Path) -> tuple[Curve, Curve | None]:
    """Level and phase curves (channel 1) of a text file. Raises UnusableInputError that names the line."""
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise UnusableInputError(f"{path.name} is larger than {_MOST_BYTES // 2**20} MB, too large for a curve. Nothing was read.")
        text = path.read_text(encoding="utf-8-sig", errors="replace")
    except OSError as error:
        raise UnusableInputError(f"{path.name} cannot be read: {error.strerror}.") from error
    if text.lstrip().startswith(("{", "[")):
        return _from_json(text, path.name)
    return parse_text_curve(text, path.name)


def _from_json(text: str, name: str) -> tuple[Curve, Curve | None]:
    """The first level curve of a JSON document as this program writes it, and its phase."""
    try:
        found = _curves_in(json.loads(text))
        level = next(c for c in found if c["key"] == "level")
        phase = next((c for c in found if c["key"] == "phase" and c["channel"] == level["channel"]), None)
        made = [None if c is None else Curve(c["key"], 1, np.array(c["x"], float), np.array(c["y"], float), c["x_unit"], c["y_unit"], None, {"imported": name}) for c in (level, phase)]  # fmt: skip
    except StopIteration:
        raise UnusableInputError(f"{name} contains no “level” curve. Nothing was read.") from None
    except (ValueError, KeyError, TypeError) as error:
        raise UnusableInputError(f"{name} is not a JSON file of curves exported by Epidote ({error}). Nothing was read.") from error
    assert made[0] is not None
    return made[0], made[1]


def _curves_in(data: Any) -> list[Any]:
    """Every list of curves in a document, in order."""
    if isinstance(data, dict):
        own = data["curves"] if isinstance(data.get("curves"), list) else []
        return [*own, *(c for k, v in data.items() if k != "curves" for c in _curves_in(v))]
    return [c for v in data for c in _curves_in(v)] if isinstance(data, list) else []


def parse_text_curve(text: str, name: str) -> tuple[Curve, Curve | None]:
    """The same of a text. Raises UnusableInputError."""
    heads: list[str] = []
    rows: list[tuple[int, str]] = []
    for number, line in enumerate(text.splitlines(), start=1):
        stripped = line.strip().strip("\ufeff")
        if not stripped:
            continue
        if _COMMENT.match(stripped) or not re.match(_NUMBER, stripped):
            if not rows:
                heads.append(stripped)
            continue
        rows.append((number, stripped))
    if len(rows) < _LEAST_POINTS:
        raise UnusableInputError(f"{name} contains no curve: fewer than two lines start with a number. Nothing was read.")
    split = _splitter([line for _, line in rows[:200]])
    values = []
    for number, line in rows:
        try:
            fields = split(line)
            values.append([float(f) for f in fields[:3]])
        except ValueError as error:
            raise UnusableInputError(f"{name}, line {number}: “{line[:60]}” is not numeric. Nothing was read.") from error
        if len(fields) < 2:
            raise UnusableInputError(f"{name}, line {number}: only one number; frequency and level are needed. Nothing was read.")
    width = min(len(v) for v in values)
    table = np.array([v[:width] for v in values])
    return _curves(table, " ".join(heads).lower(), name)


def _splitter(lines: list[str]) -> Callable[[str], list[str]]:
    """How these lines are cut into numbers with a decimal point."""

    def by(pattern: str, *, comma: bool) -> Callable[[str], list[str]]:
        return lambda line: [f.replace(",", ".") if comma else f for f in re.split(pattern, line.strip(" \t;,")) if f.strip()]

    if all(";" in line for line in lines):
        return by(r"\s*;\s*", comma=True)
    spaced = rf"{_NUMBER}(\s+{_NUMBER})+"
    if all(re.match(spaced + r"\s*$", line) for line in lines):
        return by(r"\s+", comma=not any("." in line for line in lines))
    if all("\t" in line for line in lines):
        return by(r"\s*\t\s*", comma=not any("." in line for line in lines))
    return by(r"\s*,\s*|\s+", comma=False)


def _curves(table: Samples, heads: str, name: str) -> tuple[Curve, Curve | None]:
    order = np.argsort(table[:, 0], kind="stable")
    table = table[order]
    x = table[:, 0] * (1000 if re.search(r"\bkhz\b", heads) else 1)
    x, first = np.unique(x, return_index=True)
    table = table[first]
    if not np.isfinite(table).all() or x.size < _LEAST_POINTS:
        raise UnusableInputError(f"{name} contains invalid values or only one frequency. Nothing was read.")
    if x[0] <= 0:
        keep = x > 0
        x, table = x[keep], table[keep]
    if x.size < _LEAST_POINTS:
        raise UnusableInputError(f"{name}: frequencies must be greater than 0. Nothing was read.")
    unit = "dB SPL" if "spl" in heads else "dBV" if "dbv" in heads else "dB"
    level = Curve("level", 1, x, table[:, 1], "Hz", unit, None, {"imported": name})
    if table.shape[1] < 3:
        return level, None
    degrees = np.degrees(table[:, 2]) if re.search(r"\brad", heads) else table[:, 2]
    return level, Curve("phase", 1, x, degrees, "Hz", "°", None, {"imported": name})
