"""Comparing from a terminal: what is printed follows from the stand-ins' known character."""

from __future__ import annotations

import json
import shutil

import pytest

from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.measurement.request import add_column
from epidote.study.store import Study
from tests.conftest import measured, small_study

pytestmark = pytest.mark.xdist_group("compare commands")


@pytest.fixture(scope="module")
def measured_rows(tmp_path_factory):
    """Two rows of one amplifier, 12 dB apart, and another; the first is the reference and was measured three times."""
    study = small_study(tmp_path_factory.mktemp("rows"))
    unit = study.units()[0]
    study.add_subject(unit, {"gain": "low", "load": "8 Ω"}, "standin:ostrel-p40")
    study.add_subject(study.add_unit("Havelmar", "A25"), {"load": "8 Ω"}, "standin:havelmar-a25")
    study.set_setting("reference", str(study.overview().subjects[1].id))
    for row in (1, 2, 3):
        for column in (0, 1):
            for seed in range(3 if row == 1 else 1):
                measured(study, row, column, seed)
    study.close()
    return study.path


@pytest.fixture
def two(measured_rows, tmp_path):
    return shutil.copytree(measured_rows, tmp_path / "Rows.epidote")


def test_readings_are_called_different_or_not(two, run):
    code, out, _ = run("compare", "readings", two, "response", "--json")
    told = json.loads(out)
    assert code == 0
    low = next(r for r in told["rows"] if "gain low" in r["subject"])
    gain = next(d for d in low["differences"] if d["key"] == "gain_1k")
    assert (gain["finding"], gain["repeats"]) == ("different", [1, 3])
    assert gain["difference"] == pytest.approx(-12, abs=0.05)
    assert low["unlike"] == [] or not any(u["blocks"] for u in low["unlike"])
    code, out, _ = run("compare", "readings", two, "response", "--against", "Havelmar")
    assert "vs. Havelmar A25" in out


def test_curves_deviate_and_are_aligned(two, run):
    _, out, _ = run(
        "compare", "curves", two, "response", "level", "--align", "1000", "--from", "100", "--to", "5000", "--json"
    )
    rows = {r["subject"]: r for r in json.loads(out)["rows"]}
    low = rows["Ostrel P40, gain low, load 8 Ω"]
    assert low["aligned_by_db"] == pytest.approx(12, abs=0.05)
    assert abs(low["greatest"]) < 0.01
    assert 100 <= low["at"] <= 5000
    assert run("compare", "curves", two, "response", "level")[0] == 0


def test_points_and_conditions(two, run):
    _, out, _ = run("compare", "points", two, "response", "level", "--at", "1 kHz", "--at", "-1 dB", "--json")
    told = json.loads(out)["points"]
    low = next(t for t in told if t["point"] == "1 kHz" and "gain low" in t["subject"])
    assert low["difference"].startswith("-12.0")
    assert {t["point"] for t in told} == {"1 kHz", "-1 dB, low", "-1 dB, high"}
    _, out, _ = run("compare", "conditions", two, "response", "gain_1k", "--unit", "Ostrel", "--json")
    cells = {c["gain"]: c["value"] for c in json.loads(out)["cells"]}
    assert cells["high"] - cells["low"] == pytest.approx(12, abs=0.05)
    assert run("compare", "conditions", two, "response", "gain_1k")[0] == 0
    assert run("compare", "points", two, "response", "level", "--at", "3 W")[0] == 2


def test_points_in_watts_beside_a_baseline_that_has_none(study, run):
    """The wire comes first among the rows, and has no load; 1 W is a point of the others all the same."""
    from epidote.core.procedures.registry import procedure
    from epidote.core.settings import make_settings
    from epidote.measurement.request import add_column

    settings = {"steps": 4, "dwell": 0.1, "start_level": "-40 dBFS", "stop_level": "-20 dBFS"}
    add_column(study, "distortion-level", make_settings(procedure("distortion-level").Settings, settings))
    for row in (0, 1):
        measured(study, row, 2)
    path = study.path
    study.close()
    code, out, _ = run("compare", "points", path, "distortion-level", "thd_n", "--at", "1 W", "--json")
    told = {t["subject"]: t["value"] for t in json.loads(out)["points"]}
    assert code == 0
    assert told["Ostrel P40, gain high, load 8 Ω"] < -60


def test_claims_are_added_and_judged(two, run):
    code, out, _ = run(
        "compare",
        "claims",
        two,
        "--unit",
        "Ostrel",
        "--add",
        "frequency response 20 Hz-20 kHz ±1 dB",
        "--add",
        "SNR 117 dB(A)",
        "--source",
        "leaflet",
        "--json",
    )
    told = {c["text"]: c for c in json.loads(out)["claims"]}
    assert code == 0
    assert told["frequency response 20 Hz-20 kHz ±1 dB"]["verdict"] == "met"
    snr = told["SNR 117 dB(A)"]
    assert (snr["verdict"], snr["measure"]["procedure"], snr["source"]) == ("inconclusive", "noise", "leaflet")
    code, out, _ = run(
        "compare", "claims", two, "--unit", "Havelmar", "--add", "Frequency response 20 Hz-20 kHz ±0.1 dB"
    )
    assert code == 5
    assert "Not met" in out
    code, _, err = run("compare", "claims", two, "--unit", "Ostrel", "--add", "very good", "--add", "Gain 26 dB")
    assert (code, "Nothing was added" in err) == (2, True)
    assert len(json.loads(run("compare", "claims", two, "--json")[1])["claims"]) == 3
    assert {
        c["unit"][:6] for c in json.loads(run("compare", "claims", two, "--unit", "ostrel", "--json")[1])["claims"]
    } == {"Ostrel"}
    code, _, err = run("compare", "claims", two, "--unit", "Nobody")
    assert code == 2
    assert "No unit name starts with “Nobody”. Units: " in err


def test_limits_about_a_row(two, run):
    code, out, _ = run(
        "compare", "limits", two, "--around", "Ostrel P40, gain high", "--db", "1", "--name", "like the front", "--json"
    )
    held = {(h["subject"].split(",")[1], h["channel"]): h for h in json.loads(out)["held"]}
    assert code == 5
    assert held[" gain high", 1]["passed"]
    assert held[" gain low", 1]["margin"] == pytest.approx(1 - 12, abs=0.1)
    assert run("compare", "limits", two, "--good", "Ostrel P40, gain high")[0] == 3


def test_studies_and_curves_travel_as_files(two, run, tmp_path):
    first = Study(two)
    runs = {k: r.id for k, r in first.overview().runs.items()}
    first.close()
    assert run("study", "zip", two, tmp_path / "s.zip")[0] == 0
    assert run("study", "unzip", tmp_path / "s.zip", tmp_path / "elsewhere")[0] == 0
    assert (tmp_path / "elsewhere" / two.name / "study.sqlite").exists()
    response = next(i for (s, c), i in runs.items() if c == 2)
    assert run("study", "curve-out", two, response, tmp_path / "c.txt")[0] == 0
    assert run("study", "curve-in", two, tmp_path / "c.txt", "--subject", "Havelmar")[0] == 0
    back = Study(two)
    newest = max(back.overview().runs.values(), key=lambda r: r.id)
    level = back.curves(newest.id, ["level"])[0]
    assert level.y == pytest.approx(back.curves(response, ["level"])[0].y, abs=1e-7)
    assert newest.device == "imported curve: c.txt"
    back.close()
    assert json.loads(run("study", "json", two)[1])["title"] == "Small"


def test_nothing_to_compare_is_said(study, run):
    path = study.path
    study.close()
    for command in (("readings", "response"), ("curves", "response", "level"), ("conditions", "response", "gain_1k")):
        code, _, err = run("compare", command[0], path, *command[1:])
        assert (code, "contains no run" in err) == (2, True)


def test_measured_several_times_in_one_command(study, run):
    path = study.path
    study.close()
    code, out, _ = run(
        "measure",
        "tone",
        "--study",
        path,
        "--subject",
        "Ostrel",
        "--times",
        3,
        "--seed",
        1,
        "--set",
        "duration=0.2",
        "--set",
        "level=-20",
        "--full-level",
        "--json",
    )
    found = [next(r["value"] for r in one["readings"] if r["key"] == "thd_n") for one in json.loads(out)["runs"]]
    assert (code, len(set(found))) == (0, 3)  # noise differs from run to run


def test_a_column_is_named_where_a_procedure_has_several(two, run):
    """By number or title; the setting in which columns differ stands in their titles."""
    with Study(two) as study:
        add_column(study, "tone", make_settings(procedure("tone").Settings, {"duration": 0.2, "level": -30}))
        titles = [c.title for c in study.overview().columns if c.procedure == "tone"]
    assert titles[-1].startswith("Single tone, ") and "-30 dBFS" in titles[-1] and len(set(titles)) == len(titles)
    code, _, err = run("compare", "readings", two, "tone")
    assert code == 2 and "Several columns fit “tone”" in err and all(title in err for title in titles)
    code, _, err = run("compare", "readings", two, "nothing")
    assert code == 2 and "Unknown column “nothing”. Available: " in err and all(title in err for title in titles)
    by_title = json.loads(run("compare", "readings", two, titles[0], "--json")[1])
    by_number = json.loads(run("compare", "readings", two, str(by_title["column"]), "--json")[1])
    assert by_title == by_number and by_title["title"] == titles[0]
