"""Passes as files for other systems, written whole or not at all."""

import csv
import json
import zipfile
from datetime import UTC, datetime
from xml.etree import ElementTree

import pytest

from epidote.core.errors import EpidoteError
from epidote.study.interchange import pass_files
from epidote.study.models import StudyError
from epidote.study.passes import RoutinePass

WHEN = datetime(2026, 11, 29, 10, 0, tzinfo=UTC)
GAIN = {
    "number": 1,
    "title": "Gain",
    "procedure": "tone",
    "verdict": "passed",
    "margin": 1.5,
    "unit": "dB",
    "where": "THD, channel 1",
    "value": -61.5,
    "answer": "",
    "words": "",
    "runs": [3, 4],
    "seconds": 0.5,
}
LAMP = {
    **GAIN,
    "number": 2,
    "title": "=Lamp, lit?",
    "procedure": "",
    "verdict": "failed",
    "margin": None,
    "answer": "no",
}


def one(verdict="failed", steps=(GAIN, LAMP), words="", serial="H20-001"):
    return RoutinePass("Post check", "d", 2, serial, WHEN, WHEN, verdict, "Kay", "early", "1.0", words, steps)


BROKEN_OFF = one("not measured", (), "Channel 1: no signal received.", "H20-002")


def rows_of(path):
    with path.open(newline="") as lines:
        return list(csv.DictReader(lines))


def test_one_line_for_each_unit_and_step(tmp_path):
    path = tmp_path / "p.csv"
    pass_files.append_csv(path, one())
    pass_files.append_csv(path, BROKEN_OFF)
    rows = rows_of(path)
    assert [(r["serial"], r["number"], r["verdict"], r["unit_verdict"]) for r in rows] == [
        *(("H20-001", "1", "passed", "failed"), ("H20-001", "2", "failed", "failed")),
        ("H20-002", "", "not measured", "not measured"),
    ]
    assert rows[0]["runs"] == "3 4"
    assert rows[0]["margin"] == "1.5"
    assert rows[1]["title"] == "'=Lamp, lit?", "no spreadsheet takes it for a formula"
    assert rows[2]["words"] == "Channel 1: no signal received."
    whole = tmp_path / "whole.csv"
    pass_files.write_csv(whole, [one(), BROKEN_OFF])
    assert whole.read_text() == path.read_text()


def test_json_lines_keep_numbers(tmp_path):
    path = tmp_path / "p.jsonl"
    pass_files.append_jsonl(path, one())
    pass_files.append_jsonl(path, BROKEN_OFF)
    lines = [json.loads(line) for line in path.read_text().splitlines()]
    assert [line["margin"] for line in lines] == [1.5, None, None]
    assert lines[0]["begun"] == "2026-11-29T10:00:00+00:00"
    pass_files.write_jsonl(tmp_path / "w.jsonl", [one(), BROKEN_OFF])
    assert (tmp_path / "w.jsonl").read_text() == path.read_text()


def test_another_file_is_left_as_it_is(tmp_path):
    path = tmp_path / "other.csv"
    path.write_text("name,value\n")
    with pytest.raises(StudyError, match="its first line differs"):
        pass_files.append_csv(path, one())
    assert path.read_text() == "name,value\n"


@pytest.mark.parametrize("append", [pass_files.append_csv, pass_files.append_jsonl])
def test_a_full_disk_leaves_no_half_line(tmp_path, monkeypatch, append):
    path = tmp_path / "p"
    append(path, one())
    before = path.read_bytes()
    write = pass_files.os.write
    monkeypatch.setattr(
        pass_files.os, "write", lambda descriptor, content: write(descriptor, content[: len(content) // 2])
    )
    with pytest.raises(EpidoteError, match="p"):
        append(path, one())
    assert path.read_bytes() == before


def test_a_folder_that_is_not_there_is_said(tmp_path):
    for write in (pass_files.append_csv, pass_files.append_jsonl):
        with pytest.raises(EpidoteError):
            write(tmp_path / "none" / "p", one())


def test_junit_has_a_suite_for_each_unit(tmp_path):
    undecided = one("not decided", ({**GAIN, "verdict": "not decided", "margin": 0.1},), serial="H20-003")
    stopped = one("not measured", (GAIN,), "Stopped.", "H20-004")
    pass_files.write_junit(tmp_path / "p.xml", [one(), BROKEN_OFF, undecided, stopped])
    suites = ElementTree.parse(tmp_path / "p.xml").getroot().findall("testsuite")
    counts = [(s.get("tests"), s.get("failures"), s.get("errors")) for s in suites]
    assert counts == [("2", "1", "0"), ("1", "0", "1"), ("1", "1", "0"), ("2", "0", "1")]
    assert suites[0].get("timestamp") == "2026-11-29T10:00:00"
    case = suites[0].findall("testcase")[0]
    assert (case.get("name"), case.get("classname"), case.get("time")) == ("Gain", "H20-001", "0.5")
    assert suites[2].find("testcase/failure").get("type") == "not decided"
    assert suites[1].find("testcase/error").get("message") == "Channel 1: no signal received."
    assert suites[3].findall("testcase")[1].find("error").get("message") == "Stopped."


def test_a_spreadsheet_has_steps_and_units(tmp_path):
    path = tmp_path / "p.xlsx"
    pass_files.write_xlsx(path, [one(), BROKEN_OFF])
    with zipfile.ZipFile(path) as packed:
        book = packed.read("xl/workbook.xml").decode()
        steps = packed.read("xl/worksheets/sheet1.xml").decode()
        texts = packed.read("xl/sharedStrings.xml").decode()
    assert 'name="Steps"' in book
    assert 'name="Units"' in book
    assert steps.count("<row ") == 4
    assert "<v>1.5</v>" in steps, "a number stays a number"
    assert "<f>" not in steps, "no text becomes a formula"
    assert "=Lamp, lit?" in texts
