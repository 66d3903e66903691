"""Passes of routines as files for other systems: JUnit XML, CSV, JSON Lines, XLSX; one line per unit and step.

CSV and JSON Lines grow by whole passes, each written at once; the others are written whole under a temporary name.
"""

from __future__ import annotations

import csv
import io
import json
import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from epidote.audio.files.sound_file import disk_error, write_whole
from epidote.core.text import spreadsheet_cell
from epidote.study.models import StudyError
from epidote.study.passes import RoutinePass

FIELDS = (
    *("routine", "serial", "begun", "ended", "operator", "shift", "firmware", "unit_verdict"),
    *("number", "title", "procedure", "verdict", "margin", "unit", "where", "value", "answer", "words", "runs"),
)
_OF_STEP = FIELDS[8:]


def pass_lines(one: RoutinePass) -> list[dict[str, Any]]:
    """Return one line per step; of a pass that ended before its first step one line that says why."""
    common = {
        "routine": one.routine,
        "serial": one.serial,
        "begun": one.begun.isoformat(),
        "ended": one.ended.isoformat(),
        "operator": one.operator,
        "shift": one.shift,
        "firmware": one.firmware,
        "unit_verdict": one.verdict,
    }
    steps = one.steps or ({"verdict": one.verdict, "words": one.words},)
    return [{**common, **{name: step.get(name) for name in _OF_STEP}} for step in steps]


def append_jsonl(path: Path, one: RoutinePass) -> None:
    """Add a pass to a JSON Lines file. Raises DiskError; then nothing of it is in the file."""
    _append(path, _json_lines(one).encode())


def append_csv(path: Path, one: RoutinePass) -> None:
    """Add a pass to a CSV file; a new one begins with a line of names.

    Raises DiskError; StudyError for a file that is another one.
    """
    heading = _csv_text([list(FIELDS)])
    there = b""
    if path.exists():
        with path.open("rb") as file:
            there = file.read(len(heading.encode()))
    if there and there != heading.encode():
        raise StudyError(
            f"{path.name} is another file: its first line differs. Nothing was added; choose another name."
        )
    rows = _csv_text([_cells(line) for line in pass_lines(one)])
    _append(path, (rows if there else heading + rows).encode())


def write_csv(path: Path, passes: Iterable[RoutinePass]) -> None:
    """Write passes as CSV. Raises DiskError."""
    rows = [list(FIELDS), *(_cells(line) for one in passes for line in pass_lines(one))]
    write_whole(path, _csv_text(rows).encode())


def write_jsonl(path: Path, passes: Iterable[RoutinePass]) -> None:
    """Write passes as JSON Lines. Raises DiskError."""
    write_whole(path, "".join(_json_lines(one) for one in passes).encode())


def _json_lines(one: RoutinePass) -> str:
    return "".join(json.dumps(line, ensure_ascii=False) + "\n" for line in pass_lines(one))


def _cells(line: dict[str, Any]) -> list[str]:
    return [spreadsheet_cell(_cell(line[name])) for name in FIELDS]


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, (list, tuple)):
        return " ".join(str(v) for v in value)
    return str(value)


def _csv_text(rows: Iterable[Sequence[str]]) -> str:
    into = io.StringIO()
    csv.writer(into, lineterminator="\n").writerows(rows)
    return into.getvalue()


def _append(path: Path, content: bytes) -> None:
    """Add bytes with one call, and take back what a full disk cut off."""
    try:
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o666)
        try:
            size = os.fstat(descriptor).st_size
            if os.write(descriptor, content) != len(content):
                os.ftruncate(descriptor, size)
                raise OSError(28, "No space left on device")
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    except OSError as error:
        raise disk_error(path.name, path.parent, error) from error


def write_junit(path: Path, passes: Iterable[RoutinePass]) -> None:
    """Write passes as JUnit XML: a suite per unit, a case per step. Raises DiskError."""
    write_whole(path, junit_xml(passes))


def junit_xml(passes: Iterable[RoutinePass]) -> bytes:
    """Return passes as JUnit XML; what is not decided is a failure of that type, what is not measured an error."""
    from junitparser import Error, Failure, JUnitXml, TestCase, TestSuite

    document = JUnitXml()
    for one in passes:
        suite = TestSuite(f"{one.routine} {one.serial}")
        suite.timestamp = one.begun.strftime("%Y-%m-%dT%H:%M:%S")
        for step in one.steps or ({"title": one.routine, "verdict": one.verdict, "words": one.words},):
            case = TestCase(str(step.get("title", "")), one.serial, float(step.get("seconds", 0.0)))
            words = _why(step)
            if step["verdict"] == "not measured":
                case.result = [Error(words, "not measured")]
            elif step["verdict"] != "passed":
                case.result = [Failure(words, str(step["verdict"]))]
            suite.add_testcase(case)
        if one.verdict == "not measured" and one.steps and one.words:
            case = TestCase("Pass", one.serial, 0.0)
            case.result = [Error(one.words, "not measured")]
            suite.add_testcase(case)
        document.add_testsuite(suite)
    return bytes(document.tostring())  # type: ignore[no-untyped-call]


def _why(step: Any) -> str:
    """Return what a step that did not pass says, in one line."""
    margin = step.get("margin")
    parts = [str(step.get("where") or ""), "" if margin is None else f"{margin:.4g} {step.get('unit', '')}".strip()]
    return "; ".join(part for part in (*parts, str(step.get("words") or "")) if part)


def write_xlsx(path: Path, passes: Iterable[RoutinePass]) -> None:
    """Write passes as a spreadsheet: one line per step on the first sheet, one per unit on the second. Raises
    DiskError.
    """
    import xlsxwriter

    into = io.BytesIO()
    with xlsxwriter.Workbook(into, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}) as book:
        bold = book.add_format({"bold": True})
        steps, units = book.add_worksheet("Steps"), book.add_worksheet("Units")
        steps.write_row(0, 0, FIELDS, bold)
        names = (*FIELDS[:8], "words")
        units.write_row(0, 0, names, bold)
        row = 1
        for number, one in enumerate(passes, start=1):
            for line in pass_lines(one):
                steps.write_row(row, 0, [_spreadsheet_value(line[name]) for name in FIELDS])
                row += 1
            whole = {**pass_lines(one)[0], "words": one.words}
            units.write_row(number, 0, [_spreadsheet_value(whole[name]) for name in names])
        for sheet in (steps, units):
            sheet.freeze_panes(1, 0)
    write_whole(path, into.getvalue())


def _spreadsheet_value(value: Any) -> str | float:
    if isinstance(value, (int, float)):
        return value
    return _cell(value)
