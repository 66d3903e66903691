"""``routine``, ``stats``, ``batch`` and ``study merge`` as scripts call them."""

import csv
import json
import os
import signal
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
import xmlschema

from epidote.cli.app import run_command
from epidote.study.store import Study
from tests.core.statistics.test_unit_statistics import FLOW, ROSNER
from tests.routine_study import line_study, routine_text

DATA = Path(__file__).resolve().parents[1] / "data"
DEVICE = "standin:dome-line"


@pytest.fixture
def study(tmp_path):
    return line_study(tmp_path / "Line")


@pytest.fixture
def routine(tmp_path):
    path = tmp_path / "post.toml"
    path.write_text(routine_text())
    return path


def ran(capsys, *arguments):
    code = run_command([str(a) for a in arguments])
    out = capsys.readouterr()
    return code, out.out, out.err


def run(capsys, routine, study, serial, *more):
    code, out, err = ran(
        capsys, "routine", "run", routine, "--study", study, "--serial", serial, "--device", DEVICE, "--json", *more
    )
    return code, json.loads(out) if out else None, err


def test_check_tells_steps_and_time(capsys, routine, study):
    code, out, _ = ran(capsys, "routine", "check", routine, "--study", study, "--json")
    told = json.loads(out)
    assert (code, told["name"], told["steps"], told["problems"]) == (0, "Post check", 2, [])
    routine.write_text(routine_text().replace('"tone"', '"nothing"'))
    code, _, err = ran(capsys, "routine", "check", routine)
    assert code == 3
    assert "Step 1: Unknown procedure “nothing”" in err
    routine.write_text("format = 9\nname = 'x'")
    code, _, err = ran(capsys, "routine", "check", routine)
    assert code == 3
    assert "post.toml has format 9" in err


def test_exit_codes_and_files(capsys, routine, study, tmp_path):
    files = ("--junit", tmp_path / "p.xml", "--csv", tmp_path / "p.csv", "--jsonl", tmp_path / "p.jsonl")
    code, told, _ = run(capsys, routine, study, "H20-001", *files, "--xlsx", tmp_path / "p.xlsx", "--operator", "Kay")
    assert (code, told["verdict"], told["operator"]) == (0, "passed", "Kay")
    for step in told["steps"]:
        assert {"procedure", "verdict", "margin", "unit", "where"} <= step.keys()
        assert step["margin"] > 0
    code, told, _ = run(capsys, routine, study, "H20-031", *files)
    assert (code, told["verdict"]) == (5, "failed")
    with (tmp_path / "p.csv").open(newline="") as lines:
        rows = list(csv.DictReader(lines))
    assert [(r["serial"], r["procedure"], r["verdict"]) for r in rows] == [
        *(("H20-001", "tone", "passed"), ("H20-001", "noise", "passed")),
        *(("H20-031", "tone", "failed"), ("H20-031", "noise", "passed")),
    ]
    lines = [json.loads(line) for line in (tmp_path / "p.jsonl").read_text().splitlines()]
    assert [line["serial"] for line in lines] == ["H20-001"] * 2 + ["H20-031"] * 2
    root = ElementTree.parse(tmp_path / "p.xml").getroot()
    assert root.find("testsuite/testcase/failure").get("type") == "failed"
    schema = xmlschema.XMLSchema(DATA / "junit.xsd")
    schema.validate(tmp_path / "p.xml")
    (tmp_path / "other.csv").write_text("name\n1\n")
    code, _, err = run(capsys, routine, study, "H20-002", "--csv", tmp_path / "other.csv")
    assert code == 3
    assert "its first line differs" in err
    assert (tmp_path / "other.csv").read_text() == "name\n1\n"


def test_not_decided_and_not_measured(capsys, routine, study, monkeypatch):
    text = routine_text("guard_bands = true").replace("nominal = -80", "nominal = -80\nuncertainty = 60")
    routine.write_text(text)
    code, told, _ = run(capsys, routine, study, "H20-001")
    assert (code, told["verdict"]) == (6, "not decided")
    from epidote.standins.line_fixture import LineFixture

    monkeypatch.setattr(LineFixture, "process", lambda self, volts, *_: np.zeros_like(volts))
    routine.write_text(routine_text().replace("check_signal = false", ""))
    code, told, _ = run(capsys, routine, study, "H20-002")
    assert (code, told["verdict"]) == (4, "not measured")
    assert "Check that the unit is on" in told["words"]


def test_what_cannot_begin_is_refused_in_words(capsys, routine, study):
    code, _, err = run(capsys, routine, study, "")
    assert (code, "is empty" in err) == (2, True)
    code, _, err = ran(
        capsys, "routine", "run", routine, "--study", study, "--serial", "H20-001", "--device", "standin:none"
    )
    assert (code, "Unknown device" in err) == (2, True)
    code, _, err = run(capsys, "No such routine", study, "H20-001")
    assert (code, "contains no routine “No such routine”" in err) == (2, True)
    code, _, err = run(capsys, routine, study.parent / "none.epidote", "H20-001")
    assert (code, "does not exist" in err) == (3, True)


def test_a_study_in_use_is_waited_for_and_said(capsys, routine, study):
    with Study(study):
        code, _, err = run(capsys, routine, study, "H20-001", "--wait", "0.5")
    assert code == 3
    assert "being written by another process; waiting for it" in err
    assert "still open in another window or process after 0.5 s" in err
    code, told, _ = run(capsys, "Post check", study, "H20-001")
    assert (code, told["verdict"]) == (0, "passed"), "by its name in the study"


def test_sigterm_ends_the_pass_and_keeps_what_had_ended(study, tmp_path):
    long = routine_text() + '\n[[step]]\nwait = "3600 s"\n'
    path = tmp_path / "long.toml"
    path.write_text(long)
    command = [sys.executable, "-m", "epidote", "routine", "run", path, "--study", study, "--serial", "H20-001"]
    process = subprocess.Popen(
        [str(c) for c in (*command, "--device", DEVICE)], stdout=subprocess.PIPE, text=True, env=dict(os.environ)
    )
    assert process.stdout.readline().startswith("1  Gain: passed")
    assert process.stdout.readline().startswith("2  Noise: passed")
    process.send_signal(signal.SIGTERM)
    assert process.wait(60) == 4
    process.stdout.close()
    with Study(study) as opened:
        (kept,) = opened.passes.all()
        assert (kept.verdict, len(kept.steps)) == ("not measured", 2)


def test_from_row_makes_a_routine_that_the_row_passes(capsys, routine, study, tmp_path):
    for number in (1, 2, 3):
        run(capsys, routine, study, f"H20-{number:03d}")
    made, tight = tmp_path / "made.toml", tmp_path / "tolerance.toml"
    code, out, _ = ran(capsys, "routine", "from-row", study, "Ostrel H20 H20-001", made, "--json")
    assert code == 0
    told = json.loads(out)
    assert (told["steps"], told["limits"]) == (2, 4)
    assert run(capsys, made, study, "H20-001")[1]["verdict"] == "passed"
    good = [w for n in (1, 2, 3) for w in ("--good", f"Ostrel H20 H20-{n:03d}")]
    assert ran(capsys, "routine", "from-row", study, "Ostrel H20 H20-001", tight, *good)[0] == 0
    assert "k = " in tight.read_text()
    assert run(capsys, tight, study, "H20-031")[1]["verdict"] == "failed"
    code, _, err = ran(capsys, "routine", "from-row", study, "Ostrel H20 H20-001", made)
    assert (code, "already exists" in err) == (2, True)
    code, _, err = ran(capsys, "routine", "from-row", study, "Baseline", tmp_path / "b.toml")
    assert (code, "Nothing of “Baseline” was measured" in err) == (3, True)


def test_list_and_export(capsys, routine, study, tmp_path):
    run(capsys, routine, study, "H20-001")
    code, out, _ = ran(capsys, "routine", "list", study, "--json")
    assert json.loads(out)[0] == {"name": "Post check", "steps": 2, "units": 1, "first_passed": 1, "last_passed": 1}
    files = [w for kind in ("junit", "csv", "jsonl", "xlsx", "toml") for w in (f"--{kind}", tmp_path / f"e.{kind}")]
    assert ran(capsys, "routine", "export", study, "Post check", *files)[0] == 0
    assert all((tmp_path / f"e.{kind}").stat().st_size for kind in ("junit", "csv", "jsonl", "xlsx", "toml"))
    code, _, err = ran(capsys, "routine", "export", study, "Post check", *files)
    assert (code, "already exists" in err) == (2, True)


def test_stats_of_a_list_of_numbers(capsys, tmp_path):
    """Rosner's data and the flow rates of the NIST/SEMATECH e-Handbook, as in the tests of the core."""
    (tmp_path / "rosner.csv").write_text("value\n" + "\n".join(str(v) for v in ROSNER))
    code, out, _ = ran(capsys, "stats", "values", tmp_path / "rosner.csv", "--json", "--lower", "0", "--upper", "5")
    told = json.loads(out)
    assert code == 0
    assert (told["n"], told["mean"], told["s"]) == (
        *(54, pytest.approx(ROSNER.mean()), pytest.approx(ROSNER.std(ddof=1))),
    )
    assert sorted(o["value"] for o in told["outliers"]) == [5.34, 5.42, 6.01]
    assert told["yield"] == pytest.approx(50 / 54)
    assert told["cpk"] == pytest.approx(min(5 - ROSNER.mean(), ROSNER.mean()) / (3 * ROSNER.std(ddof=1)))
    assert told["drift_per_day"] is None
    (tmp_path / "flow.csv").write_text("\n".join(f"{n};{v}".replace(";", ",") for n, v in enumerate(FLOW)))
    (tmp_path / "flow.csv").write_text("\n".join(str(v) for v in FLOW))
    code, out, _ = ran(capsys, "stats", "values", tmp_path / "flow.csv", "--json")
    assert json.loads(out)["chart"]["upper"] == pytest.approx(55.8041, abs=2e-3)
    for content, words in (("", "holds no numbers"), ("1\nx\n3", "line 2: “x” is not a number"), ("1\nnan", "finite")):
        (tmp_path / "bad.csv").write_text(content)
        code, _, err = ran(capsys, "stats", "values", tmp_path / "bad.csv")
        assert (code, words in err) == (3, True)


def test_stats_of_a_reading_and_of_a_curve(capsys, routine, study):
    for number in (1, 2, 3, 4):
        run(capsys, routine, study, f"H20-{number:03d}")
    code, out, _ = ran(capsys, "stats", study, "tone", "thd", "--against", "level", "--json")
    told = json.loads(out)
    assert (code, told["n"], told["limits"]["upper"], told["limits"]["source"]) == (0, 4, -60.0, "Post check")
    assert (told["cp"], told["yield"]) == (None, 1.0), "with one limit there is no Cp"
    assert told["cpk"] > 0
    assert told["correlation"]["n"] == 4
    with Study(study) as opened:
        values = [r.reading("thd").value for r in opened.overview().runs.values() if r.procedure == "tone"]
    assert told["mean"] == pytest.approx(np.mean(values))
    assert told["s"] == pytest.approx(np.std(values, ddof=1))
    code, out, _ = ran(capsys, "stats", study, "tone", "thd", "--serial", "H20-00[12]", "--json")
    assert json.loads(out)["n"] == 2
    code, out, _ = ran(capsys, "stats", study, "noise", "density", "--curve", "--json")
    bands = json.loads(out)
    assert bands["n"] == 4
    with Study(study) as opened:
        column = opened.queries.columns()[1]
        curves = list(opened.queries.curves_of_column(column.id, "density", 1))
    assert bands["mean"] == pytest.approx(np.mean([c.y for c in curves], axis=0))
    assert bands["s"] == pytest.approx(np.std([c.y for c in curves], axis=0, ddof=1), rel=1e-6, abs=1e-15)
    for arguments, words in (
        (("tone", "nothing"), "has no reading “nothing”"),
        (("nowhere", "thd"), "Unknown column “nowhere”"),
        (("tone", "thd", "--serial", "X*"), "No selected unit"),
        (("tone", "thd", "--since", "someday"), "is not a date"),
    ):
        code, _, err = ran(capsys, "stats", study, *arguments)
        assert (code in (2, 3), words in err) == (True, True)


def test_studies_of_several_benches_are_put_together(capsys, routine, study, tmp_path):
    other, into = line_study(tmp_path / "Other"), line_study(tmp_path / "All")
    run(capsys, routine, study, "H20-001")
    run(capsys, routine, other, "H20-001")
    run(capsys, routine, other, "H20-002")
    with Study(other) as opened:
        unit = opened.units()[0]
        opened.update_unit(type(unit)(unit.id, unit.maker, unit.model, unit.serial, "2.0"))
        opened.entries.attach(_png(), _owner(unit.id), "front", "front.png")
    code, out, _ = ran(capsys, "study", "merge", into, study, other, "--json")
    first, second = json.loads(out)["merged"]
    assert code == 0
    assert (first["units"], first["runs"], first["passes"]) == (1, 2, 1)
    assert (second["units"], second["runs"], second["passes"], second["known"]) == (1, 4, 2, 0)
    assert any("firmware" in words for words in second["conflicts"])
    code, out, _ = ran(capsys, "study", "merge", into, study, other, "--json")
    again = json.loads(out)["merged"]
    assert [(m["units"], m["runs"], m["passes"], m["entries"]) for m in again] == [(0, 0, 0, 0)] * 2
    assert [m["known"] for m in again] == [2, 4]
    with Study(into) as opened:
        assert len(opened.passes.all()) == 3
        assert len(opened.overview().of_kind("picture")) == 1
        for one in opened.overview().runs.values():
            assert opened.recordings(one.id)
            assert opened.curves(one.id)
        source = Study(study)
        theirs = next(iter(source.overview().runs.values()))
        ours = opened.runs_of(2, theirs.column_id)
        assert theirs.readings_json in {r.readings_json for r in ours}
        source.close()
    code, _, err = ran(capsys, "study", "merge", into, into)
    assert (code, "cannot be merged into itself" in err) == (3, True)


def _png() -> bytes:
    from PySide6.QtCore import QBuffer
    from PySide6.QtGui import QImage

    held = QBuffer()
    held.open(QBuffer.OpenModeFlag.WriteOnly)
    image = QImage(4, 4, QImage.Format.Format_RGB32)
    image.fill(0)
    image.save(held, "PNG")
    return bytes(held.data())


def _owner(unit):
    from epidote.study.models import Owner

    return Owner(unit=unit)


def test_two_benches_append_to_one_study(routine, study):
    """Two processes at once: the second waits for the first, and both units are there."""
    command = [sys.executable, "-m", "epidote", "routine", "run", routine, "--study", study, "--device", DEVICE]
    processes = [
        subprocess.Popen([str(c) for c in (*command, "--serial", f"H20-{n:03d}")], stdout=subprocess.DEVNULL)
        for n in (1, 2)
    ]
    assert [p.wait(120) for p in processes] == [0, 0]
    with Study(study) as opened:
        assert sorted(p.serial for p in opened.passes.all()) == ["H20-001", "H20-002"]
